"""A table larger than memory, read a piece at a time: only the columns used, a bounded number of rows."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.arrow import COLUMNAR, NotForArrow, arrow_column
from bold_orchard.data.columns import Column, Columns
from bold_orchard.data.evaluate import Asked, filter_piece
from bold_orchard.data.header import MISSING, missing_by_column
from bold_orchard.data.parts import joined, parts_of
from bold_orchard.data.read import read_bytes, read_table
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.machine import memory

Array = NDArray[Any]
ROWS = 1_000_000  # rows of a columnar file held at once: some tens of megabytes
LOOKED_AT, MOST_LOOKED_AT = 500_000, 16  # rows, and files they are taken from, where some rows stand for all
BYTES = 32 << 20  # of a text file held at once
TEXT = (".csv", ".tsv", ".tab", ".txt")
GROWTH = 6.0  # bytes in memory for a byte of packed columns, or twice that of text


@dataclass(frozen=True)
class Pieces:
    """The files ``paths`` with the columns ``used``; ``missing`` codes and the filter ``where`` as ``read_table`` takes them."""

    source: str
    paths: tuple[Path, ...]
    used: tuple[str, ...]
    missing: tuple[str, ...] = ()
    where: str | None = None

    def tables(self, asked: Asked | None = None) -> Iterator[Table]:
        """Pieces in order, each with all used columns, filtered (some to nothing); ``asked`` learns which levels of the filter were met. Raises OrchardError for a part unlike the first, by name."""
        first: Table | None = None
        for path in self.paths:
            for table in self._of_file(path):
                lost = [c for c in self.used if not table.has(c)]
                if first is not None and (lost and first.has(lost[0])):
                    raise OrchardError(
                        f"{path.name} lacks {lost[0]}, unlike {self.paths[0].name}; all parts must have the same columns"
                    )
                first = first or table
                _same_kinds(first, table, self.paths[0], path, self.used)
                yield table if self.where is None else filter_piece(table, self.where, {} if asked is None else asked)

    def some_rows(self) -> Table:
        """The first rows of files all along the list, filtered, with every column: enough to see what groups what."""
        step = -(-len(self.paths) // MOST_LOOKED_AT)
        paths = self.paths[::step]
        names = tuple(next(replace(self, where=None).tables()).columns)
        tables = []
        for path in paths:
            one = next(replace(self, paths=(path,), used=names).tables())
            tables.append(one.take(np.arange(min(len(one), LOOKED_AT // len(paths)))))
        return Table(
            Columns(names, sum(map(len, tables)), {c: joined(c, paths, tables) for c in names}),
            self.source,
            sum(map(len, tables)),
        )

    def _of_file(self, path: Path) -> Iterator[Table]:
        if path.suffix.lower() in TEXT and path.is_file() and path.stat().st_size > 2 * BYTES:
            yield from _runs(path, self.missing, self.used)
            return
        if path.suffix.lower() not in COLUMNAR:
            yield read_table(path, self.missing, None, self.used)
            return
        try:
            yield from _batches(path, self.used, self.missing)
        except NotForArrow:
            yield read_table(path, self.missing, None, self.used)


def _runs(path: Path, missing: Sequence[str], used: Sequence[str]) -> Iterator[Table]:
    """Runs of whole lines of a text file, each under the file's own header."""
    with path.open("rb") as f:
        header = f.readline()
        while True:
            lines = f.read(BYTES)
            if not lines:
                return
            run = b"".join((header, lines, f.readline()))
            while run.count(b'"') % 2 != header.count(b'"') % 2:  # a cell in quotes may hold the end of a line
                more = f.readline()
                if not more:
                    break
                run += more
            yield read_bytes(run, path.name, missing, used)


def _same_kinds(first: Table, table: Table, one: Path, two: Path, used: Sequence[str]) -> None:
    for c in used:
        if first.has(c) and table.has(c):
            kinds = first.kind(c), table.kind(c)
            if "empty" not in kinds and kinds[0] != kinds[1]:
                words = {"number": "numbers", "category": "text"}
                raise OrchardError(
                    f"'{c}' holds {words[kinds[0]]} in {one.name} and {words[kinds[1]]} in {two.name}; mend one of them"
                )


def _batches(path: Path, used: Sequence[str], missing: Sequence[str]) -> Iterator[Table]:
    """Runs of rows of a Parquet or Arrow file."""
    import pyarrow as pa
    from pyarrow import parquet

    try:
        if path.suffix.lower() in (".parquet", ".pq"):
            file = parquet.ParquetFile(path, memory_map=True)
            names = list(file.schema_arrow.names)
            batches: Any = file.iter_batches(ROWS, columns=[n for n in names if n.strip() in used])
        else:
            whole = pa.ipc.open_file(pa.memory_map(str(path)))
            names = list(whole.schema.names)
            batches = (
                whole.get_batch(i).select([n for n in names if n.strip() in used])
                for i in range(whole.num_record_batches)
            )
        header = [n.strip() for n in names]
        by_column = missing_by_column(missing, header, path.name)
        everywhere = [*MISSING, *by_column.pop("", [])]
        for batch in batches:
            held: dict[str, Column] = {
                name.strip(): arrow_column(pa.chunked_array([column]), [*everywhere, *by_column.get(name.strip(), [])])
                for name, column in zip(batch.schema.names, batch.columns)
            }
            yield Table(Columns(header, batch.num_rows, held), path.name, batch.num_rows, missing=tuple(missing))
    except (pa.ArrowInvalid, OSError) as e:
        raise OrchardError(f"{path.name} cannot be read as {path.suffix[1:]}: {str(e).splitlines()[0]}") from None


def pieces_of(source: str, used: Sequence[str], missing: Sequence[str], where: str | None) -> Pieces:
    """The pieces of a file, a folder or a pattern."""
    paths = parts_of(source) or [Path(source)]
    return Pieces(source, tuple(paths), tuple(used), tuple(missing), where)


def needed(source: str, used: Sequence[str]) -> int:
    """About how many bytes the used columns take in memory: of columnar files by their own account, of others by their size."""
    total = 0
    for path in parts_of(source) or [Path(source)]:
        suffix = path.suffix.lower()
        if suffix in (".parquet", ".pq"):
            total += _of_parquet(path, used)
        elif path.is_file():
            packed = suffix in (".gz", ".zst")
            total += int(path.stat().st_size * (2 * GROWTH if packed else 1.0))
    return total


def _of_parquet(path: Path, used: Sequence[str]) -> int:
    import pyarrow as pa
    from pyarrow import parquet

    try:
        meta = parquet.ParquetFile(path).metadata
    except (pa.ArrowInvalid, OSError):
        return 0  # told where it is read
    return (
        int(meta.num_rows)
        * 8
        * max(sum(meta.schema.column(i).name.strip() in used for i in range(meta.num_columns)), 1)
    )


def quarter_of_memory() -> int:
    """The default of ``--memory``: a quarter of what this process may use, in bytes."""
    return memory() // 4


UNITS = {"": 1, "b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}
LEAST = 10**6  # bytes below which nothing can be read


def bytes_of(memory: str | int) -> int:
    """2GB as a number of bytes; raises UsageError for what is no size."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kmgt]?b?)\s*", str(memory).lower())
    unit = "" if match is None else match.group(2)
    unit = unit if unit.endswith("b") or not unit else unit + "b"
    if match is None or unit not in UNITS:
        raise UsageError(f"--memory is written 2GB or 500MB, not '{memory}'")
    made = int(float(match.group(1)) * UNITS[unit])
    if made < LEAST:
        raise UsageError(f"--memory {memory} is too little to read anything; give 1MB or more")
    return made
