"""Tests of fixed terms: F with chosen denominators, or Wald chi-squared; sequential, partial or marginal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.errors import OrchardError
from bold_orchard.inference.coefficients.contrasts import contrast
from bold_orchard.inference.coefficients.effect_sizes import effect_sizes
from bold_orchard.inference.coefficients.hypotheses import Hypothesis, hypotheses
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.coefficients.strata import Strata
from bold_orchard.inference.distributions import p_of_chisq
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.results.terms import TermsResult

Array = NDArray[Any]
SCHEMA = "bold-orchard/terms/1"


def terms(
    fit: Fit, kind: int = 3, df_method: str | None = None, chisq: bool = False, force: bool = False, ratio: bool = False,
    contrasts: Sequence[str] = (), confidence: float | None = None, sizes: bool = False,
) -> TermsResult:  # fmt: skip
    """The document of ``orchard terms``; ``kind`` is 1 (sequential), 2 (partial) or 3 (marginal).

    With ``ratio`` each hypothesis is tested by the likelihood of the model without it, fitted anew by maximum likelihood. With ``sizes`` effect sizes stand
    beside the tests.

    Raises OrchardError for a fit that did not converge (unless ``force``) and for a model without terms to test.
    """
    if not fit.converged and not force:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so its tests mean nothing; mend it, or --force")
    method = df_method or fit.settings.df
    asked = hypotheses(fit, kind)
    if fit.model.family.reads == "levels":
        asked = _over_levels(fit, asked)
    asked += _joint(fit, asked)
    if not asked:
        raise OrchardError(f"'{fit.name}' has no fixed term beside the intercept, so there is nothing to test")
    known, level = fit.precision(method), fit.level(confidence)
    tests = [_test(fit, known, h, ratio, chisq) for h in asked]
    if fit.design.additive and not ratio:
        strata = Strata(fit)
        tests = [t | {"stratum": strata.of(h.rows)} for t, h in zip(tests, asked)]
    if sizes:
        tests = [t | effect_sizes(fit, t["term"], t) for t in tests]
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "type": kind,
        "df_method": fit.df_name(method),
        "tests": tests,
        "contrasts": [contrast(fit, text, df_method, level) for text in contrasts],
        "confidence": level,
        "by": "likelihood ratio" if ratio else "Wald",
        "notes": [*(f"{h.term}: {h.why}." for h in asked if h.why), *_notes(fit, kind)],
    }
    return TermsResult.from_dict(document)


def _joint(fit: Fit, tested: list[Hypothesis]) -> list[Hypothesis]:
    """Of several outcomes every term of more than one: all of them together."""
    if not fit.design.outcomes:
        return []
    return [_together(f"joint: {term}", own) for term, own in _by_plain_term(fit, tested).items() if len(own) > 1]


def _over_levels(fit: Fit, tested: list[Hypothesis]) -> list[Hypothesis]:
    """Of an unordered outcome every term in all equations together."""
    return [_together(term, own) for term, own in _by_plain_term(fit, tested).items()]


def _by_plain_term(fit: Fit, tested: list[Hypothesis]) -> dict[str, list[Hypothesis]]:
    """Hypotheses by what their terms are without the outcome or level that they are of."""
    plain = {str(t): str(t.alone) for t in fit.design.fixed.terms}
    found: dict[str, list[Hypothesis]] = {}
    for h in tested:
        found.setdefault(plain[h.term], []).append(h)
    return found


def _together(term: str, own: list[Hypothesis]) -> Hypothesis:
    return Hypothesis(term, np.concatenate([h.rows for h in own]), why=next((h.why for h in own if h.why), None))


def _test(fit: Fit, known: CoefficientInference, h: Hypothesis, ratio: bool, chisq: bool) -> dict[str, Any]:
    """One term's test, and those of its parts."""

    def test(rows: Array) -> dict[str, Any]:
        return likelihood_test(fit, rows) if ratio else joint_test(known, rows, chisq)

    parts = [{"term": degree} | test(rows) for degree, rows in h.parts]
    more: dict[str, Any] = ({"why": h.why} if h.why else {}) | ({"parts": parts} if parts else {})
    return {"term": h.term} | test(h.rows) | more


def joint_test(known: CoefficientInference, rows: Array, chisq: bool) -> dict[str, Any]:
    """Test rows @ b = 0, independent rows (q, p'), by F, or by Wald chi-squared."""
    q = len(rows)
    if q == 0:
        return dict.fromkeys(("statistic", "value", "num_df", "den_df", "p"))
    away = rows @ known.b
    wald = float(away @ np.linalg.solve(rows @ known.covariance @ rows.T, away))
    den, scale = (None, 1.0) if chisq else known.test(rows)
    if den is None:
        name, value, p = "chisq", wald, p_of_chisq(wald, q)
    else:
        name, value = "F", scale * wald / q
        p = float(special.fdtrc(q, den, value))
    return {"statistic": name, "value": number(value), "num_df": q, "den_df": den, "p": number(p)}


def likelihood_test(fit: Fit, rows: Array) -> dict[str, Any]:
    """Likelihood-ratio chi-squared of rows @ b = 0: the larger model against X confined to where the hypothesis holds."""
    if not len(rows):
        return dict.fromkeys(("statistic", "value", "num_df", "den_df", "p"))
    space = fit.model.column_space
    free = np.linalg.svd(space.directions(rows))[2][len(rows) :]
    confined = np.linalg.solve(space.to_user, free.T)
    value = max(fit.model.constrained(confined) - fit.model.constrained(np.eye(rows.shape[1])), 0.0)
    return {"statistic": "chisq", "value": number(value), "num_df": len(rows), "den_df": None,
            "p": number(p_of_chisq(value, len(rows)))}  # fmt: skip


def _notes(fit: Fit, kind: int) -> list[str]:
    products = any(len(t.factors) > 1 for t in fit.design.fixed.terms)
    notes = []
    if kind == 3 and products:
        notes.append(
            "Type 3 tests a main effect averaged over the levels it interacts with (and at zero of covariates); where a "
            "product matters, look at orchard means before you speak of main effects."
        )
    if kind == 1:
        notes.append("Type 1 tests depend on the order of the terms in the sentence.")
    return notes
