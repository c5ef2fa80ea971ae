"""Residuals of the rows and predicted effects of the units."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.estimation.gaussian import Fit, row_order
from bold_orchard.families import Data
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


@dataclass(frozen=True)
class UnitEffects:
    """Predicted effects of one clause's terms: ``effects`` and prediction ``se``, each (levels, k)."""

    unit: int
    group: str
    terms: tuple[str, ...]
    levels: list[str]
    effects: Array
    se: Array


def average_part(fit: Fit) -> Array:
    """X b plus the offset, (n,)."""
    design, e = fit.design, fit.evaluation
    out = np.zeros(len(design.y)) if design.offset is None else design.offset.copy()
    for b, column in zip(e.b, e.criterion.products.standard.kept):
        out += b * design.fixed.values[column]
    return out


def unit_effects(fit: Fit) -> list[UnitEffects]:
    """Best linear unbiased predictions per each clause; se is the root of var(u_hat - u), b's error included."""
    design, e = fit.design, fit.evaluation
    made = [e.effects(f) for f in range(len(design.blocks))]
    out = []
    for clause in design.clauses:
        effects, covariance = made[clause.block]
        errors = np.einsum("jaa->ja", covariance)[:, clause.columns]
        unit = design.blocks[clause.block].unit
        out.append(
            UnitEffects(
                clause.block,
                unit.name,
                clause.part.names,
                unit.texts,
                effects[:, clause.columns],
                np.sqrt(np.maximum(errors, 0.0)),
            )  # fmt: skip
        )
    return out


def residuals(fit: Fit, units: list[UnitEffects] | None = None, seed: int = 0) -> Residuals:
    """Conditional (y - X b - Z u), marginal (y - X b) and standardised conditional residuals.

    Of a generalized fit on the outcome's scale (proportions for trials), standardised ones as randomised quantile
    residuals (Dunn & Smyth 1996): normal where the model holds, whatever the family.
    """
    design = fit.design
    average = average_part(fit)
    fitted = average.copy()
    for clause, made in zip(design.clauses, unit_effects(fit) if units is None else units):
        codes = design.blocks[clause.block].unit.codes
        for column, effect in zip(clause.part.values, made.effects.T):
            fitted += column * effect[codes]
    if design.generalized:
        return _quantile(fit, fitted, average, seed)
    y = design.y if design.offset is None else design.y + design.offset
    scale = np.sqrt(fit.evaluation.sigma2)
    rest = y - fitted
    root = 1.0 if design.weights is None else np.sqrt(design.weights)
    standardised = rest * root / scale
    scaled, white = _by_covariance(fit, standardised)
    return Residuals(fitted, average, rest, y - average, scaled, white)


def _by_covariance(fit: Fit, rest: Array) -> tuple[Array, Array]:
    """Residuals over sigma, divided by each row's SD, and whitened by the factor of R."""
    e, correlated = fit.evaluation, fit.criterion.correlated
    if correlated is None:
        return rest, rest
    phi, order = e.theta[e.criterion.phi], row_order(fit.design.residual)
    order = np.arange(len(rest)) if order is None else order
    sorted_rest = rest[order]
    scaled, white = np.empty_like(rest), np.empty_like(rest)
    scaled[order] = sorted_rest / correlated.rows.scale(phi)
    white[order] = correlated.rows.whiten(phi, sorted_rest)
    return scaled, white


def _quantile(fit: Fit, eta: Array, average: Array, seed: int) -> Residuals:
    """Residuals of a generalized fit; grades have mean grades as fitted values and no plain residual."""
    design, family, extra = fit.design, rows_family(fit), family_extra(fit)
    shift = threshold_shift(fit)
    lower, upper = family.cdf(design.y, eta - shift, extra)
    u = lower + np.random.default_rng(seed).random(len(lower)) * (upper - lower)
    standardised = special.ndtri(np.clip(u, 1e-15, 1 - 1e-15))
    mean, overall = outcome_mean(fit, eta), outcome_mean(fit, average)
    if design.family == "ordinal":
        return Residuals(mean, overall, standardised, standardised, standardised, standardised)
    y = design.y if design.trials is None else design.y / design.trials
    return Residuals(mean, overall, y - mean, y - overall, standardised, standardised)


def linear_predictor(fit: Fit) -> Array:
    """X b + Z u + offset at the modes, (n,)."""
    eta = average_part(fit)
    for clause, made in zip(fit.design.clauses, unit_effects(fit)):
        codes = fit.design.blocks[clause.block].unit.codes
        for column, effect in zip(clause.part.values, made.effects.T):
            eta += column * effect[codes]
    return eta


def rows_family(fit: Fit) -> Any:
    """The family over the rows in the design's order."""
    criterion: Any = fit.criterion
    return criterion.family.on(Data(fit.design.y, fit.design.trials, fit.design.weights))


def family_extra(fit: Fit) -> Array:
    point: Any = fit.evaluation
    return np.asarray(point.extra)


def threshold_shift(fit: Fit) -> float:
    """What the thresholds of the search, made for centred columns, take off eta; 0 but for grades."""
    if fit.design.family != "ordinal":
        return 0.0
    kept = fit.evaluation.criterion.products.standard.kept
    return float(np.array([fit.design.fixed.values[k].mean() for k in kept]) @ fit.evaluation.b)
