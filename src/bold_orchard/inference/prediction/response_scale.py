"""From the scale of the linear predictor to that of the outcome: for one unit, and averaged over units.

Of grades the outcome's scale is the chance of each grade, and the mean grade counted 1, 2, ... from the lowest.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.families.ordinal import CURVES
from bold_orchard.inference.coefficients.maximum_likelihood import thresholds
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.averages import mean_effect_variance

Array = NDArray[Any]
NODES = 41  # of a mean over units: a mean chance is then exact to 1e-8 at an SD of 2, to 3e-6 at 3, to 2e-4 at 5


def outcome_mean(fit: Fit, eta: Array) -> Array:
    """The mean of the outcome at a linear predictor; of grades the mean grade."""
    if fit.design.graded:
        return mean_grade(np.stack(list(grade_chances(fit, eta).values()), axis=-1))
    return np.asarray(fit.model.family.mean(eta, fit.model.extra))


def outcome_slope(fit: Fit, eta: Array) -> Array:
    """Derivative of ``outcome_mean``."""
    if fit.design.graded:
        cuts = _thresholds(fit)
        return np.asarray(CURVES[fit.design.link][1](cuts - np.asarray(eta)[..., None])[0].sum(axis=-1))
    return np.asarray(fit.model.family.mean_slope(eta, fit.model.extra))


def grade_chances(fit: Fit, eta: Array) -> dict[str, Array]:
    """P(grade) at each linear predictor, thresholds and eta on the user's scale."""
    return dict(zip(fit.design.levels, np.moveaxis(grades_at(fit, _thresholds(fit), eta), -1, 0)))


def _thresholds(fit: Fit) -> Array:
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
    return sum(mean_effect_variance(fit.model, clause) for clause in fit.design.clauses)


def latent(fit: Fit, known: Any, row: Array, constant: float) -> tuple[float, float]:
    """The linear predictor and its standard error; of grades less the mean of the thresholds, since its own origin is free."""
    mean = float(row @ known.e.b) + constant
    if not fit.design.graded:
        return mean, known.se(row)
    cuts, joint = thresholds(known)
    whole = np.concatenate([np.full(len(cuts), -1.0 / len(cuts)), row])
    return mean - float(cuts.mean()), float(np.sqrt(max(float(whole @ joint @ whole), 0.0)))


def outcome_scale(
    fit: Fit, known: CoefficientInference, row: Array, constant: float, confidence: float
) -> dict[str, Any]:
    """``outcome`` and its interval for an average unit, ``population`` averaged over units; of grades ``chances`` too."""
    eta = np.array(float(row @ known.e.b) + constant)
    if fit.design.graded:
        return _grades_scale(fit, known, row, eta, confidence)
    se = known.se(row)
    width = quantile_t(confidence, known.df(row[None, :])) * se
    mean, low, high = (float(outcome_mean(fit, v)) for v in (eta, eta - width, eta + width))
    average = float(population_mean(lambda at: outcome_mean(fit, at), eta, random_variance(fit)))
    low, high = min(low, high), max(low, high)
    return {"outcome": number(mean), "outcome_se": number(abs(float(outcome_slope(fit, eta))) * se),
            "outcome_ci": [number(low), number(high)], "population": number(average)}  # fmt: skip


def _grades_scale(fit: Fit, known: CoefficientInference, row: Array, eta: Array, confidence: float) -> dict[str, Any]:
    """Chances and mean grade; errors by the delta method from thresholds and coefficients together."""
    values, slopes, joint = _grade_moments(fit, known, row, eta)
    z = quantile_t(confidence, None)
    grades = len(fit.design.levels)
    errors = np.sqrt(np.maximum(np.einsum("gi,ij,gj->g", slopes, joint, slopes), 0.0))
    average = population_mean(
        lambda at: grades_at(fit, _thresholds(fit), at).swapaxes(-1, -2), eta, random_variance(fit)
    )
    chances = []
    for g, level in enumerate(fit.design.levels):
        low, high = _logit_ends(values[g], errors[g], z, 0.0, 1.0)
        chances.append({"grade": level, "chance": number(values[g]), "se": number(errors[g]), "ci": [low, high],
                        "population": number(average[g])})  # fmt: skip
    low, high = _logit_ends(values[-1], errors[-1], z, 1.0, float(grades))
    return {"chances": chances, "outcome": number(values[-1]), "outcome_se": number(errors[-1]), "outcome_ci": [low, high],
            "population": number(float(mean_grade(average)))}  # fmt: skip


