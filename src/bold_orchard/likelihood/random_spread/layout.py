"""Rows and parameters of a model in which each unit has a log residual SD of its own.

    y = X b + Z u + exp(W gamma + s) sigma e / sqrt(weight),   (u, s) = T xi,   xi ~ N(0, I)

Parameters stand as: working coefficients b, theta of T, gamma on standardised columns, log sigma^2.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays, RandomUnit
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.standardise import standardise
from bold_orchard.frozen import frozen
from bold_orchard.likelihood.outer import OuterLayout

Array = NDArray[Any]


class SpreadRows:
    """Rows sorted by the unit: ``x`` (p, n) and ``z`` (k, n) working columns, ``y`` (n,), ``w`` (m, n) of the spread.

    ``spread`` is the place of the spread among the unit's K effects, ``others`` the places of the k that stand in the linear
    predictor. ``starts`` (J,) are the first rows of each level, ``centres`` (m, 2) means and SDs of the spread's columns.
    """

    def __init__(self, model: Arrays, spread: int, columns: tuple[Array, ...]) -> None:
        unit = model.units[0]
        self.order = np.argsort(unit.codes, kind="stable")
        fixed = replace(model, units=())
        self.standard = standardise(fixed)
        pool = self.standard.columns.full([*self.standard.x, len(self.standard.columns) - 1])
        root = 1.0 if model.weights is None else np.sqrt(model.weights)
        pool = (pool / root)[:, self.order]
        self.x, self.y = pool[:-1] / self.standard.scales[self.standard.x][:, None], pool[-1]
        self.weights = None if model.weights is None else model.weights[self.order]
        self.codes = unit.codes[self.order]
        self.starts = np.flatnonzero(np.append(True, np.diff(self.codes) != 0))
        self.counts = np.diff(np.append(self.starts, model.n)).astype(float)
        numbers = [c for b in unit.blocks for c in b.columns]
        self.spread, self.others = spread, [i for i in range(unit.size) if i != spread]
        raw = [model.columns[numbers[i]] for i in self.others]
        scales = np.array([np.sqrt(np.mean(v**2)) for v in raw] or np.zeros(0))
        self.z = np.array([v[self.order] / s for v, s in zip(raw, scales)]).reshape(len(raw), model.n)
        to_work = np.eye(unit.size)
        to_work[self.others, self.others] = scales
        self.centres = np.array([(v.mean(), v.std()) for v in columns]).reshape(len(columns), 2)
        self.w = np.array([(v - m) / s for v, (m, s) in zip(columns, self.centres)]).reshape(len(columns), model.n)
        self.w = self.w[:, self.order]
        self.log_weights = 0.0 if self.weights is None else float(np.log(self.weights).sum())
        self.frame = CrossProducts(
            n=model.n, p=len(self.x), standard=self.standard, stages=[], tails=[], dense=np.zeros((0, 0)),
            z_to_work={0: to_work}, log_weights=self.log_weights,
            units=(RandomUnit(self.codes, unit.levels, unit.blocks),),
        )  # fmt: skip

    def by_unit(self, rows: Array) -> Array:
        """Sums of rows (..., n) by level, (..., J)."""
        return np.add.reduceat(rows, self.starts, axis=-1)


@frozen
class SpreadLayout(OuterLayout):
    """Where the parameters stand; ``points`` nodes serve each level's integral."""

    rows: SpreadRows
    points: int = 31
    profiled: ClassVar[bool] = False
    absolute: ClassVar[bool] = False
    correlated: ClassVar[None] = None

    @property
    def n_own(self) -> int:
        """gamma and log sigma^2."""
        return len(self.rows.w) + 1

    @property
    def phi(self) -> slice:
        """Where the coefficients of the spread's columns stand."""
        return slice(self.theta.stop, self.theta.stop + len(self.rows.w))

    @cached_property
    def scale(self) -> Array:
        """What is large of each parameter: the outcome's own scale for coefficients and effects, 1 for logarithms."""
        size = float(np.sqrt(np.mean(self.rows.y**2)))
        basis = self.structures[0].basis
        of_spread = np.abs(basis[:, self.rows.spread, :]).sum(axis=1) > 0
        theta = np.where(of_spread, 1.0, size)
        return np.concatenate([np.full(self.p, size), theta, np.ones(self.n_own)])

    def lost(self, parameters: Array) -> NDArray[np.bool_]:
        """No parameter has a limit at which nothing depends on it."""
        return np.zeros(len(parameters), dtype=bool)

    def grown(self, alpha: Array, f: int) -> Array:
        """SDs of effects depend on nothing here, (k,) of ones."""
        return np.ones(self.products.units[f].size)

    def signs(self, parameters: Array) -> Array:
        signs = np.ones(len(parameters))
        signs[self.theta] = self.structures[0].signs(parameters[self.theta])
        return signs

    def factors(self, parameters: Array) -> list[Array]:
        return [self.structures[0].factor(parameters[self.theta])]
