"""Of grades: does each term act alike at every boundary between grades?"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.diagnostics.findings import Finding, equals
from bold_orchard.families.ordinal import CURVES, Ordinal
from bold_orchard.inference.distributions import p_of_chisq
from bold_orchard.inference.fit import Fit

Array = NDArray[Any]
SUSPECT = 0.01  # p below which a check speaks, as for all
LOST = 1e-9  # part of a column's information that must remain beside the others for it to be tested


def proportional_odds(fit: Fit) -> list[dict[str, Any]]:
    """For each term of the fixed part the score test of a coefficient of its own at every boundary (J - 2 df a column).

    The alternative is P(Y <= j) = F(threshold_j - eta - x c_j); thresholds, all coefficients and the c_j are scored together at
    the fit, the units' predicted effects taken as they are (Peterson & Harrell 1990, Applied Statistics 39, 205-217, for models
    without units). ``boundaries`` has each column's coefficient after one Newton step. Empty for two grades.
    """
    family, part = fit.model.family, fit.design.fixed
    if not isinstance(family, Ordinal) or family.grades < 3 or not part.values:
        return []
    kept = list(fit.criterion.products.standard.kept)
    x = np.column_stack([part.values[k] - part.values[k].mean() for k in kept])
    scale = np.maximum(np.abs(x).max(axis=0), 1e-300)
    slope, information = _cuts(family, fit.model.linear_predictor(), fit.model.extra)
    cuts, rows = slope.shape[1], np.column_stack([np.ones(len(x)), -x / scale])
    p = rows.shape[1]
    score = np.einsum("ij,ik->jk", slope, rows).ravel()
    whole = np.einsum("ijl,ik,im->jklm", information, rows, rows, optimize=True).reshape(cuts * p, cuts * p)
    b = np.asarray(fit.evaluation.b)
    made = []
    for t, term in enumerate(part.terms):
        columns = [i for i, k in enumerate(kept) if part.owner[k] == t]
        if columns:
            made.append({"term": str(term)} | _tested(fit, columns, score, whole, cuts, p, scale, b))
    return made


def _tested(
    fit: Fit, columns: list[int], score: Array, whole: Array, cuts: int, p: int, scale: Array, b: Array
) -> dict[str, Any]:
    """Score test of the columns' own coefficients at all boundaries but the first, beside everything common."""
    place = np.arange(cuts * p).reshape(cuts, p)
    basis = np.zeros((cuts * p, cuts + (p - 1) + (cuts - 1) * len(columns)))
    basis[place[:, 0], np.arange(cuts)] = 1.0
    for k in range(1, p):
        basis[place[:, k], cuts + k - 1] = 1.0
    first = cuts + p - 1
    own = [(j, c) for j in range(1, cuts) for c in columns]
    for i, (j, c) in enumerate(own):
        basis[place[j, c + 1], first + i] = 1.0
    m, s = basis.T @ whole @ basis, basis.T @ score
    inner, cross = m[:first, :first], m[:first, first:]
    left = m[first:, first:] - cross.T @ np.linalg.lstsq(inner, cross, rcond=None)[0]
    rest = s[first:] - cross.T @ np.linalg.lstsq(inner, s[:first], rcond=None)[0]
    told = np.diag(left) > LOST * np.maximum(np.diag(m)[first:], 1e-300)
    if not told.all():
        return {"chisq": None, "df": len(own), "p": None, "boundaries": []}
    chisq = float(rest @ np.linalg.lstsq(left, rest, rcond=None)[0])
    step = basis @ np.linalg.lstsq(m, s, rcond=None)[0]
    return {"chisq": chisq, "df": len(own), "p": p_of_chisq(chisq, len(own)),
            "boundaries": _coefficients(fit, columns, step, place, scale, b)}  # fmt: skip


def _coefficients(
    fit: Fit, columns: list[int], step: Array, place: Array, scale: Array, b: Array
) -> list[dict[str, Any]]:
    part, kept = fit.design.fixed, fit.criterion.products.standard.kept
    levels = fit.design.levels
    return [
        {"term": part.names[kept[c]], "boundary": f"{levels[j]}|{levels[j + 1]}",
         "estimate": float(b[c] + step[place[j, c + 1]] / scale[c])}
        for c in columns for j in range(len(place))
    ]  # fmt: skip


def _cuts(family: Ordinal, eta: Array, extra: Array) -> tuple[Array, Array]:
    """Slopes of each row's l in every threshold, (n, J - 1), and their expected products, (n, J - 1, J - 1)."""
    cuts = family.thresholds(extra)
    density = CURVES[family.link][1](cuts - eta[:, None])[0]
    chance = np.maximum(family.probabilities(eta, extra), 1e-300)
    n, m = density.shape
    weight = np.broadcast_to(family.weights, n)
    slope, at = np.zeros((n, m + 2)), np.arange(n)
    padded = np.concatenate([np.zeros((n, 1)), density, np.zeros((n, 1))], axis=1)
    own = chance[at, family.code]
    slope[at, family.code + 1] += padded[at, family.code + 1] / own
    slope[at, family.code] -= padded[at, family.code] / own
    information = np.zeros((n, m, m))
    for j in range(m):
        information[:, j, j] = weight * density[:, j] ** 2 * (1.0 / chance[:, j] + 1.0 / chance[:, j + 1])
        if j + 1 < m:
            both = -weight * density[:, j] * density[:, j + 1] / chance[:, j + 1]
            information[:, j, j + 1] = information[:, j + 1, j] = both
    return weight[:, None] * slope[:, 1:-1], information


def proportional_findings(made: list[dict[str, Any]], outcome: str) -> list[Finding]:
    """What the tests say, and what to try."""
    if not made:
        return []
    level = SUSPECT / len(made)
    unequal = [m for m in made if m["p"] is not None and m["p"] < level]
    if not unequal:
        return [Finding("proportional odds", "rows", False, "every term acts alike at every boundary between grades")]
    out = []
    for m in unequal:
        told = "; ".join(f"{b['estimate']:+.2g} at {b['boundary']}" for b in m["boundaries"][:6])
        words = f"{m['term']} does not act alike at every boundary between grades ({told}; p {equals(m['p'])}), so its one coefficient is an average"
        advice = f"ask boundary by boundary: a 0/1 column for {outcome} above each grade, and --family binomial"
        out.append(Finding("proportional odds", m["term"], True, words, advice))
    return out
