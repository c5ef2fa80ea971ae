"""Reading a table from a file or from standard input."""

from __future__ import annotations

import csv
import importlib.util
import io
import re
import sys
import warnings
from collections.abc import Container, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from bold_orchard.data.arrow import COLUMNAR, NotForArrow, read_text
from bold_orchard.data.columns import Column, Columns, is_number, of_cells
from bold_orchard.data.header import MISSING, check_header, missing_by_column
from bold_orchard.data.other_formats import frame_table, read_columnar_table, read_json_lines, read_workbook
from bold_orchard.data.parts import parts_of, read_parts
from bold_orchard.data.plain_text import as_csv
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError

if TYPE_CHECKING:
    import pandas as pd

FIRST = 50  # rows that tell whether a column holds fractions
PEEK = 65536  # bytes that tell the separator and the encoding of a file
ROWS, WIDE = 20, 16 << 20  # lines that are looked at, and bytes beyond which two are enough
DELIMITED = {".csv": ",", ".tsv": "\t", ".tab": "\t", ".txt": ","}
WORKBOOKS = (".xlsx", ".ods")
OTHER = (*WORKBOOKS, ".jsonl", ".ndjson")
PACKED = (".gz", ".zst")
_LEADING_ZERO = re.compile(r"0\d+")
_DECIMAL_COMMA = re.compile(r"[+-]?\d+,\d+")
_DECIMAL_POINT = re.compile(r"[+-]?\d+\.\d+")
_THOUSANDS = re.compile(r"[+-]?[1-9]\d{0,2}[.,]\d{3}")


@dataclass(frozen=True)
class Peek:
    """What the first lines of a delimited file say.

    ``cells`` by column of the lines seen, which are the ``whole`` file or its start; ``plain`` for UTF-8 whose header is its first
    line, ``quoted`` where quotes stand in it.
    """

    header: list[str]
    separator: str
    encoding: str
    decimal: str
    as_text: frozenset[str]
    cells: list[tuple[str, ...]]
    whole: bool
    plain: bool
    quoted: bool


def read_table(
    source: str | Path, missing: Sequence[str] = (), where: str | None = None, columns: Container[str] = ()
) -> Table:
    """Read a CSV, TSV, Parquet, Arrow, xlsx, ods or JSON-lines file, text packed by gzip or zstd too, a folder or a pattern of such
    files with the same columns, or '-' for CSV on standard input.

    Parameters
    ----------
    source : the file, folder or pattern.
    missing : codes that mean missing, each 'CODE' or 'COLUMN=CODE', beside the empty cell, NA, NaN, null and '.'.
    where : an expression; only the rows for which it holds are kept.
    columns : those that will be used are read at once, others when they are asked for.

    Returns
    -------
    Table

    Raises
    ------
    OrchardError : in one line, for anything that is not a readable table.
    """
    if str(source) == "-":
        table = read_bytes(sys.stdin.buffer.read(), "standard input", missing)
    else:
        paths = parts_of(str(source))
        if paths is None:
            table = _read_file(Path(source), missing, columns)
        else:
            table = read_parts(paths, str(source), columns, missing, lambda p, wanted: _read_file(p, missing, wanted))
    if not where:
        return table
    from bold_orchard.data.evaluate import filter_rows

    return filter_rows(table, where)


def _read_file(path: Path, missing: Sequence[str], columns: Container[str]) -> Table:
    name = path.name
    _check_path(path)
    suffix = path.suffix.lower()
    if suffix in COLUMNAR:
        return read_columnar_table(path, name, missing, columns)
    if suffix in OTHER:
        if suffix in WORKBOOKS:
            frame, notes = read_workbook(path)
            return replace(frame_table(frame, name, missing), notes=notes)
        return frame_table(read_json_lines(path), name, missing)
    if suffix in PACKED:
        return _read_delimited(io.BytesIO(_unpacked(path)), name, Path(path.stem).suffix.lower(), missing, columns)
    return _read_delimited(path, name, suffix, missing, columns)


def read_bytes(raw: bytes, name: str, missing: Sequence[str] = (), columns: Container[str] = ()) -> Table:
    """A table from CSV bytes, which the result keeps; ``columns`` as in `read_table`."""
    return replace(_read_delimited(io.BytesIO(raw), name, ".csv", missing, columns), raw=raw)


def check_there(source: str) -> None:
    """Raise OrchardError where a name of data, a folder or a pattern names nothing that can be read."""
    if source != "-" and parts_of(source) is None:
        _check_path(Path(source))


def _check_path(path: Path) -> None:
    try:
        if path.exists() and not path.is_file():
            raise OrchardError(f"{path} is no ordinary file; send its rows to standard input and give - for the data")
        with path.open("rb"):
            pass
    except FileNotFoundError:
        raise OrchardError(f"there is no file {path}{_similar_file(path)}") from None
    except OSError as e:
        raise OrchardError(f"{path} cannot be read: {e.strerror}") from None


