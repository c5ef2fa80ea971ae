"""A design as arrays: the distinct columns of X and Z, unit codes, and the covariance of the residuals."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects import structure_of
from bold_orchard.covariance.effects.base import Structure
from bold_orchard.covariance.effects.given import Given
from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.covariance.residuals.base import Layout, RowCovariance
from bold_orchard.crossproducts.arrays import Arrays, RandomBlock, RandomUnit
from bold_orchard.design.design import Clause, Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.residual import ResidualPart, sorted_rows

Array = NDArray[Any]


def row_order(residual: ResidualPart) -> Array | None:
    """Rows sorted by unit and time, as a residual covariance needs them; None when there is none."""
    if residual.codes is None:
        return None
    return sorted_rows(residual.codes, residual.time)


def to_arrays(design: Design) -> Arrays:
    """The design as arrays; with correlated residuals the rows stand sorted by unit and time."""
    residual = design.residual
    order = row_order(residual)

    def sort(values: Array) -> Array:
        return values if order is None else values[order]

    distinct = _Distinct()
    x = distinct.numbers(design.fixed)
    units = []
    for index, block in enumerate(design.blocks):
        parts = tuple(_random_block(c, distinct.numbers(c.part)) for c in design.clauses if c.block == index)
        units.append(RandomUnit(sort(block.unit.codes), block.unit.size, parts, block.relationship_factor))
    return Arrays(
        y=sort(design.y),
        columns=tuple(sort(c) for c in distinct.columns),
        x=x,
        intercept=design.fixed.intercept,
        units=tuple(units),
        weights=None if design.weights is None else sort(design.weights),
        rows=_row_covariance(residual, len(design.y), sort),
        within=None if residual.codes is None else sort(residual.codes),
        count=None if design.counts is None else design.n_rows,
    )


class _Distinct:
    """The distinct columns of all parts; those of one name are one wherever they hold the same values."""

    def __init__(self) -> None:
        self.columns: list[Array] = []
        self.named: dict[str, list[int]] = {}

    def numbers(self, part: ModelMatrix) -> tuple[int, ...]:
        return tuple(self._number(name, values) for name, values in zip(part.names, part.values))

    def _number(self, name: str, values: Array) -> int:
        known = self.named.setdefault(name, [])
        for k in known:
            if self.columns[k] is values or np.array_equal(self.columns[k], values):
                return k
        known.append(len(self.columns))
        self.columns.append(values)
        return known[-1]


def _random_block(clause: Clause, columns: tuple[int, ...]) -> RandomBlock:
    size = len(clause.part.names)
    if clause.given is not None:
        structure: Structure = Given(size, tuple(map(tuple, clause.given.tolist())))
    else:
        structure = structure_of(clause.structure.kind)(size)
    return RandomBlock(columns, structure, clause.part.constant)


def _by_level(residual: ResidualPart, rows: Layout, sort: Callable[[Array], Array]) -> RowCovariance:
    """The structure over the rows of each level; a level without rows here has one over none."""
    from bold_orchard.covariance.residuals.by_level import Absent, ByLevel

    assert residual.level is not None
    level, unit = sort(residual.level), np.cumsum(np.isin(np.arange(rows.n), rows.starts))
    parts: list[RowCovariance] = []
    places = []
    for k in range(len(residual.levels)):
        at = np.flatnonzero(level == k)
        if not len(at):
            time = None if rows.time is None else rows.time[: min(rows.n, 1)]
            like = replace(rows, n=1, starts=np.zeros(1, dtype=np.intp), time=time)
            parts.append(Absent(residual_structure_of(residual.kind).over(like)))
            places.append(at)
            continue
        starts = np.flatnonzero(np.diff(unit[at], prepend=-1) != 0)
        own = replace(rows, n=len(at), starts=starts, time=None if rows.time is None else rows.time[at])
        parts.append(residual_structure_of(residual.kind).over(own))
        places.append(at)
    return ByLevel(str(residual.by), residual.levels, parts, places)


def _row_covariance(residual: ResidualPart, n: int, sort: Callable[[Array], Array]) -> RowCovariance | None:
    """The residual covariance over the sorted rows; None for equal, independent residuals."""
    made: RowCovariance | None = None
    if residual.codes is not None:
        codes = sort(residual.codes)
        starts = np.flatnonzero(np.append(True, np.diff(codes) != 0))
        time = None if residual.time is None else sort(residual.time)
        rows = Layout(n, starts, str(residual.unit), time, residual.labels, residual.spread is not None)
        made = (
            residual_structure_of(residual.kind).over(rows) if residual.by is None else _by_level(residual, rows, sort)
        )
    if residual.spread is not None:
        from bold_orchard.covariance.residuals.independent import Independent
        from bold_orchard.covariance.residuals.spread import Spread

        columns = [sort(v) for v in residual.spread.values]
        made = Spread(made or Independent(n), np.column_stack([(c - c.mean()) / c.std() for c in columns]))
    return made
