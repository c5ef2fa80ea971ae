"""A design made of pieces: one sweep learns levels, means and missing cells, one sums every cell's rows, and the sums become rows again.

A cell is a combination of levels of all units and categories. A gaussian likelihood knows its rows by their number, means and products
alone, so that r + 1 rows of equal weight with the cell's own means and products (a simplex; r numeric columns) stand for all of them
exactly. Sums of pieces merge by addition around one centre (Chan, Golub & LeVeque 1979), in the order of the pieces.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.cells_as_rows import merged, rows_of, summed
from bold_orchard.data.columns import Columns, Texts
from bold_orchard.data.pieces import Pieces
from bold_orchard.data.table import Labels, Table
from bold_orchard.design import validation
from bold_orchard.design.build import (
    check_baselines,
    check_columns,
    columns_that_vary,
    fixed_part,
    split_offsets,
)
from bold_orchard.design.design import Block, Clause, Design, Options, UnitCodes
from bold_orchard.design.learned_in_pieces import Learner, Levels, PieceMaker, Wanted, transforms
from bold_orchard.design.model_matrix import ModelMatrix, build_part
from bold_orchard.design.residual import ResidualPart
from bold_orchard.design.response import family_and_link
from bold_orchard.design.transformations import ColumnMaker, Numeric
from bold_orchard.errors import OrchardError
from bold_orchard.families import family_of
from bold_orchard.sentence import tree

Array = NDArray[Any]
Progress = Callable[[int, int | None], None]
ONLY_IN_MEMORY = ("spline", "lag")
MERGE = 2_000_000  # cells of unmerged pieces from which they are merged
DIGITS = 13  # of a column: its sums have sixteen
WAY_OUT = "give it more --memory, or fit a part of the rows with --where"


def design_of_pieces(sentence: tree.Sentence, pieces: Pieces, options: Options, report: Progress) -> Design:
    """The design that stands for all rows of the pieces. Raises OrchardError for sentences that need their rows in memory."""
    family, link = family_and_link(sentence, options.family, options.link)
    _check(sentence, family, link, options)
    made = _Sweeps(sentence, pieces, options, report)
    made.learn()
    made.sum()
    return made.design(family, link)


def _check(sentence: tree.Sentence, family: str, link: str, options: Options) -> None:
    if not family_of(family, link).additive:
        raise OrchardError(f"a {family} model needs its rows in memory, and they are larger than --memory; {WAY_OUT}")
    for word, there in (
        ("within", sentence.within is not None),
        ("spread", bool(sentence.spread)),
        ("a spread of each unit", any(e.has_spread for e in sentence.each)),
    ):
        if there:
            raise OrchardError(
                f"'{word}' needs rows in memory, and they are larger than --memory; leave it out, or {WAY_OUT}"
            )
    if options.weights:
        raise OrchardError(f"--weights needs rows in memory, and they are larger than --memory; {WAY_OUT}")
    if options.fill_mean:
        raise OrchardError(f"--fill-mean needs rows in memory, and they are larger than --memory; {WAY_OUT}")
    stack: list[Any] = [sentence.terms, sentence.each, sentence.outcome]
    while stack:
        item = stack.pop()
        if isinstance(item, tree.Call) and item.function in ONLY_IN_MEMORY:
            raise OrchardError(
                f"{item.function}(...) needs rows in memory, and they are larger than --memory; {WAY_OUT}"
            )
        if isinstance(item, (tuple, list)):
            stack += item
        elif hasattr(item, "__dataclass_fields__"):
            stack += [getattr(item, f) for f in item.__dataclass_fields__]


@dataclass
class _Piece:
    """One piece as the model sees it: columns by name, codes by label column, parts, raw numbers, numeric factors as written."""

    columns: dict[str, Array]
    codes: list[Array]
    parts: tuple[ModelMatrix, list[ModelMatrix], list[ModelMatrix | None]]
    raw: dict[str, Array]
    numeric: dict[str, Numeric]


class _Sweeps:
    def __init__(self, sentence: tree.Sentence, pieces: Pieces, options: Options, report: Progress) -> None:
        self.sentence, self.pieces, self.options, self.report = sentence, pieces, options, report
        self.memory: dict[str, Any] = {}
        self.meanings: dict[str, str] = {}
        self.read = self.used = 0
        self.dropped: dict[str, int] = {}
        self.levels: dict[str, Levels] = {}
        units = [c.name for e in sentence.each for c in e.unit.columns]
        self.unit_columns = list(dict.fromkeys(units))
        self.done = 0

    def _complete(self, table: Table, count: bool) -> Table:
        """The rows that have all cells; what is lost is counted once."""
        sentence = self.sentence
        columns = [c.name for c in tree.columns_of((sentence.outcome, sentence.terms, sentence.each))]
        keep = np.ones(len(table), dtype=bool)
        for column in dict.fromkeys(columns):
            lost = keep & table.is_missing(column)
            n = int(lost.sum())
            if n:
                keep &= ~lost
                if count:
                    self.dropped[column] = self.dropped.get(column, 0) + n
        return table if keep.all() else table.take(keep)

    def _tables(self, count: bool = False) -> Any:
        for table in self.pieces.tables():
            if count:
                self.read += table.read
                check_columns(self.sentence, table)
            used = self._complete(table, count)
            if count:
                self.used += len(used)
            self.done += len(table)
            self.report(self.done, None)
            if len(used):
                yield used

    # -- the first sweep, once more for every figure that rests on another

    def learn(self) -> None:
        """Levels and missing cells, then means, minima and SDs that transformations learn."""
        first = True
        while True:
            wanted: dict[str, Learner] = {}
            for table in self._tables(count=first):
                if first:
                    self._see(table)
                for learner in self._wants(table, wanted):
                    learner.add(table)
            first = False
            if not wanted:
                break
            for key, learner in wanted.items():
                self.memory[key] = learner.result()
        if not self.used:
            raise OrchardError(f"no row of {self.pieces.source} is complete")
        self._order_levels()

    def _see(self, table: Table) -> None:
        """Kinds of the columns and labels of units and text columns."""
        kinds = self.memory.setdefault("kinds", {})
        for column in self.pieces.used:
            if not table.has(column):
                continue
            kind = table.kind(column)
            if kinds.get(column, "empty") == "empty":
                kinds[column] = kind
            if column in self.unit_columns or kind == "category" or column in self._told:
                self.levels.setdefault(column, Levels()).see(table.labels(column))

    @property
    def _told(self) -> list[str]:
        """Numbers that the sentence takes for categories."""
        found, stack = (
            [],
            [
                self.sentence.terms,
                *(e.terms for e in self.sentence.each),
                *(e.vary for e in self.sentence.each),
                *self.sentence.lets,
            ],
        )
        while stack:
            item: Any = stack.pop()
            if (
                isinstance(item, tree.Call)
                and item.function == "category"
                and isinstance(item.arguments[0], tree.Column)
            ):
                found.append(item.arguments[0].name)
            if isinstance(item, (tuple, list)):
                stack += item
            elif hasattr(item, "__dataclass_fields__"):
                stack += [getattr(item, f) for f in item.__dataclass_fields__]
        return found

    def _wants(self, table: Table, wanted: dict[str, Learner]) -> list[Learner]:
        """Learners of figures not yet known whose own arguments are; found on the first piece of a sweep."""
        if not wanted:
            for factor in self._factors():
                maker = self._maker(table)
                try:
                    maker.make(factor)
                except Wanted as w:
                    wanted.setdefault(w.call.written, Learner(w.call, self._maker))
                except OrchardError:
                    pass  # what is wrong with a piece is told where its columns are made
        return list(wanted.values())

    def _factors(self) -> list[Any]:
        s = self.sentence
        terms = [*s.terms, *(t for e in s.each for t in (*e.terms, *e.vary))]
        value = s.outcome.value
        own = [] if isinstance(value, tree.Column) else [value]
        return [*(f for t in terms for f in t.factors if transforms(f)), *own]

    def _maker(self, table: Table) -> PieceMaker:
        return PieceMaker(
            table, self.memory, self.options.baselines, learn=False, text=self.sentence.source, meanings=self.meanings
        )

    def _order_levels(self) -> None:
        """Levels of categories in natural order, the baseline first."""
        for column, levels in self.levels.items():
            if self.memory["kinds"].get(column) == "category" or column in self._told:
                labels = Labels(np.arange(len(levels)), levels.raw)
                maker = ColumnMaker(Table({}, self.pieces.source, 0), self.memory, self.options.baselines)
                self.memory[f"levels of {column}"] = maker._with_baseline(column, labels.ordered[0])

    # -- the second sweep

    def _piece(self, table: Table) -> _Piece:
        maker, sentence = self._maker(table), self.sentence
        offsets, plain = split_offsets(sentence.terms, maker)
        fixed = fixed_part(plain, sentence, maker, "gaussian")
        clauses = [build_part(e.terms, False, maker) for e in sentence.each]
        varied = [columns_that_vary(e.vary, maker) for e in sentence.each]
        value = sentence.outcome.value
        y = (
            maker.numbers(value.name)
            if isinstance(value, tree.Column)
            else maker.numeric(value, "the outcome").values[0]
        )
        columns: dict[str, Array] = {}
        for part in [fixed, *clauses, *(v for v in varied if v is not None)]:
            for name, values in zip(part.names, part.values):
                if name != "intercept":
                    columns[name] = values
        numeric: dict[str, Numeric] = {}
        for term in plain:
            own = {f.written: m for f in term.factors for m in [maker.make(f)] if isinstance(m, Numeric)}
            numeric |= own
            if len(own) > 1 and len(own) < len(term.factors):
                raise OrchardError(
                    f"{term}: a product of two numbers and a category needs rows in memory, and they are larger than --memory; {WAY_OUT}"
                )
        for made in numeric.values():
            for name, values in zip(made.names, made.values):
                columns.setdefault(name, values)
        if offsets is not None:
            columns["(offset)"] = offsets
        columns["(outcome)"] = y
        raw = {
            c.name: table.numbers(c.name)
            for c in tree.columns_of(sentence.terms, units=False)
            if table.kind(c.name) == "number" and c.name not in self.levels
        }
        for name, values in raw.items():
            columns.setdefault(name, values)
        codes = [self.levels[c].codes(table.labels(c)) for c in self.levels]
        return _Piece(columns, codes, (fixed, clauses, varied), raw, numeric)

    def sum(self) -> None:
        """Number, means and products of every cell."""
        self.shape: _Piece | None = None
        sizes = [len(x) for x in self.levels.values()]
        if np.prod([float(s) for s in sizes]) > 2**62:
            raise OrchardError(
                "the levels of all units and categories have too many combinations to be numbered; leave one out"
            )
        self.sizes, waiting, held = sizes, [], 0
        kept: tuple[Array, Array] | None = None
        for table in self._tables():
            piece = self._piece(table)
            if self.shape is None:
                self.shape = piece
                self.names = list(piece.columns)
                self.centre = np.array([v.mean() for v in piece.columns.values()])
                self.size = np.array([v.std() or 1.0 for v in piece.columns.values()])
            key = np.zeros(len(table), dtype=np.int64)
            for size, codes in zip(sizes, piece.codes):
                key = key * size + codes
            x = [(piece.columns[n] - c) / s for n, c, s in zip(self.names, self.centre, self.size)]
            waiting.append(summed(key, x))
            held += len(waiting[-1][0])
            if held > MERGE:
                kept = merged([*([kept] if kept is not None else []), *waiting])
                waiting, held = [], 0
        self.cells = merged([*([kept] if kept is not None else []), *waiting])

    # -- rows that stand for the cells

    def design(self, family: str, link: str) -> Design:
        keys, sums = self.cells
        values, cell, counts, still = rows_of(sums, len(self.names))
        values = values * self.size[:, None] + self.centre[:, None]
        columns = {n: _steady(v, own) for n, v, own in zip(self.names, values, still)}
        return self._put_together(family, link, keys, cell, columns, counts, sums[0])

    def _put_together(
        self, family: str, link: str, keys: Array, cell: Array, columns: dict[str, Array], counts: Array, count: Array
    ) -> Design:  # fmt: skip
        assert self.shape is not None
        codes, left = {}, keys.copy()
        for name, size in reversed(list(zip(self.levels, self.sizes))):
            codes[name] = (left % size).astype(np.intp)
            left //= size
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
                constant if name == "intercept" else self._column(name, v, columns, n)
                for name, v in zip(p.names, p.values)
            )
            return replace(p, values=made)

        fixed, clause_parts, varied = self.shape.parts
        rows_of = {str(e.unit): None for e in self.sentence.each}
        units = {name: self._unit(name, codes, cell, count) for name in rows_of}
        clauses, blocks = self._clauses(
            units, [part(p) for p in clause_parts], [None if v is None else part(v) for v in varied]
        )
        offset = columns.get("(offset)")
        y = columns["(outcome)"]
        notes = [
            *self.sentence.notes,
            f"{self.used:,} rows were summed in pieces: {len(keys):,} cells of the same levels stand for them.",
        ]
        design = Design(
            self.sentence, table, y if offset is None else y - offset, part(fixed), offset, counts, tuple(units.values()), clauses, blocks,
            ResidualPart("independent"), self.memory,
            {"read": self.read, "used": self.used, "dropped": [{"column": c, "rows": r} for c, r in self.dropped.items()], "filled": []},
            (*notes, *check_baselines(self.options.baselines, self.sentence, table)), self.meanings, family, link,
            counts=counts,
            prepared={
                k: replace(v, values=tuple(columns[n] for n in v.names)) for k, v in self.shape.numeric.items()
            },
        )  # fmt: skip
        for unit in units.values():
            if unit.size == self.used:
                raise OrchardError(
                    f"'{unit.name}' has as many levels as there are rows ({unit.size:,}), so its effects cannot be told from the residual"
                )
        own = [*validation.units_and_slopes(design, self.options.force), *validation.varying(design)]
        return replace(design, notes=(*design.notes, *own))

    def _column(self, name: str, example: Array, columns: dict[str, Array], n: int) -> Array:
        return columns[name] if name in columns else np.full(n, float(example[0]))

    def _unit(self, name: str, codes: dict[str, Array], cell: Array, count: Array) -> UnitCodes:
        """Levels of a unit over the rows that stand for the cells; its counts are those of the rows themselves."""
        unit = next(e.unit for e in self.sentence.each if str(e.unit) == name)
        joint = np.zeros(len(cell) and len(count), dtype=np.int64)
        for c in unit.columns:
            joint = joint * len(self.levels[c.name]) + codes[c.name]
        found, own = np.unique(joint, return_inverse=True)
        first = np.zeros(len(found), dtype=np.intp)
        first[own[::-1]] = np.arange(len(own))[::-1]
        parts = tuple(
            (Labels(np.zeros(0, dtype=np.intp), self.levels[c.name].raw), codes[c.name][first]) for c in unit.columns
        )
        made = UnitCodes(name, own[cell].astype(np.intp), len(found), parts)
        made.__dict__["counts"] = np.bincount(own, count, minlength=len(found)).astype(np.intp)
        return made

    def _clauses(
        self, units: dict[str, UnitCodes], parts: list[ModelMatrix], varied: list[ModelMatrix | None]
    ) -> tuple[tuple[Clause, ...], tuple[Block, ...]]:
        from bold_orchard.design.build import clauses_over

        return clauses_over(self.sentence, units, parts, varied)


def _steady(values: Array, still: Array) -> Array:
    """What is constant in a cell rounded to DIGITS digits, so that it is the same number in every cell of its unit."""
    size = float(np.abs(values).max(initial=0.0))
    places = DIGITS - int(np.floor(np.log10(size))) if size > 0 else DIGITS
    return np.where(still, np.round(values, places), values) if abs(places) < 300 else values
