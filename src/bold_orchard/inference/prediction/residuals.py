"""Residuals of the rows."""

from __future__ import annotations

from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.estimation.arrays import row_order
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.model import UnitEffects
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.response_scale import outcome_mean

Array = NDArray[Any]


@dataclass(frozen=True)
class Residuals:
    """Per row used, each (n,): fitted values with and without the units' effects, and what remains.

    ``standardised`` is divided by each row's own SD; ``white`` has the correlation inside units taken out as well.
    """

    fitted: Array
    average: Array
    conditional: Array
    marginal: Array
    standardised: Array
    white: Array


def residuals(fit: Fit, units: list[UnitEffects] | None = None, seed: int = 0) -> Residuals:
    """Conditional (y - X b - Z u), marginal (y - X b) and standardised conditional residuals.

    Of an outcome that is not gaussian on its own scale (proportions for trials), standardised ones as randomised quantile
    residuals (Dunn & Smyth 1996): normal where the model holds, whatever the family.
    """
    return _residuals(
        fit.model, fit.model.linear_predictor(units), fit.model.average_part() + fit.model.curve_part(), fit, seed
    )


def fitted_values(fit: Fit) -> tuple[Array, Array]:
    """The mean of the outcome in every row used, with the units' effects and without, (n,) each."""
    eta, average = fit.model.linear_predictor(), fit.model.average_part() + fit.model.curve_part()
    if fit.design.predictors:
        return _row_means(fit, eta, average)
    return (eta, average) if fit.design.additive else (outcome_mean(fit, eta), outcome_mean(fit, average))


@singledispatch
def _residuals(model: object, eta: Array, average: Array, fit: Fit, seed: int) -> Residuals:
    raise NotImplementedError(type(model).__name__)


@_residuals.register
def _(model: GaussianModel, eta: Array, average: Array, fit: Fit, seed: int) -> Residuals:
    design, y = model.design, model.design.outcome_values
    rest = y - eta
    root = 1.0 if design.weights is None else np.sqrt(design.weights)
    scaled, white = _by_covariance(model, rest * root / np.sqrt(model.evaluation.sigma2))
    return Residuals(eta, average, rest, y - average, scaled, white)


@_residuals.register
def _(model: SpreadModel, eta: Array, average: Array, fit: Fit, seed: int) -> Residuals:
    """Each row's residual over the SD of its own unit."""
    y = model.design.outcome_values
    scaled = (y - eta) / model.residual_sd(model.own_spread())
    return Residuals(eta, average, y - eta, y - average, scaled, scaled)


@_residuals.register
def _(model: GeneralizedModel, eta: Array, average: Array, fit: Fit, seed: int) -> Residuals:
    """Grades have mean grades as fitted values and no plain residual."""
    design, family = model.design, model.family
    lower, upper = family.cdf(design.y, model.family_eta(eta), model.extra)
    u = lower + np.random.default_rng(seed).random(len(lower)) * (upper - lower)
    standardised = special.ndtri(np.clip(u, 1e-15, 1 - 1e-15))
    mean, overall = _row_means(fit, eta, average)
    if design.graded or family.reads == "levels":
        return Residuals(mean, overall, standardised, standardised, standardised, standardised)
    y = design.y if design.trials is None else design.y / design.trials
    return Residuals(mean, overall, y - mean, y - overall, standardised, standardised)


def _row_means(fit: Fit, eta: Array, average: Array) -> tuple[Array, Array]:
    """The mean of the outcome in the rows used, with the units' effects and without; of unordered levels the
    probability of the one that is there."""
    model = fit.model
    if not fit.design.predictors:
        return outcome_mean(fit, eta), outcome_mean(fit, average)
    whole = model.whole or model
    every = [whole.design.folded(v) for v in (whole.linear_predictor(), whole.average_part())]
    if model.family.reads == "levels":
        place = np.asarray(fit.of_table.design.y, dtype=np.intp)[None]
        family: Any = model.family
        one, other = (np.take_along_axis(family.probabilities(e), place, axis=0)[0] for e in every)
    else:
        one, other = (np.asarray(model.family.mean(e, model.extra)) for e in every)
    return one, other


def _by_covariance(model: GaussianModel, rest: Array) -> tuple[Array, Array]:
    """Residuals over sigma, divided by each row's SD, and whitened by the factor of R."""
    e, correlated = model.evaluation, model.criterion.correlated
    if correlated is None:
        return rest, rest
    phi, order = e.theta[e.criterion.phi], row_order(model.design.residual)
    order = np.arange(len(rest)) if order is None else order
    sorted_rest = rest[order]
    scaled, white = np.empty_like(rest), np.empty_like(rest)
    scaled[order] = sorted_rest / correlated.rows.scale(phi)
    white[order] = correlated.rows.whiten(phi, sorted_rest)
    return scaled, white
