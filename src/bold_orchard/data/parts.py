"""A table that lies in several files: a folder of them, or a pattern; one file after the other, in natural order of their names."""

from __future__ import annotations

import glob
import hashlib
from collections.abc import Callable, Container, Sequence
from pathlib import Path

import numpy as np

from bold_orchard.data.columns import Column, Columns, Texts
from bold_orchard.data.natural_order import natural_order
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError

ENDINGS = (
    ".csv",
    ".tsv",
    ".tab",
    ".txt",
    ".parquet",
    ".pq",
    ".feather",
    ".arrow",
    ".xlsx",
    ".ods",
    ".jsonl",
    ".ndjson",
)
PACKED = (".gz", ".zst")
SIGNS = "*?["
MOST_LISTED = 3
Reader = Callable[[Path, Container[str]], Table]


def parts_of(source: str) -> list[Path] | None:
    """The files of a folder or a pattern; None for the name of one file.

    Raises OrchardError for a folder without tables and a pattern that matches nothing.
    """
    if not source:
        raise OrchardError("the name of the data is empty; give a file, a folder or a pattern")
    path = Path(source)
    if path.is_dir():
        found = [p for p in path.iterdir() if p.is_file() and not p.name.startswith(".") and _readable(p)]
        if not found:
            raise OrchardError(
                f"{path} is a folder without tables; it should hold CSV, Parquet or other files with the same columns"
            )
    elif not path.exists() and any(s in source for s in SIGNS):
        found = [p for p in map(Path, glob.glob(source, recursive=True)) if p.is_file()]
        if not found:
            raise OrchardError(f"no file matches {source}; check the pattern, and write it in quotes")
    else:
        return None
    return [found[i] for i in natural_order([str(p) for p in found])]


def _readable(path: Path) -> bool:
    suffix = path.suffix.lower()
    return suffix in ENDINGS or (suffix in PACKED and Path(path.stem).suffix.lower() in ENDINGS)


def read_parts(
    paths: Sequence[Path], name: str, columns: Container[str], missing: Sequence[str], read: Reader
) -> Table:
    """All parts as one table; columns not among ``columns`` are read when they are asked for.

    Raises OrchardError for a part with other columns or other kinds, by name.
    """
    tables = [read(p, columns) for p in paths]
    names = tables[0].columns
    for path, table in zip(paths[1:], tables[1:]):
        lost, new = [c for c in names if not table.has(c)], [c for c in table.columns if c not in names]
        if lost or new:
            what = f"lacks {', '.join(lost[:MOST_LISTED])}" if lost else f"has {', '.join(new[:MOST_LISTED])} beside"
            raise OrchardError(
                f"{path.name} {what}, unlike {paths[0].name}; all parts of {name} must have the same columns"
            )

    def load(wanted: list[str]) -> dict[str, Column]:
        for table in tables:
            table.data.fetch(wanted)
        return {c: joined(c, paths, tables) for c in wanted}

    n = sum(len(t) for t in tables)
    held = load([c for c in names if c in columns])
    return Table(Columns(names, n, held, load), name, n, missing=tuple(missing), parts=len(paths))


def joined(column: str, paths: Sequence[Path], tables: Sequence[Table]) -> Column:
    """One column (rows of all tables,), read from ``paths``; texts are numbered anew, in order of appearance."""
    kinds = [t.kind(column) for t in tables]
    known = [i for i, k in enumerate(kinds) if k != "empty"]
    odd = next((i for i in known if kinds[i] != kinds[known[0]]), None)
    if odd is not None:
        words = {"number": "numbers", "category": "text"}
        raise OrchardError(
            f"'{column}' holds {words[kinds[known[0]]]} in {paths[known[0]].name} and {words[kinds[odd]]} in {paths[odd].name}; mend one of "
            f"them, or name what means missing there with --missing"
        )
    if not known or kinds[known[0]] == "number":
        return np.concatenate(
            [t.numbers(column) if k == "empty" else np.asarray(t.column(column)) for t, k in zip(tables, kinds)]
        )
    place: dict[str, int] = {}
    codes = []
    for table, kind in zip(tables, kinds):
        own = table.column(column)
        if kind == "empty" or not isinstance(own, Texts):
            codes.append(np.full(len(table), -1, dtype=np.intp))
            continue
        to = np.array([*(place.setdefault(t, len(place)) for t in own.raw.tolist()), -1], dtype=np.intp)
        codes.append(to[own.codes])
    raw = np.empty(len(place), dtype=object)
    raw[:] = list(place)
    orders = dict.fromkeys(own.order for t in tables if isinstance(own := t.column(column), Texts) and own.order)
    return Texts(np.concatenate(codes), raw, next(iter(orders)) if len(orders) == 1 else ())


def digest(source: str | Path) -> str:
    """SHA-256 of a file, or of the digests of all parts."""
    paths = parts_of(str(source))
    if paths is None:
        return _digest(Path(source))
    return hashlib.sha256("".join(_digest(p) for p in paths).encode()).hexdigest()


def _digest(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()
