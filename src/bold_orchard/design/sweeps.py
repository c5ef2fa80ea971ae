"""A design made of pieces: one sweep learns levels, means and missing cells, one sums every cell's rows, and the sums become rows again.

A cell is a combination of levels of all units and categories. A gaussian likelihood knows its rows by their number, means and products
alone, so that r + 1 rows of equal weight with the cell's own means and products (a simplex; r numeric columns) stand for all of them
exactly. Sums of pieces merge by addition around one centre (Chan, Golub & LeVeque 1979), in the order of the pieces.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.codes import Seen, see
from bold_orchard.data.evaluate import Asked, check_asked, nothing_left
from bold_orchard.data.on_disk import table_on_disk
from bold_orchard.data.pieces import Pieces
from bold_orchard.data.sums_of_cells import CellSums
from bold_orchard.data.table import Labels, Table
from bold_orchard.design import validation
from bold_orchard.design.beyond_sums import WAY_OUT, RowsNeeded, asks_for_rows, check_in_pieces, check_nested
from bold_orchard.design.build import (
    build_design,
    check_columns,
    columns_that_vary,
    fixed_part,
    model_columns,
    split_offsets,
)
from bold_orchard.design.design import Design, Options
from bold_orchard.design.engines import Engine
from bold_orchard.design.learned_in_pieces import Learner, PieceMaker, Wanted, transforms
from bold_orchard.design.levels import Levels
from bold_orchard.design.made_columns import dates_of, with_dates
from bold_orchard.design.model_matrix import ModelMatrix, build_part
from bold_orchard.design.of_cells import design_of_cells
from bold_orchard.design.one_sweep import in_one_sweep
from bold_orchard.design.response import family_and_link
from bold_orchard.design.transformations import ColumnMaker, Numeric
from bold_orchard.errors import OrchardError
from bold_orchard.families import family_of
from bold_orchard.sentence import tree

Array = NDArray[Any]
Progress = Callable[..., None]
MOST_PARTS = 32  # sums of so many runs of files are joined, whoever makes them


def design_of_pieces(
    sentence: tree.Sentence, pieces: Pieces, options: Options, report: Progress, engine: Engine | None = None
) -> Design:
    """The design that stands for all rows of the pieces, summed by an ``engine``: here (default), or on a cluster.

    Where sums are not enough, the rows are laid down on disk. Raises OrchardError for sentences that need them in memory.
    """
    family, link = family_and_link(sentence, options.family, options.link)
    check_in_pieces(sentence)
    engine = engine or Engine()
    asks = asks_for_rows(sentence, family, link, options)
    if asks is None:
        made = _Sweeps(sentence, pieces, options)
        try:
            if not in_one_sweep(made, engine, report):
                made.learn(engine, report)
                made.sum(engine, report)
            return replace(design_of_cells(made, family, link), engine=(engine.name, engine.workers))
        except RowsNeeded as e:
            asks = str(e)
    if engine.name == "cluster":
        raise OrchardError(
            f"{asks} needs more than sums of rows, and sums are all that a cluster makes; leave --cluster out"
        )
    additive = family_of(family, link, bool(sentence.outcome.limits)).additive
    if not additive and len({str(e.unit) for e in sentence.clauses}) > 1:
        check_nested(sentence, pieces.some_rows())
    design = design_on_disk(sentence, pieces, options, report)
    note = f"{asks[0].upper()}{asks[1:]} needs more than sums of rows: {len(design.y):,} rows were laid down on disk."
    return replace(design, notes=(*design.notes, note))


def design_on_disk(sentence: tree.Sentence, pieces: Pieces, options: Options, report: Progress) -> Design:
    """The design of all rows of the pieces, its columns on disk. Raises OrchardError for sentences that need them in memory."""
    check_in_pieces(sentence)
    return replace(build_design(sentence, table_on_disk(pieces, pieces.used, report), options), engine=("pieces", 1))


@dataclass
class _Piece:
    """One piece as the model sees it: columns by name, codes by label column, parts, raw numbers, numeric factors as written."""

    columns: dict[str, Array]
    codes: list[Array]
    parts: tuple[ModelMatrix, list[ModelMatrix], list[ModelMatrix | None]]
    raw: dict[str, Array]
    numeric: dict[str, Numeric]


class _Sweeps:
    """What is known of all pieces; ``part`` is the same for one of the files, as a worker has it."""

    def __init__(self, sentence: tree.Sentence, pieces: Pieces, options: Options) -> None:
        self.sentence, self.pieces, self.options = sentence, pieces, options
        self.memory: dict[str, Any] = {}
        self.meanings: dict[str, str] = {}
        self.read = self.used = 0
        self.asked: Asked = {}
        self.dropped: dict[str, int] = {}
        self.values: set[float] = set()
        self.seen: dict[str, Seen] = {}
        self.levels: dict[str, Levels] = {}
        units = [c.name for e in sentence.clauses for c in e.unit.columns]
        self.unit_columns = list(dict.fromkeys(units))
        self.learners: dict[str, Learner] = {}
        self.names: list[str] = []
        self.centre = self.size = np.zeros(0)
        self.sizes: list[int] = []
        self.shape: _Piece | None = None

    def part(self, k: int, count: int = 1) -> _Sweeps:
        """The same over ``count`` files from number k, with nothing counted yet."""
        out = copy.copy(self)
        out.pieces = replace(self.pieces, paths=self.pieces.paths[k : k + count])
        out.memory = {**self.memory, "kinds": {}} if not self.used else self.memory
        out.read, out.used, out.shape = 0, 0, None
        out.dropped, out.learners, out.asked, out.values, out.seen = {}, {}, {}, set(), {}
        out.levels = {} if not self.used else self.levels
        return out

    def _complete(self, table: Table, count: bool) -> Table:
        """The rows that have all cells; what is lost is counted once."""
        sentence = self.sentence
        columns = [c.name for c in tree.columns_of((sentence.outcome, sentence.terms, sentence.clauses))]
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
        for found in self.pieces.tables(self.asked):
            self.meanings |= dates_of(self.sentence, found)
            table = with_dates(self.sentence, found)
            if count:
                self.read += table.read
                check_columns(self.sentence, table)
                self.values = validation.few_values(self.sentence, table, self.values)
            used = self._complete(table, count)
            if count:
                self.used += len(used)
                see(used, model_columns(self.sentence, None), self.seen)
            if len(used):
                yield used

    # -- the first sweep, once more for every figure that rests on another

    def learn(self, engine: Engine, report: Progress) -> None:
        """Levels and missing cells, then means, minima and SDs that transformations learn."""
        first, known = True, set(self.memory)
        while True:
            jobs = [self.part(k) for k in range(len(self.pieces.paths))]
            wanted: dict[str, Learner] = {}
            for job, made in zip(jobs, engine.each(learned_of_part, [(job, first) for job in jobs])):
                self._take_up(made, job, first)
                for key, learner in made.learners.items():
                    wanted[key] = learner if key not in wanted else wanted[key].joined(learner)
                report(self.read, None)
            first = False
            if not wanted:
                break
            if not set(wanted) - known:
                raise OrchardError(f"{next(iter(wanted))} cannot be learned in pieces; {WAY_OUT}")
            known |= set(wanted)
            self.memory |= {key: learner.result() for key, learner in wanted.items()}
        self.check_seen()
        if not self.used:
            left = sum(self.dropped.values())
            if self.pieces.where is not None and not left:
                raise nothing_left(self.pieces.source, self.pieces.where)
            raise OrchardError(f"no row of {self.pieces.source} is complete")
        self._order_levels()

    def check_seen(self) -> None:
        """Raise OrchardError for levels of the filter that no piece has, an outcome of two values only."""
        if self.pieces.where is not None:
            check_asked(self.asked, self.pieces.where)
        if len(self.values) == 2:
            column = tree.columns_of(self.sentence.outcome)[0].name
            both = Table({column: np.array(sorted(self.values))}, self.pieces.source, 2)
            validation.outcome_kind(self.sentence, both, self.options.family, "gaussian")

    def _take_up(self, made: _Sweeps, job: _Sweeps, first: bool) -> None:
        """What one part says, counted in the order of the parts."""
        self.meanings |= made.meanings
        if not first:
            return
        self.read, self.used = self.read + made.read, self.used + made.used
        self.values |= made.values
        for column, values in made.seen.items():
            self.seen.setdefault(column, Seen()).join(values)
        for key, (found, place) in made.asked.items():
            self.asked[key] = (found or self.asked.get(key, (False,))[0], place)
        for column, rows in made.dropped.items():
            self.dropped[column] = self.dropped.get(column, 0) + rows
        kinds = self.memory.setdefault("kinds", {})
        for column, kind in made.memory["kinds"].items():
            before = kinds.get(column, "empty")
            if "empty" not in (before, kind) and before != kind:
                words, name = {"number": "numbers", "category": "text"}, job.pieces.paths[0].name
                raise OrchardError(
                    f"'{column}' holds {words[before]} in the parts before {name} and {words[kind]} in {name}; mend one of them"
                )
            kinds[column] = before if before != "empty" else kind
        for column, levels in made.levels.items():
            self.levels.setdefault(column, Levels()).take_up(levels)

    def learn_here(self, first: bool) -> None:
        """One part's say, for its own pieces."""
        for table in self._tables(count=first):
            if first:
                self._see(table)
            for learner in self._wants(table, self.learners):
                learner.add(table, self._maker)

    def _see(self, table: Table) -> None:
        """Kinds of the columns and labels of units and text columns."""
        self.note_kinds(table)
        for column in self.pieces.used:
            if not table.has(column):
                continue
            if column in self.unit_columns or table.kind(column) == "category" or column in self._told:
                self.levels.setdefault(column, Levels()).see(table, column)

    def note_kinds(self, table: Table) -> None:
        """What the columns hold, by the first piece that shows it."""
        kinds = self.memory.setdefault("kinds", {})
        for column in self.pieces.used:
            if table.has(column) and kinds.get(column, "empty") == "empty":
                kinds[column] = table.kind(column)

    @property
    def _told(self) -> list[str]:
        """Numbers that the sentence takes for categories."""
        s = self.sentence
        called = tree.calls_of((s.terms, [(e.terms, e.vary) for e in s.clauses], s.lets))
        arguments = [c.arguments[0] for c in called if c.function == "category"]
        return [a.name for a in arguments if isinstance(a, tree.Column)]

    def _wants(self, table: Table, wanted: dict[str, Learner]) -> list[Learner]:
        """Learners of figures not yet known whose own arguments are; found on the first piece of a sweep."""
        if not wanted:
            for factor in self._factors():
                maker = self._maker(table)
                try:
                    maker.make(factor)
                except Wanted as w:
                    wanted.setdefault(w.call.written, Learner(w.call))
                except OrchardError:
                    pass  # what is wrong with a piece is told where its columns are made
        return list(wanted.values())

    def _factors(self) -> list[Any]:
        s = self.sentence
        terms = [*s.terms, *(t for e in s.clauses for t in (*e.terms, *e.vary))]
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
        clauses = [build_part(e.terms, False, maker) for e in sentence.clauses]
        varied = [columns_that_vary(e.vary, maker) for e in sentence.clauses]
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
                raise RowsNeeded(f"{term}, a product of two numbers and a category,")
        for made in numeric.values():
            for name, values in zip(made.names, made.values):
                columns.setdefault(name, values)
        if offsets is not None:
            columns["(offset)"] = offsets
        columns["(outcome)"] = y
        raw = {
            c.name: table.numbers(c.name)
            for c in tree.columns_of((sentence.terms, [(e.terms, e.vary) for e in sentence.clauses]), units=False)
            if table.kind(c.name) == "number" and c.name not in self.levels
        }
        for name, values in raw.items():
            columns.setdefault(name, values)
        codes = [self.levels[c].codes(table, c) for c in self.levels]
        return _Piece(columns, codes, (fixed, clauses, varied), raw, numeric)

    def sum(self, engine: Engine, report: Progress) -> None:
        """Number, means and products of every cell."""
        self.sizes = [len(x) for x in self.levels.values()]
        if np.prod([float(s) for s in self.sizes]) > 2**62:
            raise OrchardError(
                "the levels of all units and categories have too many combinations to be numbered; leave one out"
            )
        self.begin(next(self._tables()))
        jobs = [(job,) for job in self.runs()]
        made: CellSums = engine.joined(sums_of_part, jobs, joined_sums, lambda done: report(done, len(jobs)))
        self.cells = made.result()

    def begin(self, first: Table) -> None:
        """The shape of the columns, and what is taken off them, by the first piece."""
        self.shape = self._piece(first)
        self.names = list(self.shape.columns)
        self.centre = np.array([v.mean() for v in self.shape.columns.values()])
        self.size = np.array([v.std() or 1.0 for v in self.shape.columns.values()])

    def runs(self) -> list[_Sweeps]:
        """The same over runs of files, as many whoever reads them."""
        together = -(-len(self.pieces.paths) // MOST_PARTS)
        return [self.part(k, together) for k in range(0, len(self.pieces.paths), together)]

    def forget(self) -> None:
        """As before any row was counted."""
        self.read = self.used = 0
        self.asked, self.dropped, self.levels, self.memory, self.meanings = {}, {}, {}, {}, {}
        self.values, self.seen = set(), {}

    def sum_here(self) -> CellSums:
        """The sums of one part, for its own pieces."""
        made = CellSums(int(np.prod(self.sizes, dtype=np.int64)), self.centre, self.size)
        for table in self._tables():
            piece = self._piece(table)
            key = piece.codes[0] if piece.codes else np.zeros(len(table), dtype=np.int64)
            for size, codes in zip(self.sizes[1:], piece.codes[1:]):
                key = key * size + codes
            made.add(key, [piece.columns[n] for n in self.names])
        return made


def learned_of_part(job: _Sweeps, first: bool) -> _Sweeps:
    """The first sweep over one part, wherever it runs."""
    job.learn_here(first)
    return job


def sums_of_part(job: _Sweeps) -> CellSums:
    """The second sweep over one part, wherever it runs."""
    return job.sum_here()


def joined_sums(a: CellSums, b: CellSums) -> CellSums:
    """Those of two runs of files."""
    return a.joined(b)
