"""The rows' log densities and replicated outcomes at draws of the posterior."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.estimation.arrays import row_order
from bold_orchard.inference.summary import number
from bold_orchard.likelihood.conditional import drawn_effects
from bold_orchard.results.sample import STATISTICS
from bold_orchard.sampling.family import FamilyTarget
from bold_orchard.sampling.gaussian import GaussianTarget
from bold_orchard.sampling.spread import SpreadTarget

Array = NDArray[Any]


def linear_predictor(design: Design, kept: list[int], b: Array, effects: list[Array]) -> Array:
    """X b + Z u, offsets left out, (n,)."""
    eta = np.zeros(len(design.y))
    for value, column in zip(b, kept):
        eta += value * design.fixed.values[column]
    for clause in design.clauses:
        own = effects[clause.block][design.blocks[clause.block].unit.codes]
        for values, place in zip(clause.part.values, range(clause.columns.start, clause.columns.stop)):
            eta += values * own[:, place]
    return eta


def closed_form(target: Any) -> bool:
    """Whether what is left of a row when all others are known has a closed form that is cheap: one unit, independent residuals."""
    return (
        isinstance(target, GaussianTarget)
        and target.c.linear
        and len(target.c.products.stages) == len(target.c.products.units) <= 1
    )


def log_densities(target: Any, z: Array, b: Array, effects: list[Array]) -> Array:
    """Of every row, (n,): given all other rows and the parameters where ``closed_form``, else given the drawn effects."""
    if closed_form(target):
        if target.small is not None:
            made: Array = target.small.without_row(z, b)
            return made
        return _without_row(target, z, b)
    return _conditional(target, z, b, effects)


def _conditional(target: Any, z: Array, b: Array, effects: list[Array]) -> Array:
    design = target.design
    eta = linear_predictor(design, target.model.kept, b, effects)
    if isinstance(target, FamilyTarget):
        family = target.model.family
        offset = 0.0 if design.offset is None else design.offset
        shift = float(target.means @ b) if design.graded else 0.0
        at = eta - shift + offset
        return np.asarray(family.value(design.folded(at) if design.predictors else at, z[target.own]))
    log_sd = _log_sd(target, z, effects)
    return np.asarray(-0.5 * np.log(2 * np.pi) - log_sd - 0.5 * ((design.y - eta) * np.exp(-log_sd)) ** 2)


def _log_sd(target: Any, z: Array, effects: list[Array]) -> Array:
    if not isinstance(target, SpreadTarget):
        return np.asarray(target.log_row_sd(z))
    out, own, f = np.empty(len(target.design.y)), z[target.own], target.rows.block
    out[target.rows.order] = own[:-1] @ target.w + own[-1]
    if target.design.weights is not None:
        out -= 0.5 * np.log(target.design.weights)
    return out + effects[f][:, target.rows.spread][target.design.blocks[f].unit.codes]


class _Still(np.random.Generator):
    """Noise that is nought."""

    def __init__(self) -> None:
        super().__init__(np.random.PCG64(0))

    def standard_normal(self, size: Any = None, *args: Any, **kwargs: Any) -> Any:
        return np.zeros(size)


def _without_row(target: GaussianTarget, z: Array, b: Array) -> Array:
    """log p(y_i | all other rows, b, variances): the residual over 1 - h_i, h_i what the row's own effects owe to it."""
    here = target.evaluate(z, slopes=False)[2]
    design, e = target.design, here.eliminated
    contrast = np.append(target.c.products.standard.b0 - target.to_work @ b, 1.0)
    weights = np.ones(len(design.y)) if design.weights is None else design.weights
    h, fitted = (
        np.zeros(len(weights)),
        linear_predictor(design, target.model.kept, b, [_zeros(target, f) for f in range(len(design.blocks))]),
    )
    if e.works:
        stage = e.works[0].stage
        u = drawn_effects(e, contrast, 0.0, _Still())[stage.unit]
        back = np.linalg.inv(target.c.products.z_to_work[stage.unit])
        codes = design.blocks[stage.unit].unit.codes
        rank = np.empty_like(stage.order)
        rank[stage.order] = np.arange(len(rank))
        columns = np.array([v for c in design.clauses for v in c.part.values])
        work = back.T @ columns
        k = e.works[0].k[:, :, rank[codes]]
        h = weights * np.einsum("an,abn,bn->n", work, k, work)
        fitted = fitted + np.einsum("an,an->n", work, u[:, codes])
    left = np.maximum(1.0 - h, 1e-12)
    variance = here.sigma2 / (weights * left)
    return np.asarray(-0.5 * (np.log(2 * np.pi * variance) + ((design.y - fitted) / left) ** 2 / variance))


def _zeros(target: Any, f: int) -> Array:
    unit = target.c.products.units[f]
    return np.zeros((unit.levels, unit.size))


def replicated(target: Any, z: Array, b: Array, effects: list[Array], rng: np.random.Generator) -> Array:
    """An outcome drawn anew, effects kept, as ``design.outcome_values`` holds it, (n,)."""
    design = target.design
    eta = linear_predictor(design, target.model.kept, b, effects)
    offset = 0.0 if design.offset is None else design.offset
    if isinstance(target, FamilyTarget):
        shift = float(target.means @ b) if design.graded else 0.0
        family = target.model.family.on(design.data_of())
        at = eta - shift + offset
        return np.asarray(family.draw(design.folded(at) if design.predictors else at, z[target.own], rng))
    drawn = rng.standard_normal(len(eta))
    if isinstance(target, GaussianTarget) and target.c.correlated is not None:
        phi, log_sigma2 = target.residual(z)[:2]
        order = row_order(design.residual)
        drawn = target.c.correlated.rows.colour(phi, drawn) * np.exp(0.5 * log_sigma2)
        if order is not None:
            drawn[order] = drawn.copy()
        drawn = drawn if design.weights is None else drawn / np.sqrt(design.weights)
        return np.asarray(eta + offset + drawn)
    return np.asarray(eta + offset + drawn * np.exp(_log_sd(target, z, effects)))


def statistics(design: Design, y: Array) -> Array:
    """Mean, SD, smallest and largest of an outcome (shares of trials), and its share of zeros where there are any to see."""
    y = y / design.trials if design.trials is not None else y
    return np.array([y.mean(), y.std(ddof=1) if len(y) > 1 else 0.0, y.min(), y.max(), (y == 0).mean()])


def observed_statistics(design: Design) -> Array:
    return statistics(design, design.outcome_values if design.trials is None else design.y)


def replicates(design: Design, drawn: Array) -> list[dict[str, Any]]:
    """Statistics of ``drawn`` outcomes (draws, statistics) beside the observed ones; p is the share that is larger, ties by half."""
    out = []
    for name, seen, x in zip(STATISTICS, observed_statistics(design), drawn.T):
        if name == "share of zeros" and seen == 0 and not x.any():
            continue
        low, high = np.quantile(x, [0.025, 0.975])
        p = (x > seen).mean() + 0.5 * (x == seen).mean()
        figures = {"observed": seen, "mean": x.mean(), "low": low, "high": high, "p": p}
        out.append({"statistic": name} | {key: number(value) for key, value in figures.items()})
    return out
