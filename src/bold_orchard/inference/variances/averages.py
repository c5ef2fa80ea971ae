"""Variances on average over the rows used: of the effects of each clause, of the residuals; in all rows, and by the levels of what they depend on.

Every share, ICC and R^2 rests on these, so that none depends on a baseline, on weights' units or on how categories are coded.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.natural_order import natural_order
from bold_orchard.design.design import Clause, Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.transformations import Category
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.model import FittedModel
from bold_orchard.estimation.random_spread import SpreadModel

Array = NDArray[Any]
Rows = NDArray[np.bool_]


def mean_products(design: Design, clause: Clause, squares: Array | float = 1.0, rows: Rows | None = None) -> Array:
    """The mean over the rows (or some ``rows``) of z z' A, (k, k): the clause's effects with covariance G add tr(G M) to the variance.

    A is the variance of the row's level relative to the others', of a covariance between levels that a file gives; ``squares`` (n,) are
    further factors of the variance.
    """
    own = relationship(design, clause) * squares
    z = clause.part.values
    return np.array([[_mean(design, a * b * own, rows) for b in z] for a in z])


def part_of_effect(design: Design, clause: Clause, i: int, g: Array, m: Array) -> Any:
    """What the i-th reported effect of a clause adds to the variance of a row, from G and M (..., k, k).

    Effects that may covary have one part, with the first of them; a curve of all rows has none, being no difference between units.
    """
    if design.units[clause.unit].curve:
        return None
    if clause.wiggle or (clause.kind.correlated and len(clause.names) > 1):
        return (m * g).sum(axis=(-2, -1)) if i == 0 else None
    return m[..., i, i] * g[..., i, i]


def _mean(design: Design, values: Array | float, rows: Rows | None) -> float:
    whole = np.broadcast_to(values, len(design.y))
    if rows is None:
        return design.mean_of(whole)
    return (
        float(whole[rows].mean())
        if design.counts is None
        else float(np.average(whole[rows], weights=design.counts[rows]))
    )


def relationship(design: Design, clause: Clause) -> Array | float:
    """The diagonal of a covariance between levels, as it stands in its file, at each row (n,); 1 where levels are independent."""
    block = design.blocks[clause.block]
    if block.relationship_factor is None:
        return 1.0
    return np.asarray((block.relationship_factor**2).sum(axis=1)[block.unit.codes])


def given_scale(design: Design, clause: Clause) -> float:
    """The mean of that diagonal over the rows, where the file gives the whole covariance of the levels; else 1."""
    whole = clause.structure.kind == "given" and clause.structure.over == "units"
    return design.mean_of(np.asarray(relationship(design, clause))) if whole else 1.0


def grown_squares(model: FittedModel[Any, Any], clause: Clause) -> Array | float:
    """By what the variance of a clause's effects exceeds that at zero in each row, (n,); 1 where it depends on nothing."""
    if clause.vary is None:
        return 1.0
    c = model.criterion
    at = [x for x in model.design.clauses if x.vary is not None].index(clause)
    alpha = model.evaluation.theta[c.alpha][c.vary.slices()[at]] / c.vary.parts[at].sd
    return np.asarray(np.exp(2.0 * alpha @ np.array(clause.vary.values)))


def mean_effect_variance(model: FittedModel[Any, Any], clause: Clause, rows: Rows | None = None) -> float:
    """What a clause's effects add to the variance of a row on average; of several linear predictors, of the mean's."""
    design = model.design
    if design.stacked:
        rows = np.arange(len(design.y)) % len(design.predictors) == 0
    g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns]
    return float((g * mean_products(model.design, clause, grown_squares(model, clause), rows)).sum())


def effect_variances(model: FittedModel[Any, Any], parts: Sequence[ModelMatrix]) -> Array | float:
    """What the effects of all units add to the variance of the linear predictor of other rows, (n,), from the columns ``parts`` of all clauses.

    A level's variance is the mean one where a file tells levels apart.
    """
    total: Array | float = 0.0
    for clause, part in zip(model.design.clauses, parts):
        if model.design.units[clause.unit].curve:
            continue
        g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns]
        total = total + quadratic(g, part) * model.design.mean_of(
            np.asarray(relationship(model.design, clause) * np.ones(len(model.design.y)))
        )
    return total


def quadratic(g: Array, part: ModelMatrix) -> Array:
    """z'G z of every row, (n,)."""
    z = np.array(part.values)
    return np.asarray(np.einsum("an,ab,bn->n", z, g, z))


@singledispatch
def residual_variances(model: object) -> Array | float:
    """The residual variance of each row of an additive outcome, (n,), or one for all."""
    raise NotImplementedError(type(model).__name__)


@residual_variances.register
def _(model: GaussianModel) -> Array | float:
    return model.residual_variances()


@residual_variances.register
def _(model: SpreadModel) -> Array | float:
    return model.residual_sd() ** 2


def mean_residual_variance(model: FittedModel[Any, Any], rows: Rows | None = None) -> float:
    return _mean(model.design, residual_variances(model), rows)


def levels_that_matter(design: Design) -> Iterator[tuple[str, str, Rows]]:
    """Levels (column, level, rows) of the categories on which variances of effects or of residuals depend."""
    if design.counts is not None:
        return
    maker = design.maker()
    parts = [c.part for c in design.clauses] + [c.vary for c in design.clauses if c.vary is not None]
    parts += [design.residual.spread] if design.residual.spread is not None else []
    factors = {f.written: f for p in parts for t in p.terms for f in t.factors if not t.is_spread}
    for factor in factors.values():
        made = maker.make(factor)
        if isinstance(made, Category):
            for i in natural_order(made.levels):
                if (made.codes == i).any():
                    yield made.column, made.levels[i], made.codes == i
