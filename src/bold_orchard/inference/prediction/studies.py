"""Studies with known errors: what each found itself beside what the model makes of it, and what a new one may find."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_orchard.design.design import Design
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.results.groups import NewUnit, OwnEstimate


def own_estimates(fit: Fit, block: int) -> list[OwnEstimate] | None:
    """Of every level of a unit its row's outcome, the known error, and its part of the weight in the mean; None where levels have several rows.

    Weights are 1 / (the row's variance of effects + SE^2), as shares of their sum.
    """
    design = fit.design
    unit = design.blocks[block].unit
    if not design.known_errors or (unit.counts != 1).any():
        return None
    variances = 1.0 / np.asarray(design.weights)
    total = variances + _effects_variance(fit)
    y, se, share = design.outcome_values, np.sqrt(variances), (1.0 / total) / (1.0 / total).sum()
    row = np.empty(unit.size, dtype=np.intp)
    row[unit.codes] = np.arange(len(y))
    return [OwnEstimate(number(y[i]), number(se[i]), number(share[i])) for i in row]


def new_unit(fit: Fit, confidence: float) -> NewUnit | None:
    """The mean over all studies and the interval of a new one's true value; None where the fixed part has more than an intercept."""
    design: Design = fit.design
    if (
        not design.known_errors
        or design.fixed.names != ("intercept",)
        or any(c.vary is not None for c in design.clauses)
    ):
        return None
    row: Any = np.ones((1, 1))
    mean, se = float(fit.evaluation.b[0]), fit.known.se(row[0])
    width = quantile_t(confidence, fit.known.df(row)) * se
    products = fit.criterion.products
    df = None if fit.settings.df == "normal" else float(products.n - products.p)
    beyond = quantile_t(confidence, df) * float(np.sqrt(se**2 + np.mean(_effects_variance(fit))))
    return NewUnit(
        number(mean), [number(mean - width), number(mean + width)], [number(mean - beyond), number(mean + beyond)]
    )


def _effects_variance(fit: Fit) -> Any:
    """What units' effects add to the variance of every row, (n,)."""
    total = np.zeros(len(fit.design.y))
    for clause in fit.design.clauses:
        z = np.array(clause.part.values)
        g = fit.evaluation.covariance(clause.block)[clause.columns, clause.columns]
        total += np.einsum("an,ab,bn->n", z, g, z)
    return total