def _similar_file(path: Path) -> str:
    from bold_orchard.errors import nearest

    if not path.parent.is_dir():
        return f"; the folder {path.parent} does not exist"
    near = nearest(path.name, [p.name for p in path.parent.iterdir() if p.is_file()])
    return f"; did you mean {path.with_name(near)}?" if near else "; check the name and the folder"


def _unpacked(path: Path) -> bytes:
    """The bytes inside a packed file."""
    import gzip
    import zlib

    try:
        if path.suffix.lower() == ".gz":
            return gzip.decompress(path.read_bytes())
        import pyarrow

        with pyarrow.input_stream(str(path), compression="zstd") as stream:
            return bytes(stream.read())
    except (OSError, EOFError, zlib.error):
        raise OrchardError(f"{path} cannot be unpacked; it is damaged or not packed by {path.suffix[1:]}") from None


# -- delimited text


def _read_delimited(
    source: Path | io.BytesIO, name: str, suffix: str, missing: Sequence[str], columns: Container[str] = ()
) -> Table:
    """Small files by the standard library, large ones by Arrow, odd ones by the patient reader of pandas; all give the same."""
    source = as_csv(source, name, suffix)
    peek = _peek(source, name, DELIMITED.get(suffix))
    by_column = missing_by_column(missing, peek.header, name)
    everywhere = [*MISSING, *by_column.pop("", [])]
    if peek.whole:
        made = {
            c: of_cells(cells, [*everywhere, *by_column.get(c, [])], peek.decimal, c in peek.as_text)
            for c, cells in zip(peek.header, peek.cells)
        }
        n = len(peek.cells[0]) if peek.cells else 0
        data = Columns(peek.header, n, made)
    else:
        data = _by_arrow(source, peek, everywhere, by_column, columns) or _by_pandas(
            source, name, peek, everywhere, by_column
        )
    if data.n == 0:
        raise OrchardError(f"{name} holds a header but no rows; there is nothing to work on")
    return Table(data, name, data.n, missing=tuple(missing))


def _by_arrow(
    source: Path | io.BytesIO,
    peek: Peek,
    everywhere: list[str],
    by_column: dict[str, list[str]],
    columns: Container[str],
) -> Columns | None:
    """Columns of a large file in plain UTF-8, those not yet needed when they are asked for; None for other files."""
    if not peek.plain or importlib.util.find_spec("pyarrow") is None:
        return None

    seen = zip(peek.header, peek.cells)
    fractions = frozenset(c for c, cells in seen if _fractions(cells[:FIRST], everywhere, peek.decimal))

    def load(names: list[str]) -> dict[str, Column]:
        return read_text(
            source, peek.header, names, peek.separator, peek.decimal, peek.as_text, everywhere, by_column, peek.quoted, fractions
        )  # fmt: skip

    try:
        held = load([c for c in peek.header if c in columns] or peek.header)
    except NotForArrow:
        return None
    return Columns(peek.header, len(next(iter(held.values()))), held, load)


def _fractions(cells: Sequence[str], missing: Sequence[str], decimal: str) -> bool:
    """Whether cells are numbers, missing ones apart, and one has a decimal point."""
    present = [c for c in cells if c not in missing]
    return any(decimal in c for c in present) and all(is_number(c.replace(decimal, ".")) for c in present)


def _by_pandas(
    source: Path | io.BytesIO, name: str, peek: Peek, everywhere: list[str], by_column: dict[str, list[str]]
) -> Columns:
    options: dict[str, Any] = {
        "sep": peek.separator,
        "encoding": peek.encoding,
        "dtype": str,
        "header": 0,
        "names": peek.header,
        "index_col": False,
        "keep_default_na": False,
    }
    frame = _parse(source, name, options)
    made = {
        c: of_cells(frame[c].fillna("").tolist(), [*everywhere, *by_column.get(c, [])], peek.decimal)
        for c in peek.header
    }
    return Columns(peek.header, len(frame), made)


def _parse(source: Path | io.BytesIO, name: str, options: dict[str, Any]) -> pd.DataFrame:
    import pandas as pd

    if isinstance(source, io.BytesIO):
        source.seek(0)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return pd.read_csv(source, **options)
    except pd.errors.ParserError as e:
        found = re.search(r"Expected (\d+) fields in line (\d+), saw (\d+)", str(e))
        if found:
            want, line, saw = found.groups()
            raise OrchardError(
                f"line {line} of {name} has {saw} cells where the header has {want}; mend that line"
            ) from None
        raise OrchardError(f"{name} cannot be read as a table: {str(e).splitlines()[0]}") from None
    except UnicodeDecodeError:
        raise OrchardError(f"{name} is not a text file in UTF-8; save it as CSV in UTF-8 and try again") from None


