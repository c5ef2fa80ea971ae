"""The design whose rows stand for cells of rows summed in pieces."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.cells_as_rows import rows_of
from bold_orchard.data.codes import Seen, ends, suspicions
from bold_orchard.data.columns import Columns, Texts
from bold_orchard.data.pieces import Pieces
from bold_orchard.data.table import Labels, Table
from bold_orchard.design import differing_units, validation
from bold_orchard.design.build import check_baselines, clauses_over
from bold_orchard.design.design import Design, Options, UnitCodes
from bold_orchard.design.levels import Levels
from bold_orchard.design.magnitudes import check_scales
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.residual import ResidualPart
from bold_orchard.design.transformations import Numeric
from bold_orchard.sentence import tree

Array = NDArray[Any]
DIGITS = 13  # of a column: its sums have sixteen


class Shape(Protocol):
    """What one piece shows of them all: its parts, raw numbers, and numeric factors as written."""

    parts: tuple[ModelMatrix, list[ModelMatrix], list[ModelMatrix | None]]
    raw: dict[str, Array]
    numeric: dict[str, Numeric]


class Summed(Protocol):
    """What both sweeps leave."""

    sentence: tree.Sentence
    pieces: Pieces
    options: Options
    memory: dict[str, Any]
    meanings: dict[str, str]
    levels: dict[str, Levels]
    dropped: dict[str, int]
    read: int
    used: int
    seen: dict[str, Seen]
    names: list[str]
    centre: Array
    size: Array
    sizes: list[int]
    cells: tuple[Array, Array]

    @property
    def shape(self) -> Shape | None: ...


def design_of_cells(self: Summed, family: str, link: str) -> Design:
    """The design whose rows stand for the cells of both sweeps."""
    keys, sums = self.cells
    values, cell, counts, still = rows_of(sums, len(self.names))
    values *= self.size[:, None]
    values += self.centre[:, None]
    columns = {n: _steady(v, own) for n, v, own in zip(self.names, values, still)}
    return _put_together(self, family, link, keys, cell, columns, counts, sums[0])


def _put_together(
    self: Summed, family: str, link: str, keys: Array, cell: Array, columns: dict[str, Array], counts: Array, count: Array
) -> Design:  # fmt: skip
    assert self.shape is not None
    codes, left = {}, keys
    for name, size in reversed(list(zip(self.levels, self.sizes))):
        left, rest = np.divmod(left, size)
        codes[name] = rest.astype(np.intp, copy=False)
    held: dict[str, Any] = {}
    for name, levels in self.levels.items():
        held[name] = (
            Texts(codes[name][cell], levels.raw) if levels.raw.dtype == object else levels.raw[codes[name][cell]]
        )
    held |= {n: columns[n] for n in self.shape.raw}
    n = len(cell)
    table = Table(Columns(list(held), n, held), self.pieces.source, n, parts=len(self.pieces.paths))
    constant = np.ones(n)

    def part(p: ModelMatrix) -> ModelMatrix:
        made = tuple(
            constant if name == "intercept" else _column(name, v, columns, n) for name, v in zip(p.names, p.values)
        )
        return replace(p, values=made)

    fixed, clause_parts, varied = self.shape.parts
    names = dict.fromkeys(str(e.unit) for e in self.sentence.clauses)
    units = {name: _unit(self, name, codes, cell, count) for name in names}
    clauses, blocks = clauses_over(
        self.sentence, units, [part(p) for p in clause_parts], [None if v is None else part(v) for v in varied]
    )
    offset = columns.get("(offset)")
    y = columns["(outcome)"]
    notes = [
        *self.sentence.notes,
        *validation.outcome_notes(self.sentence, self.seen, self.options.family),
        f"{self.used:,} rows were summed in pieces: {len(keys):,} cells of the same levels stand for them.",
    ]
    known = all(table.has(c) for c in self.options.baselines)
    baselines = check_baselines(self.options.baselines, self.sentence, table if known else next(self.pieces.tables()))
    design = Design(
        self.sentence, table, y if offset is None else y - offset, part(fixed), offset, counts, tuple(units.values()), clauses, blocks,
        ResidualPart("independent"), self.memory,
        {"read": self.read, "used": self.used, "dropped": [{"column": c, "rows": r} for c, r in self.dropped.items()], "filled": []},
        (*notes, *baselines), self.meanings, family, link,
        counts=counts,
        warnings=tuple(suspicions(self.seen)),
        ends=ends(self.seen),
        prepared={
            k: replace(v, values=tuple(columns[n] for n in v.names)) for k, v in self.shape.numeric.items()
        },
    )  # fmt: skip
    validation.enough_rows(design)
    far = check_scales(design)
    own = (
        *validation.units_and_slopes(design, self.options.force),
        *validation.repeated_labels(design, self.pieces.some_rows),
        *differing_units.varying(design),
        *validation.many_levels(design),
    )
    return replace(design, notes=(*design.notes, *own, *far))


def _column(name: str, example: Array, columns: dict[str, Array], n: int) -> Array:
    return columns[name] if name in columns else np.full(n, float(example[0]))


def _unit(self: Summed, name: str, codes: dict[str, Array], cell: Array, count: Array) -> UnitCodes:
    """Levels of a unit over the rows that stand for the cells; its counts are those of the rows themselves."""
    unit = next(e.unit for e in self.sentence.clauses if str(e.unit) == name)
    joint = np.zeros(len(count), dtype=np.int64)
    for c in unit.columns:
        joint = joint * len(self.levels[c.name]) + codes[c.name]
    if (np.diff(joint) > 0).all():  # a cell for each level, in their order
        found, own, first = joint, np.arange(len(joint)), np.arange(len(joint))
    else:
        found, own = np.unique(joint, return_inverse=True)
        first = np.zeros(len(found), dtype=np.intp)
        first[own[::-1]] = np.arange(len(own))[::-1]
    parts = tuple(
        (Labels(np.zeros(0, dtype=np.intp), self.levels[c.name].raw), codes[c.name][first]) for c in unit.columns
    )
    made = UnitCodes(name, own[cell].astype(np.intp), len(found), parts)
    made.__dict__["counts"] = np.bincount(own, count, minlength=len(found)).astype(np.intp)
    return made


def _steady(values: Array, still: Array) -> Array:
    """What is constant in a cell rounded to DIGITS digits, so that it is the same number in every cell of its unit."""
    if not still.any():
        return values
    size = float(np.abs(values).max(initial=0.0))
    places = DIGITS - int(np.floor(np.log10(size))) if size > 0 else DIGITS
    return np.where(still, np.round(values, places), values) if abs(places) < 300 else values
