"""One reading instead of two, where nothing must be learned of all rows before they are summed: one unit, numbered levels."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_orchard.data.columns import Texts
from bold_orchard.data.sums_of_cells import NumberedSums
from bold_orchard.data.table import Table
from bold_orchard.design.build import check_columns
from bold_orchard.design.engines import Engine
from bold_orchard.design.levels import Levels
from bold_orchard.sentence import tree

Sweeps = Any  # of design.sweeps, which asks here first


class TwoNeeded(Exception):
    """Something in the rows asks for two readings after all."""


def in_one_sweep(made: Sweeps, engine: Engine, report: Any) -> bool:
    """Levels, counts and sums of all parts by one reading; False, with nothing changed, where two are needed."""
    first = next(made.pieces.tables())
    check_columns(made.sentence, first)
    first = made._complete(first, False)
    if not len(first) or not _simple(made, first):
        return False
    made.begin(first)
    jobs = [(job,) for job in made.runs()]
    try:
        said, sums = engine.joined(both_of_part, jobs, joined_two, lambda done: report(done, len(jobs)))
    except TwoNeeded:
        made.forget()
        return False
    made._take_up(said, said, True)
    made.check_seen()
    keys, totals = sums.result()
    unit = made.unit_columns[0]
    made.levels = {unit: Levels()}
    made.levels[unit].tick(keys)
    made.sizes, made.cells = [len(keys)], (np.arange(len(keys)), totals)
    return True


def _simple(made: Sweeps, first: Table) -> bool:
    """One unit of whole numbers, every other column a number, and nothing that is learned."""
    if len(made.unit_columns) != 1 or made._told or made.options.baselines:
        return False
    unit = made.unit_columns[0]
    if not _whole(first, unit) or unit in {c.name for c in tree.columns_of(made.sentence.terms, units=False)}:
        return False
    kinds = {first.kind(c) for c in made.pieces.used if first.has(c)}
    return kinds == {"number"} and not made._wants(first, {})


def _whole(table: Table, column: str) -> bool:
    values = table.column(column)
    return not isinstance(values, Texts) and values.dtype.kind in "iu"


def both_of_part(job: Sweeps) -> tuple[Sweeps, NumberedSums]:
    """Kinds, counts and sums of some files, wherever this runs. Raises TwoNeeded."""
    unit = job.unit_columns[0]
    sums = NumberedSums(job.centre, job.size)
    for table in job._tables(count=True):
        job.note_kinds(table)
        if not _whole(table, unit) or "category" in job.memory["kinds"].values():
            raise TwoNeeded
        piece = job._piece(table)
        try:
            sums.add(np.asarray(table.column(unit)), [piece.columns[n] for n in job.names])
        except OverflowError:
            raise TwoNeeded from None
    job.shape = None
    return job, sums


def joined_two(a: tuple[Sweeps, NumberedSums], b: tuple[Sweeps, NumberedSums]) -> tuple[Sweeps, NumberedSums]:
    """What two runs of files say together."""
    a[0]._take_up(b[0], b[0], True)
    try:
        return a[0], a[1].joined(b[1])
    except OverflowError:
        raise TwoNeeded from None