def _peek(source: Path | io.BytesIO, name: str, separator: str | None) -> Peek:
    """Header, separator, encoding and text-like columns from the first lines."""
    if isinstance(source, Path):
        with source.open("rb") as f:
            start, ended = _first_lines(f)
    else:
        source.seek(0)
        start, ended = _first_lines(source)
    if not start.strip():
        raise OrchardError(f"{name} is empty; it should start with a line of column names")
    encoding, text = _decode(start, name, ended)
    lines = text.splitlines(keepends=True)
    if not ended and len(lines) > 1:
        lines = lines[:-1]
    first = next(line for line in lines if line.strip())
    separator = separator or ","
    if separator not in first:
        separator = next((s for s in (";", "\t", ",") if s in first), separator)
    try:
        records = [r for r in csv.reader(io.StringIO("".join(lines)), delimiter=separator) if r]
    except csv.Error as e:
        raise OrchardError(f"{name} cannot be read as a table: {e}") from None
    header = check_header([h.strip() for h in records[0]], name)
    for i, record in enumerate(records[1:], start=2):
        if len(record) > len(header):
            raise OrchardError(
                f"line {i} of {name} has {len(record)} cells where the header has {len(header)}; mend that line"
            )
    cells = list(zip(*(r + [""] * (len(header) - len(r)) for r in records[1:])))
    decimal = "." if separator == "," else _decimal(header, cells, name)
    as_text = frozenset(h for h, c in zip(header, cells) if any(_LEADING_ZERO.fullmatch(v) for v in c))
    plain = (
        encoding == "utf-8-sig"
        and not start.startswith(b"\xef\xbb\xbf")
        and first is lines[0]
        and len(records[0]) == len(header)
    )
    plain = plain and first.count('"') % 2 == 0
    return Peek(header, separator, encoding, decimal, as_text, cells, ended, plain, '"' in text)


def _decimal(header: Sequence[str], columns: Sequence[Sequence[str]], name: str) -> str:
    """The sign before decimals; raises OrchardError where a sign may as well stand between thousands."""
    commas = any(_DECIMAL_COMMA.fullmatch(v) and not _THOUSANDS.fullmatch(v) for c in columns for v in c)
    for column, cells in zip(header, columns):
        if commas and any(_DECIMAL_POINT.fullmatch(v) and not _THOUSANDS.fullmatch(v) for v in cells):
            continue  # decimals with a point beside a column of decimal commas
        doubtful = next((v for v in cells if _THOUSANDS.fullmatch(v) and ("," in v) != commas), None)
        if doubtful is not None:
            sign, point, none = (
                ("point", doubtful, doubtful.replace(".", ""))
                if commas
                else ("comma", doubtful.replace(",", "."), doubtful.replace(",", ""))
            )
            raise OrchardError(
                f"'{doubtful}' in column '{column}' of {name} may be {point} or {none}, and no other cell tells which; write "
                f"{doubtful}0 there if the {sign} marks decimals, and numbers without separators of thousands if it does not"
            )
    return "," if commas else "."


def _first_lines(file: BinaryIO) -> tuple[bytes, bool]:
    """The start of a file, the line of names whole and some rows beneath it however long they are, and whether that is all of it."""
    start = file.read(PEEK)
    ended = len(start) < PEEK
    while not ended and start.count(b"\n") + start.count(b"\r") < (ROWS if len(start) < WIDE else 2):
        more = file.read(len(start))
        ended = len(more) < len(start)
        start += more
    return start, ended


def _decode(start: bytes, name: str, ended: bool) -> tuple[str, str]:
    refusal = OrchardError(f"{name} is not a text file; give a CSV, TSV, Parquet, xlsx, ods or JSON-lines file")
    if b"\0" in start or start.startswith((b"PK\x03\x04", b"\x89PNG", b"\x1f\x8b")):
        raise refusal
    try:
        return "utf-8-sig", start.decode("utf-8-sig", errors="strict" if ended else "ignore")
    except UnicodeDecodeError:
        pass
    try:
        text = start.decode("cp1252")
    except UnicodeDecodeError:
        raise refusal from None
    if sum(not (c.isprintable() or c in "\r\n\t") for c in text) > 0:
        raise refusal
    return "cp1252", text


def check_missing_syntax(missing: Sequence[str]) -> None:
    """Refuse an empty ``--missing``; raises UsageError."""
    for entry in missing:
        if not entry or entry.endswith("="):
            raise UsageError("--missing needs a code, for example --missing -999 or --missing rain=-999")
