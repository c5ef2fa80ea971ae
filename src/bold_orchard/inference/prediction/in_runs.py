"""Predictions of more rows than should be held at once: run by run, the answers on disk where the rows are."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Column, Columns, Texts, taken
from bold_orchard.data.on_disk import NumbersOnDisk, OnDisk, full
from bold_orchard.data.table import Table

Array = NDArray[Any]
AT_ONCE = 200_000  # rows of a run


def runs_of(table: Table) -> Iterator[Table]:
    """The rows in runs, in order; columns are taken when they are asked for."""
    rows = table.row_numbers if table.rows is not None else None
    for start in range(0, len(table), AT_ONCE):
        at = slice(start, min(start + AT_ONCE, len(table)))

        def load(names: Sequence[str], at: slice = at) -> dict[str, Column]:
            return {c: taken(table.column(c), at) for c in names}  # type: ignore[arg-type]

        data = Columns(table.columns, at.stop - at.start, {}, load)
        numbers = np.arange(at.start + 1, at.stop + 1) if rows is None else rows[at]
        yield Table(data, table.name, table.read, numbers, table.missing)


class Gathered:
    """Arrays of runs put together by name, in memory or, for a table on disk, there; kinds are those of the first run."""

    def __init__(self, table: Table) -> None:
        self.on_disk = isinstance(table.data, OnDisk)
        self.parts: dict[str, Any] = {}
        self.widths: dict[str, tuple[int, ...]] = {}

    def add(self, made: dict[str, Array]) -> None:
        """One run's arrays, each (rows, ...). Raises OrchardError for a disk without room."""
        try:
            for name, values in made.items():
                self.widths[name] = values.shape[1:]
                if self.on_disk:
                    self.parts.setdefault(name, NumbersOnDisk()).add(values.ravel())
                else:
                    self.parts.setdefault(name, []).append(values)
        except OSError as e:
            raise full(e) from None

    def result(self) -> dict[str, Array]:
        """All rows, each (n, ...)."""
        if self.on_disk:
            return {name: part.mapped().reshape(-1, *self.widths[name]) for name, part in self.parts.items()}
        return {name: np.concatenate(part) for name, part in self.parts.items()}


def by_runs(table: Table, values: Array, work: Callable[[Array], Array]) -> Array:
    """``work`` on runs of ``values`` (n, ...), put together."""
    gathered = Gathered(table)
    for start in range(0, max(len(values), 1), AT_ONCE):
        gathered.add({"": work(values[start : start + AT_ONCE])})
    return gathered.result()[""]


def texts_of(codes: Array, words: Sequence[str]) -> Texts:
    """A column of few texts."""
    raw = np.empty(len(words), dtype=object)
    raw[:] = list(words)
    return Texts(codes, raw)
