"""Residuals of each unit's own least squares, free of what the model assumes of the units."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.build import unit_codes
from bold_orchard.design.design import UnitCodes
from bold_orchard.design.validation import constant_inside
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.variances.averages import residual_variances

Array = NDArray[Any]
SPANNED = 1e-20  # squared part of a column left inside units that is no more than rounding
CLOSE = 1e-6  # the same from which three more digits are lost: columns are taken out once more


@dataclass(frozen=True)
class Within:
    """``residual`` and ``standardised`` (n,), NaN in units with too few rows; ``possible`` (levels,) tells which have enough."""

    unit: UnitCodes
    residual: Array
    standardised: Array
    possible: NDArray[np.bool_]


def within_residuals(fit: Fit, unit: UnitCodes) -> Within:
    """Least squares of the outcome on every column that varies in the unit, unit by unit (Hilden-Minton 1995).

    A level needs more rows than its columns have rank; weights count as in the fit. Standardised by the SD pooled over all levels and each row's leverage.
    """
    design, codes, size = fit.design, unit.codes, unit.size
    columns = dict(zip(design.fixed.names, design.fixed.values))
    for clause in design.clauses:
        if design.blocks[clause.block].unit.name == unit.name:
            columns |= dict(zip(clause.part.names, clause.part.values))
    variances = residual_variances(fit.model)
    root = np.sqrt(np.broadcast_to(np.mean(variances) / variances, len(codes)))
    basis = _Basis(codes, size)
    columns.pop("intercept", None)
    for column in (np.ones(len(codes)), *columns.values()):
        basis.add(root * column)
    rest, _, _ = basis.rest(root * design.y)
    df = unit.counts - basis.rank
    possible = df >= 1
    here = possible[codes]
    squares = float((rest[here] ** 2).sum())
    pooled = np.sqrt(squares / max(int(df[possible].sum()), 1))
    open_ = np.maximum(1.0 - basis.leverage, 0.0)
    with np.errstate(all="ignore"):
        standardised = np.where(here & (open_ > 1e-8), rest / (pooled * np.sqrt(open_)), np.nan)
    return Within(unit, np.where(here, rest / root, np.nan), standardised, possible)


class _Basis:
    """Orthogonal columns inside every level at once (twice-is-enough Gram-Schmidt)."""

    def __init__(self, codes: NDArray[np.intp], size: int) -> None:
        self.codes, self.size = codes, size
        self.made: list[tuple[Array, Array]] = []
        self.rank, self.leverage = np.zeros(size, dtype=int), np.zeros(len(codes))

    def _sum(self, values: Array) -> Array:
        return np.bincount(self.codes, values, minlength=self.size)

    def rest(self, column: Array) -> tuple[Array, Array, NDArray[np.bool_]]:
        """What the columns so far leave of another one, its square in every level, and where it is more than rounding."""
        out = column.astype(float)
        whole = np.maximum(self._sum(out**2), 1e-300)
        for _ in range(2):
            for q, inverse in self.made:
                part = self._sum(q * out)
                part *= inverse
                out -= part[self.codes] * q
            left = self._sum(out**2)
            new = left > SPANNED * whole
            if not (new & (left < CLOSE * whole)).any():
                break
        return out, left, new

    def add(self, column: Array) -> None:
        rest, left, new = self.rest(column)
        if not new.any():
            return
        inverse = np.where(new, 1.0 / np.where(new, left, 1.0), 0.0)
        self.made.append((rest, inverse))
        self.rank += new
        self.leverage += rest**2 * inverse[self.codes]


def units_of(fit: Fit) -> list[UnitCodes]:
    """The units of all each clauses, and that of the within clause where no each clause names it."""
    design, within = fit.design, fit.design.sentence.within
    if within is None or str(within.unit) in [u.name for u in design.groups]:
        return list(design.groups)
    return [*design.groups, unit_codes(within.unit, design.table)]


def chosen_unit(fit: Fit) -> UnitCodes | None:
    """The finest unit of which half the levels could have a least squares of their own; None without one."""
    for unit in sorted(units_of(fit), key=lambda u: -u.size):
        varying = 1 + sum(not constant_inside(unit.codes, unit.size, v) for v in fit.design.fixed.values)
        if np.mean(unit.counts > varying) >= 0.5:
            return unit
    return None
