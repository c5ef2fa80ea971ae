"""Text tables that are not CSV yet: comment lines above the header, and columns set apart by spaces."""

from __future__ import annotations

import csv
import io
from itertools import pairwise
from pathlib import Path

from bold_orchard.data.columns import is_number
from bold_orchard.errors import OrchardError

COMMENT = "#"
SPACED = (".txt", ".dat", ".data", ".asc", "")  # endings of files whose columns may stand apart by spaces alone
SEPARATORS = (",", ";", "\t")
HEAD = 1 << 16  # bytes of them
LOOKED = 200  # lines from which the columns are told


def as_csv(source: Path | io.BytesIO, name: str, suffix: str) -> Path | io.BytesIO:
    """The source itself, or, where its head says that it is no CSV, its lines as CSV.

    Raises OrchardError for a line of a spaced table with more or fewer cells than its header.
    """
    start = _start(source)
    comments = _comments(start)
    commented = comments > 0 and _is_header(start[comments - 1].lstrip(COMMENT).strip(), start[comments])
    spaced = suffix in SPACED and _spaced([line for line in start[comments:] if line.strip()])
    if not comments and not spaced:
        return source
    lines = _text(source).splitlines(keepends=True)
    header = [lines[comments - 1].lstrip(COMMENT + " ")] if commented else []
    lines = header + lines[comments:]
    comments -= len(header)
    return io.BytesIO((_separated(lines, name, comments) if spaced else "".join(lines)).encode("utf-8"))


def _start(source: Path | io.BytesIO) -> list[str]:
    """The first lines, as far as they are text."""
    if isinstance(source, Path):
        with source.open("rb") as file:
            raw = file.read(HEAD)
    else:
        source.seek(0)
        raw = source.read(HEAD)
        source.seek(0)
    if b"\0" in raw:
        return []
    lines = raw.decode("utf-8-sig", errors="replace").splitlines()
    return lines[: LOOKED if len(raw) < HEAD or len(lines) > LOOKED else len(lines) - 1]  # the last may be cut


def _text(source: Path | io.BytesIO) -> str:
    raw = source.read_bytes() if isinstance(source, Path) else source.getvalue()
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("cp1252", errors="replace")


def _comments(lines: list[str]) -> int:
    """How many lines above the header are comments; a header may itself begin with the sign."""
    count = 0
    for line, following in pairwise(lines):
        cells = {sign: (line.count(sign), following.count(sign)) for sign in SEPARATORS}
        alike = any(a == b > 0 for a, b in cells.values())
        if not line.startswith(COMMENT) or (alike and not line.startswith(COMMENT + " ")):
            break
        count += 1
    return count


def _is_header(comment: str, row: str) -> bool:
    """Whether the last comment line names the columns: as many cells as the row below it, which holds numbers."""
    sign = next((sign for sign in SEPARATORS if sign in row), None)
    names, cells = (comment.split(sign), row.split(sign)) if sign else (_cells(comment), _cells(row))
    return len(names) == len(cells) and any(map(is_number, cells)) and not any(map(is_number, names))


def _cells(line: str) -> list[str]:
    """Cells set apart by one space or more; quotes hold a cell with spaces together."""
    return next(csv.reader([line.strip()], delimiter=" ", skipinitialspace=True), [])


def _spaced(lines: list[str]) -> bool:
    """Whether every line has as many cells set apart by spaces as the first, more than one, and no other separator
    stands there."""
    if len(lines) < 2 or any(sign in lines[0] for sign in SEPARATORS):
        return False
    first = len(_cells(lines[0].replace("\t", " ")))
    return first > 1 and all(len(_cells(line)) == first for line in lines)


def _separated(lines: list[str], name: str, above: int) -> str:
    out, width = io.StringIO(), 0
    writer = csv.writer(out, lineterminator="\n")
    for number, line in enumerate(lines, start=above + 1):
        if not line.strip():
            continue
        cells = _cells(line)
        width = width or len(cells)
        if len(cells) != width:
            raise OrchardError(
                f"line {number} of {name} has {len(cells)} cells where the header has {width}; mend that line"
            )
        writer.writerow(cells)
    return out.getvalue()
