"""How large the effect of a term is, beside whether it is there."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit, fit
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.shares import r_squared
from bold_orchard.sentence import tree


def effect_sizes(made: Fit, term: str, test: dict[str, Any]) -> dict[str, Any]:
    """Partial eta and omega squared from F and its df (Cohen 1973; Olejnik & Algina 2003), and the change of the marginal R^2.

    With error df d and n rows: eta2 = q F / (q F + d), omega2 = q (F - 1) / (q (F - 1) + n), as the classical table has them; both None where there is no F. The change is
    between fits without all terms that contain this one: with it and without it.
    """
    eta = omega = None
    f, q, d = test["value"], test["num_df"], test["den_df"]
    if test["statistic"] == "F" and f is not None and d is not None:
        eta, omega = number(q * f / (q * f + d)), number(q * (f - 1.0) / (q * (f - 1.0) + made.design.n_rows))
    return {"eta_squared_partial": eta, "omega_squared_partial": omega, "r2_marginal_change": _change(made, term)}


def _change(made: Fit, term: str) -> float | None:
    own = next(t for t in made.design.fixed.terms if str(t) == term)
    above = {str(t) for t in made.design.fixed.terms if own.key < t.key}
    with_it = _marginal(made, above) if above else r_squared(made)["marginal"]
    without = _marginal(made, above | {term})
    return None if with_it is None or without is None else number(with_it - without)


def _marginal(made: Fit, left_out: set[str]) -> float | None:
    """Marginal R^2 of the model without some terms, on the same rows."""
    sentence = made.design.sentence
    terms = tuple(t for t in sentence.terms if str(t) not in left_out)
    smaller: tree.Sentence = replace(sentence, terms=terms, notes=())
    try:
        found = fit(smaller, made.design.table, made.settings, made.name)
    except OrchardError:
        return None
    return r_squared(found)["marginal"] if found.converged else None
