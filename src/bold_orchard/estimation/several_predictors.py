"""The numeric model of a design whose rows have several linear predictors: zeros and spread with their own, unordered
categories."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays
from bold_orchard.crossproducts.several_predictors import SeveralRows
from bold_orchard.design.design import Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.families.base import Family
from bold_orchard.families.joint import clamped, definite
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.quadrature import Quadrature

Array = NDArray[Any]


class SeveralRowsAlgebra:
    """Derivatives of a row as vectors, matrices and so on between its linear predictors."""

    def blank(self, eta: Array) -> list[Array]:
        p, n = eta.shape
        return [np.empty((p,) * k + (n,)) for k in range(4)]

    def bend(self, second: Array, direction: Array) -> Array:
        return np.einsum("pq...,q...->p...", second, direction)

    def turn(self, third: Array, products: Array) -> Array:
        return np.einsum("pqr...,pq...->r...", third, products)

    def positive(self, weight: Array) -> bool:
        return definite(weight)

    def mended(self, weight: Array, family: Family, eta: Array, extra: Array) -> Array:
        return clamped(weight)


@dataclass(frozen=True)
class SeveralLaplace(SeveralRowsAlgebra, Laplace):
    """Laplace's approximation jointly over all predictors."""


@dataclass(frozen=True)
class SeveralQuadrature(SeveralRowsAlgebra, Quadrature):
    """Adaptive quadrature over the effects of the only unit, whatever predictors they stand in."""


def several_laplace(arrays: Arrays, design: Design, family: Family) -> SeveralLaplace:
    """The likelihood of a design over stacked rows, those of one row of the table one after the other."""
    names, p = design.predictors, len(design.predictors)
    place = {name: k for k, name in enumerate(names)}

    def of(part: ModelMatrix) -> list[int]:
        return [place[str(part.terms[owner].outcome)] for owner in part.owner]

    predictor = np.zeros(len(arrays.columns), dtype=np.intp)
    predictor[list(arrays.x)] = of(design.fixed)
    for index, unit in enumerate(arrays.units):
        clauses = [c for c in design.clauses if c.block == index]
        for block, clause in zip(unit.blocks, clauses):
            predictor[list(block.columns)] = of(clause.part)
    rows = replace(
        arrays,
        y=arrays.y[::p],
        columns=tuple(c.reshape(-1, p)[:, k].copy() for c, k in zip(arrays.columns, predictor)),
        units=tuple(replace(u, codes=u.codes[::p]) for u in arrays.units),
    )
    made = SeveralRows(rows, predictor.tolist(), p)
    offset = None if design.offset is None else design.offset.reshape(-1, p).T[:, made.order]
    return SeveralLaplace(made, family.on(family.data.take(made.order)), offset)
