"""Columns that lie on disk and are mapped into memory: rows of pieces that must be at hand, yet are more than memory should hold.

The files have no name (a process that ends, however it ends, leaves nothing behind); they lie where temporary files do.
"""

from __future__ import annotations

import dataclasses
import tempfile
from collections.abc import Sequence
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Column, Columns, Texts, taken
from bold_orchard.data.evaluate import Asked, check_asked, nothing_left
from bold_orchard.data.pieces import Pieces
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError
from bold_orchard.progress import silent

Array = NDArray[Any]


def full(e: OSError) -> OrchardError:
    """What a disk without room is told as."""
    return OrchardError(
        f"the rows need room on disk and {tempfile.gettempdir()} has none ({e.strerror or e}); set TMPDIR to another folder, or give "
        "more --memory"
    )


class NumbersOnDisk:
    """A nameless file of numbers of one kind, written at its end and then mapped."""

    def __init__(self) -> None:
        self.file: BinaryIO = tempfile.TemporaryFile()  # noqa: SIM115 - it lives as long as its numbers
        self.kind: np.dtype[Any] | None = None
        self.n = 0

    def add(self, values: Array) -> None:
        """More numbers; where whole ones are followed by broken ones, all are broken ones from then on."""
        kind = np.dtype(np.int64 if values.dtype.kind in "iu" else np.float64)
        if self.kind is not None and kind != self.kind:
            if self.kind == np.int64:
                earlier = self.mapped()
                self.__init__()  # type: ignore[misc]
                for at in range(0, len(earlier), 1 << 20):
                    self.add(earlier[at : at + (1 << 20)].astype(np.float64))
            kind = np.dtype(np.float64)
        self.kind = kind
        np.ascontiguousarray(values, dtype=kind).tofile(self.file)
        self.n += len(values)

    def mapped(self) -> Array:
        """All of them, (n,), read only."""
        self.file.flush()
        if not self.n:
            return np.zeros(0, dtype=self.kind or np.float64)
        return np.asarray(np.memmap(self.file, self.kind or np.float64, "r", shape=(self.n,)))


def laid_down(values: Array) -> Array:
    """An array moved to disk."""
    numbers = NumbersOnDisk()
    try:
        numbers.add(values)
        return numbers.mapped()
    except OSError as e:
        raise full(e) from None


class OnDisk(Columns):
    """Columns on disk; rows taken from them go there too."""

    def take(self, keep: Array) -> Columns:
        n = int(np.count_nonzero(keep)) if keep.dtype == bool else len(keep)

        def load(names: Sequence[str]) -> dict[str, Column]:
            made: dict[str, Column] = {}
            for name in names:
                own = taken(self[name], keep)
                made[name] = (
                    Texts(laid_down(own.codes), own.raw, own.order) if isinstance(own, Texts) else laid_down(own)
                )
            return made

        return OnDisk(self.names, n, {}, load)


class _Growing:
    """One column of pieces: numbers, or texts numbered as they appear."""

    def __init__(self) -> None:
        self.numbers, self.lacking = NumbersOnDisk(), 0
        self.place: dict[Any, int] = {}
        self.text: bool | None = None  # not known while every cell is missing

    def add(self, column: Column, empty: bool) -> None:
        if empty and self.text is None:
            self.lacking += len(column)
            return
        if self.text is None:
            self.text = isinstance(column, Texts)
            gap = np.full(self.lacking, -1) if self.text else np.full(self.lacking, np.nan)
            if self.lacking:
                self.numbers.add(gap)
        if not self.text:
            self.numbers.add(np.full(len(column), np.nan) if isinstance(column, Texts) else column)
        elif isinstance(column, Texts):
            own = self.place
            to = np.array([*(own.setdefault(t, len(own)) for t in column.raw.tolist()), -1], dtype=np.int64)
            self.numbers.add(to[column.codes])
        else:
            self.numbers.add(np.full(len(column), -1))

    def made(self, n: int) -> Column:
        if self.text is None:
            return np.full(n, np.nan)
        if not self.text:
            return self.numbers.mapped()
        raw = np.empty(len(self.place), dtype=object)
        raw[:] = list(self.place)
        return Texts(self.numbers.mapped(), raw)


def table_on_disk(pieces: Pieces, used: Sequence[str], report: Any) -> Table:
    """All rows of the pieces that the filter keeps, with the ``used`` columns on disk.

    Raises OrchardError for parts that do not go together, a filter that leaves nothing, a disk without room.
    """
    asked: Asked = {}
    names: list[str] = []
    growing: dict[str, _Growing] = {}
    numbers, read, n = NumbersOnDisk(), 0, 0
    try:
        for table in pieces.tables(asked):
            names = names or table.columns
            for name in (c for c in dict.fromkeys(used) if table.has(c)):
                growing.setdefault(name, _Growing()).add(table.column(name), table.kind(name) == "empty")
            if pieces.where is not None:
                numbers.add(table.row_numbers + read)
            read, n = read + table.read, n + len(table)
            report(read, None)
        held = {name: column.made(n) for name, column in growing.items()}
        rows = numbers.mapped() if pieces.where is not None else None
    except OSError as e:
        raise full(e) from None
    if pieces.where is not None:
        check_asked(asked, pieces.where)
        if not n:
            raise nothing_left(pieces.source, pieces.where)

    def load(wanted: Sequence[str]) -> dict[str, Column]:
        more = dataclasses.replace(pieces, used=(*wanted, *used))
        return table_on_disk(more, more.used, silent).data.several(wanted)

    data = OnDisk(names, n, held, load)
    return Table(data, pieces.source, read, rows, pieces.missing, parts=len(pieces.paths))