def _grade_moments(fit: Fit, known: Any, row: Array, eta: Array) -> tuple[Array, Array, Array]:
    """Chances and mean grade (grades + 1,), their slopes in (thresholds, b), and the covariance of these."""
    cuts, joint = thresholds(known)
    chances = grades_at(fit, cuts, eta)
    density = CURVES[fit.design.link][1](cuts - eta)[0]
    m, grades = len(cuts), len(chances)
    slopes = np.zeros((grades + 1, m + len(row)))
    for j in range(m):
        slopes[j, j] += density[j]
        slopes[j + 1, j] -= density[j]
    slopes[:grades, m:] = -np.outer(slopes[:grades, :m].sum(axis=1), row)
    slopes[grades] = np.arange(1.0, grades + 1.0) @ slopes[:grades]
    return np.append(chances, mean_grade(chances)), slopes, joint


def _logit_ends(value: float, se: float, z: float, low: float, high: float) -> tuple[float | None, float | None]:
    """An interval that stays between ``low`` and ``high``: symmetric on the logit of the place between them."""
    share = (value - low) / (high - low)
    if not 0.0 < share < 1.0:
        return number(value), number(value)
    step = z * se / ((high - low) * share * (1.0 - share))
    ends = (low + (high - low) / (1.0 + np.exp(-np.log(share / (1.0 - share)) - side * step)) for side in (-1.0, 1.0))
    first, second = (number(e) for e in ends)
    return first, second


def outcome_difference(
    fit: Fit, known: CoefficientInference, rows: tuple[Array, Array], constants: tuple[float, float], confidence: float
) -> dict[str, Any]:
    """The difference of two means on the outcome's scale for an average unit, its error by the delta method."""
    etas = [np.array(float(r @ known.e.b) + c) for r, c in zip(rows, constants)]
    if fit.design.graded:
        (one, slope_one, joint), (two, slope_two, _) = (_grade_moments(fit, known, r, e) for r, e in zip(rows, etas))
        difference, slope = float(one[-1] - two[-1]), slope_one[-1] - slope_two[-1]
        se = float(np.sqrt(max(float(slope @ joint @ slope), 0.0)))
    else:
        difference = float(outcome_mean(fit, etas[0]) - outcome_mean(fit, etas[1]))
        turn = [float(outcome_slope(fit, e)) * r for r, e in zip(rows, etas)]
        se = known.se(turn[0] - turn[1])
    width = quantile_t(confidence, None) * se
    return {"outcome_difference": number(difference), "outcome_se": number(se),
            "outcome_ci": [number(difference - width), number(difference + width)]}  # fmt: skip


def average_effects(fit: Fit) -> list[dict[str, Any]]:
    """Per column of X but the intercept: the average change of the outcome's mean, unit-specific and population-averaged.

    A two-valued column is switched from its low to its high value in every row; of others the slope is averaged. The
    unit-specific figure keeps each row at its unit's average (effect zero), the other integrates over units.
    """
    design, e = fit.design, fit.evaluation
    if design.graded:
        return []
    kept, variance = e.criterion.products.standard.kept, random_variance(fit)
    x = np.column_stack([design.fixed.values[k] for k in kept])
    eta = x @ e.b + (0.0 if design.offset is None else design.offset)
    out = []
    for place, column in enumerate(kept):
        name = design.fixed.names[column]
        if name == "intercept":
            continue
        values = np.unique(x[:, place])
        if len(values) == 2:
            ends, span = [eta + e.b[place] * (v - x[:, place]) for v in values], 1.0
        else:
            h = 1e-4 * float(x[:, place].std())
            ends, span = [eta - h * e.b[place], eta + h * e.b[place]], 2.0 * h
        own = float(np.mean(outcome_mean(fit, ends[1]) - outcome_mean(fit, ends[0]))) / span
        low, high = (population_mean(lambda at: outcome_mean(fit, at), v, variance) for v in ends)
        out.append(
            {"term": name, "unit_specific": number(own), "population": number(float(np.mean(high - low)) / span)}
        )
    return out
