"""From the scale of the linear predictor to that of the outcome: for one unit, and averaged over units.

Of grades the outcome's scale is the chance of each grade, and the mean grade counted 1, 2, ... from the lowest.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.families.ordinal import CURVES
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.variances.averages import mean_effect_variance

Array = NDArray[Any]
NODES = 41  # of a mean over units: a mean chance is then exact to 1e-8 at an SD of 2, to 3e-6 at 3, to 2e-4 at 5


def outcome_mean(fit: Fit, eta: Array) -> Array:
    """The mean of the outcome at a linear predictor; of grades the mean grade."""
    if fit.design.graded:
        return mean_grade(np.stack(list(grade_chances(fit, eta).values()), axis=-1))
    at = fit.design.folded(eta) if fit.design.predictors else eta
    return np.asarray(fit.model.family.mean(at, fit.model.extra))


def outcome_slope(fit: Fit, eta: Array) -> Array:
    """Derivative of ``outcome_mean``."""
    if fit.design.graded:
        cuts = cuts_of(fit)
        return np.asarray(CURVES[fit.design.link][1](cuts - np.asarray(eta)[..., None])[0].sum(axis=-1))
    return np.asarray(fit.model.family.mean_slope(eta, fit.model.extra))


def threshold_slopes(fit: Fit, eta: Array) -> Array:
    """Derivative of the mean grade in each threshold, (..., thresholds)."""
    return -np.asarray(CURVES[fit.design.link][1](cuts_of(fit) - np.asarray(eta)[..., None])[0])


def grade_chances(fit: Fit, eta: Array) -> dict[str, Array]:
    """P(grade) at each linear predictor, thresholds and eta on the user's scale."""
    return dict(zip(fit.design.levels, np.moveaxis(grades_at(fit, cuts_of(fit), eta), -1, 0)))


def cuts_of(fit: Fit) -> Array:
    """The thresholds as reported: the search's own belong to centred columns."""
    family: Any = fit.model.family
    shift = sum(b * float(fit.design.fixed.values[k].mean()) for b, k in zip(fit.evaluation.b, fit.model.kept))
    return np.asarray(family.thresholds(fit.model.extra) + shift)


def grades_at(fit: Fit, cuts: Array, eta: Array) -> Array:
    """(..., grades)."""
    below = CURVES[fit.design.link][0](cuts - np.asarray(eta)[..., None])
    edge = np.zeros((*below.shape[:-1], 1))
    return np.diff(np.concatenate([edge, below, edge + 1.0], axis=-1), axis=-1)


def mean_grade(chances: Array) -> Array:
    return np.asarray(chances @ np.arange(1.0, chances.shape[-1] + 1.0))


def population_mean(mean: Any, eta: Array, variance: Array | float) -> Array:
    """E over units of ``mean``, eta + N(0, variance): Gauss-Hermite with 41 nodes."""
    x, w = np.polynomial.hermite_e.hermegauss(NODES)
    sd = np.sqrt(np.asarray(variance, dtype=float))
    made = mean(np.asarray(eta)[..., None] + (sd[..., None] if np.ndim(sd) else sd) * x)
    return np.asarray(made @ (w / w.sum()))


def random_variance(fit: Fit) -> float:
    """Variance of the random part on the linear scale, averaged over the rows."""
    design = fit.design
    return sum(mean_effect_variance(fit.model, c) for c in design.clauses if not design.units[c.unit].curve)
