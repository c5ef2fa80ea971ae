"""Means on the outcome's scale with their errors: for an average unit, and averaged over units."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.families.ordinal import CURVES
from bold_orchard.inference.coefficients.curves import CurveInference, joint_with_curves
from bold_orchard.inference.coefficients.maximum_likelihood import thresholds
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.outcome_errors import OutcomeErrors, between
from bold_orchard.inference.prediction.response_scale import (
    cuts_of,
    grades_at,
    mean_grade,
    outcome_mean,
    population_mean,
)
from bold_orchard.inference.summary import number

Array = NDArray[Any]


def latent(fit: Fit, known: Any, row: Array, constant: float) -> tuple[float, float]:
    """The linear predictor and its standard error; of grades less the mean of the thresholds, since its own origin is free."""
    mean = float(row @ known.b) + constant
    if not fit.design.graded:
        return mean, known.se(row)
    cuts, joint = _thresholds(known)
    whole = np.concatenate([np.full(len(cuts), -1.0 / len(cuts)), row])
    return mean - float(cuts.mean()), float(np.sqrt(max(float(whole @ joint @ whole), 0.0)))


def _thresholds(known: Any) -> tuple[Array, Array]:
    """Thresholds, and the covariance of these with the coefficients, of curves too."""
    plain: Any = known.known if isinstance(known, CurveInference) else known
    cuts, joint = thresholds(plain)
    return cuts, joint_with_curves(joint, known)


def outcome_scale(
    fit: Fit, known: Any, row: Array, constant: float, confidence: float, variance: float
) -> dict[str, Any]:
    """``outcome`` and its interval for an average unit, ``population`` averaged over units, of whose effects eta has a ``variance``; of
    grades ``chances`` too.
    """
    eta = np.array(float(row @ known.b) + constant)
    if fit.design.graded:
        return _grades_scale(fit, known, row, eta, confidence, variance)
    mean, se, low, high = (float(v[0]) for v in OutcomeErrors(fit).interval(eta[None], row[None], confidence))
    average = float(population_mean(lambda at: outcome_mean(fit, at), eta, variance))
    return {
        "outcome": number(mean),
        "outcome_se": number(se),
        "outcome_ci": [number(low), number(high)],
        "population": number(average),
    }


def _grades_scale(fit: Fit, known: Any, row: Array, eta: Array, confidence: float, variance: float) -> dict[str, Any]:
    """Chances and mean grade; errors by the delta method from thresholds and coefficients together."""
    values, slopes, joint = _grade_moments(fit, known, row, eta)
    z = quantile_t(confidence, None)
    grades = len(fit.design.levels)
    errors = np.sqrt(np.maximum(np.einsum("gi,ij,gj->g", slopes, joint, slopes), 0.0))
    average = population_mean(lambda at: grades_at(fit, cuts_of(fit), at).swapaxes(-1, -2), eta, variance)
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
    cuts, joint = _thresholds(known)
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
    first, second = (number(float(e[0])) for e in between(np.array([value]), np.array([se]), z, low, high))
    return first, second


def outcome_difference(
    fit: Fit, known: Any, rows: tuple[Array, Array], constants: tuple[float, float], confidence: float
) -> dict[str, Any]:
    """The difference of two means on the outcome's scale for an average unit, its error by the delta method over all parameters."""
    errors, eta = OutcomeErrors(fit), np.array([float(r @ known.b) + c for r, c in zip(rows, constants)])
    mean, slopes = outcome_mean(fit, eta), errors.gradient(eta, np.array(rows))
    difference, slope = float(mean[0] - mean[1]), slopes[0] - slopes[1]
    joint = joint_with_curves(errors.covariance(), known)
    se = float(np.sqrt(max(float(slope @ joint @ slope), 0.0)))
    width = quantile_t(confidence, None) * se
    return {"outcome_difference": number(difference), "outcome_se": number(se),
            "outcome_ci": [number(difference - width), number(difference + width)]}  # fmt: skip
