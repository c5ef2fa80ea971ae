"""Rows and parameters of a model in which each unit has a log residual SD of its own.

    y = X b + Z u + Z_p v + exp(W gamma + s) sigma e / sqrt(weight),   (u, s) = T xi,   v = T_p xi_p,   xi, xi_p ~ N(0, I)

v are the effects of the unit above, in which the units with a spread are nested, where there is one.
Parameters stand as: working coefficients b, theta of T, gamma on standardised columns, log sigma^2.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays, RandomUnit
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.standardise import standardise
from bold_orchard.likelihood.outer import OuterLayout

Array = NDArray[Any]


@dataclass(frozen=True)
class Above:
    """The unit above, number ``block`` of the likelihood, ``size`` effects each: ``of`` (J,) is the level that holds each unit.

    ``order`` (J,) sorts the units by it, ``starts`` (levels,) are the first of each level there.
    """

    block: int
    size: int
    of: NDArray[np.intp]
    order: NDArray[np.intp]
    starts: NDArray[np.intp]

    def sums(self, values: Array) -> Array:
        """Sums of units (..., J) by the level that holds them, (..., levels)."""
        return np.add.reduceat(values[..., self.order], self.starts, axis=-1)


class SpreadRows:
    """Rows sorted by the unit: ``x`` (p, n) working columns, ``y`` (n,), ``w`` (m, n) of the spread, ``z`` (k + k_p, n) those of the
    unit's effects and then of the unit above.

    ``block`` is the unit's number, ``spread`` the place of the spread among its K effects, ``others`` the places of the k that stand
    in the linear predictor. ``starts`` (J,) are the first rows of each level, ``centres`` (m, 2) means and SDs of the spread's columns.
    """

    def __init__(self, model: Arrays, block: int, spread: int, columns: tuple[Array, ...]) -> None:
        unit, self.block = model.units[block], block
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
        self.spread, self.others = spread, [i for i in range(unit.size) if i != spread]
        to_work, z = {}, []
        for f in [block, *(f for f in range(len(model.units)) if f != block)]:
            numbers = [c for b in model.units[f].blocks for c in b.columns]
            own = self.others if f == block else list(range(len(numbers)))
            scales = self._scales(model, f)
            z += [model.columns[numbers[i]][self.order] / scales[i] for i in own]
            to_work[f] = np.diag(scales)
        self.z = np.array(z).reshape(len(z), model.n)
        self.above = self._above(model)
        self.centres = np.array([(v.mean(), v.std()) for v in columns]).reshape(len(columns), 2)
        self.w = np.array([(v - m) / s for v, (m, s) in zip(columns, self.centres)]).reshape(len(columns), model.n)
        self.w = self.w[:, self.order]
        self.log_weights = 0.0 if self.weights is None else float(np.log(self.weights).sum())
        self.frame = CrossProducts(
            n=model.n, p=len(self.x), standard=self.standard, stages=[], tails=[], dense=np.zeros((0, 0)),
            z_to_work=to_work, log_weights=self.log_weights,
            units=tuple(RandomUnit(u.codes[self.order], u.levels, u.blocks) for u in model.units),
        )  # fmt: skip

    def _scales(self, model: Arrays, f: int) -> Array:
        """The size of each effect's column, 1 for the spread; of one size where a structure compares them, (K,)."""
        made = []
        for b in model.units[f].blocks:
            sizes = np.array([np.sqrt(np.mean(model.columns[i] ** 2)) for i in b.columns])
            alone = f == self.block or b.structure.invariance in ("linear", "scale")
            made.append(
                sizes if alone else np.full(len(sizes), sizes.mean() if b.structure.invariance == "common" else 1.0)
            )
        out = np.concatenate(made)
        if f == self.block:
            out[self.spread] = 1.0
        return out

    def _above(self, model: Arrays) -> Above | None:
        if len(model.units) < 2:
            return None
        (f,) = (f for f in range(len(model.units)) if f != self.block)
        of = model.units[f].codes[self.order][self.starts]
        order = np.argsort(of, kind="stable")
        starts = np.flatnonzero(np.append(True, np.diff(of[order]) != 0))
        return Above(f, model.units[f].size, of, order, starts)

    def by_unit(self, rows: Array) -> Array:
        """Sums of rows (..., n) by level, (..., J)."""
        return np.add.reduceat(rows, self.starts, axis=-1)

    def independent(self, units: Array) -> Array:
        """Sums of units (..., J) by what is independent of the rest: the units themselves, or the levels above them."""
        return units if self.above is None else self.above.sums(units)


@dataclass(frozen=True)
class SpreadLayout(OuterLayout):
    """Where the parameters stand; ``points`` nodes serve each unit's integral, ``rough`` asks for few of the levels above."""

    rows: SpreadRows
    points: int = 31
    rough: bool = False
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
        theta = [np.full(s.n_theta, size) for s in self.structures]
        theta[self.rows.block][self.of_spread] = 1.0
        return np.concatenate([np.full(self.p, size), *theta, np.ones(self.n_own)])

    @property
    def of_spread(self) -> NDArray[np.bool_]:
        """Which theta of the unit's structure stand in the row of its spread, (n_theta,)."""
        basis = self.structures[self.rows.block].basis
        return np.asarray(np.abs(basis[:, self.rows.spread, :]).sum(axis=1) > 0)

    def lost(self, parameters: Array) -> NDArray[np.bool_]:
        """No parameter has a limit at which nothing depends on it."""
        return np.zeros(len(parameters), dtype=bool)

    def grown(self, alpha: Array, f: int) -> Array:
        """SDs of effects depend on nothing here, (k,) of ones."""
        return np.ones(self.products.units[f].size)

    def signs(self, parameters: Array) -> Array:
        signs = np.ones(len(parameters))
        for structure, at in zip(self.structures, self.slices):
            signs[at] = structure.signs(parameters[at])
        return signs

    def factors(self, parameters: Array) -> list[Array]:
        return [s.factor(parameters[at]) for s, at in zip(self.structures, self.slices)]
