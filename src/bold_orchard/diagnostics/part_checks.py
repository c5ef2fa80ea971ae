"""Whether what is one number in a model, the probability of zeros or the spread, depends on a term of its fixed part.

Score tests (Rao 1948) at the fit: of the indicator of a zero less its probability, and of squared quantile residuals
less 1, along each term.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.diagnostics.findings import Finding, equals
from bold_orchard.inference.distributions import p_of_chisq
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.edit import with_part
from bold_orchard.sentence.tree import Term

Array = NDArray[Any]
SURE = 0.001  # p below which a part is proposed: every term is looked at
OWN = 1e-9  # of a column that is its own


def part_checks(fit: Fit, standardised: Array) -> list[dict[str, Any]]:
    """For each part that the family could have a predictor of, and each term that it has not: ``part``, ``term``,
    ``statistic``, ``df``, ``p``."""
    design = fit.design
    out: list[dict[str, Any]] = []
    if design.additive:
        return out
    whole = fit.model.design if fit.model.whole is None else fit.model.whole.design
    for part in design.plain_kind.parts:
        there = {t.alone.key for t in whole.fixed.terms if t.outcome == part.name}
        residual, variance = (
            _zeros(fit) if part.name == "zeros" else (standardised**2 - 1.0, np.full(len(standardised), 2.0))
        )
        for term, columns in _terms(fit):
            if term.key not in there:
                out.append({"part": part.name, "term": str(term)} | _score(columns, residual, variance))
    return out


def _zeros(fit: Fit) -> tuple[Array, Array]:
    """The indicator of a zero less its probability, and that's variance, (n,) each."""
    eta = fit.model.family_eta(fit.model.linear_predictor())
    p = np.asarray(fit.model.family.cdf(np.zeros(len(fit.design.y)), eta, fit.model.extra)[1])
    return (fit.design.y == 0) - p, p * (1.0 - p)


def _terms(fit: Fit) -> list[tuple[Term, Array]]:
    """Terms of one factor of the mean, and their columns (n, k)."""
    part, found = fit.design.fixed, []
    for index, term in enumerate(part.terms):
        mean = term.outcome in (None, fit.design.predictors[0] if fit.design.predictors else None)
        if mean and len(term.alone.factors) == 1:
            columns = [v for v, o in zip(part.values, part.owner) if o == index]
            found.append((term.alone, np.column_stack(columns)))
    return found


def _score(columns: Array, residual: Array, variance: Array) -> dict[str, Any]:
    """Chi-squared of the residual along columns, the mean taken out by the weights of the rows."""
    weight = variance / max(float(variance.sum()), 1e-300)
    x = columns - weight @ columns
    information = (x * variance[:, None]).T @ x
    score = x.T @ residual
    values, vectors = np.linalg.eigh(information)
    kept = values > OWN * max(float(values.max()), 1e-300)
    df = int(kept.sum())
    if not df or not np.isfinite(score).all():
        return {"statistic": None, "df": df, "p": None}
    statistic = float((((vectors.T @ score)[kept]) ** 2 / values[kept]).sum())
    return {"statistic": statistic, "df": df, "p": p_of_chisq(statistic, df)}


def part_findings(fit: Fit, tests: list[dict[str, Any]]) -> list[Finding]:
    """What the zeros and the spread depend on, with the sentence that says so; one line a part where nothing does."""
    out: list[Finding] = []
    for name in dict.fromkeys(t["part"] for t in tests):
        own = [t for t in tests if t["part"] == name and t["p"] is not None]
        what = "zeros are more frequent in some rows" if name == "zeros" else "the outcome scatters more in some rows"
        found = [t for t in own if t["p"] < SURE]
        for t in found:
            words = f"{what} than in others along {t['term']}, beyond what the model says (chi-squared {t['statistic']:.1f} on {t['df']} df, p {equals(t['p'])})"
            out.append(
                Finding(name, t["term"], True, words, with_part(fit.design.sentence.of_rows, name, t["term"]).source)
            )
        if own and not found:
            out.append(Finding(name, "rows", False, f"{name} along every term"))
    return out
