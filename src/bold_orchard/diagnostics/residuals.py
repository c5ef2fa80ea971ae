"""Residuals of the rows and predicted effects of the units."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.fitting import Fit

Array = NDArray[Any]


@dataclass(frozen=True)
class Residuals:
    """Per row used, each (n,): fitted values with and without the units' effects, and what remains."""

    fitted: Array
    average: Array
    conditional: Array
    marginal: Array
    standardised: Array


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


def residuals(fit: Fit, units: list[UnitEffects] | None = None) -> Residuals:
    """Conditional (y - X b - Z u), marginal (y - X b) and standardised conditional residuals."""
    design = fit.design
    average = average_part(fit)
    fitted = average.copy()
    for clause, made in zip(design.clauses, unit_effects(fit) if units is None else units):
        codes = design.blocks[clause.block].unit.codes
        for column, effect in zip(clause.part.values, made.effects.T):
            fitted += column * effect[codes]
    y = design.y if design.offset is None else design.y + design.offset
    scale = np.sqrt(fit.evaluation.sigma2)
    rest = y - fitted
    root = 1.0 if design.weights is None else np.sqrt(design.weights)
    return Residuals(fitted, average, rest, y - average, rest * root / scale)
