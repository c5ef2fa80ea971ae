"""Reading a table from a file or from standard input."""

from __future__ import annotations

import csv
import io
import re
import sys
import warnings
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from bold_orchard.data.evaluate import filter_rows
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError, unknown_name

MISSING = ("", "NA", "NaN", "null", ".")
PEEK = 65536  # bytes that tell the separator and the encoding of a file
DELIMITED = {".csv": ",", ".tsv": "\t", ".tab": "\t", ".txt": ","}
OTHER = (".parquet", ".pq", ".xlsx", ".ods", ".jsonl", ".ndjson")
_LEADING_ZERO = re.compile(r"0\d+")
_DECIMAL_COMMA = re.compile(r"[+-]?\d+,\d+")


@dataclass(frozen=True)
class Peek:
    """What the first lines of a delimited file say."""

    header: list[str]
    separator: str
    encoding: str
    decimal: str
    as_text: tuple[str, ...]


def read_table(source: str | Path, missing: Sequence[str] = (), where: str | None = None) -> Table:
    """Read a CSV, TSV, Parquet, xlsx, ods or JSON-lines file, or '-' for CSV on standard input.

    ``missing`` holds codes that mean missing, each 'CODE' or 'COLUMN=CODE', beside the empty cell,
    NA, NaN, null and '.'. ``where`` keeps only the rows for which the expression holds.
    Raises OrchardError, in one line, for anything that is not a readable table.
    """
    raw = None
    if str(source) == "-":
        name, raw = "standard input", sys.stdin.buffer.read()
        table = read_bytes(raw, name, missing)
    else:
        path = Path(source)
        name = path.name
        _check_path(path)
        suffix = path.suffix.lower()
        if suffix in OTHER:
            table = frame_table(_read_other(path, suffix), name, missing)
        else:
            table = _read_delimited(path, name, suffix, missing)
    return filter_rows(table, where) if where else table


def read_bytes(raw: bytes, name: str, missing: Sequence[str] = ()) -> Table:
    """A table from CSV bytes, which the result keeps."""
    return replace(_read_delimited(io.BytesIO(raw), name, ".csv", missing), raw=raw)


def _check_path(path: Path) -> None:
    try:
        if path.is_dir():
            raise OrchardError(f"{path} is a folder; name a file in it")
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


# -- delimited text


def _read_delimited(source: Path | io.BytesIO, name: str, suffix: str, missing: Sequence[str]) -> Table:
    peek = _peek(source, name, DELIMITED.get(suffix))
    by_column = _missing_by_column(missing, peek.header, name)
    everywhere = [*MISSING, *by_column.pop("", [])]
    codes: Any = everywhere
    if by_column:
        codes = {c: [*everywhere, *by_column.get(c, [])] for c in peek.header}
    options: dict[str, Any] = {
        "sep": peek.separator,
        "encoding": peek.encoding,
        "decimal": peek.decimal,
        "header": 0,
        "names": peek.header,
        "index_col": False,
        "keep_default_na": False,
        "na_values": codes,
    }
    frame = _parse(source, name, options | ({"dtype": dict.fromkeys(peek.as_text, str)} if peek.as_text else {}))
    mixed = [c for c in peek.header if frame[c].dtype.kind == "b" or frame[c].dtype == object]
    if mixed:
        dtypes = dict.fromkeys(mixed, str)
        again = _parse(source, name, options | {"usecols": mixed, "dtype": dtypes})
        frame = frame.assign(**{c: again[c] for c in mixed})
    if len(frame) == 0:
        raise OrchardError(f"{name} holds a header but no rows; there is nothing to work on")
    return Table(frame, name, len(frame), missing=tuple(missing))


def _parse(source: Path | io.BytesIO, name: str, options: dict[str, Any]) -> pd.DataFrame:
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
            start = f.read(PEEK)
    else:
        source.seek(0)
        start = source.read(PEEK)
    if not start.strip():
        raise OrchardError(f"{name} is empty; it should start with a line of column names")
    encoding, text = _decode(start, name)
    lines = text.splitlines(keepends=True)
    if len(start) == PEEK and len(lines) > 1:
        lines = lines[:-1]
    first = next(line for line in lines if line.strip())
    separator = separator or ","
    if separator not in first:
        separator = next((s for s in (";", "\t", ",") if s in first), separator)
    try:
        records = [r for r in csv.reader(io.StringIO("".join(lines)), delimiter=separator) if r]
    except csv.Error as e:
        raise OrchardError(f"{name} cannot be read as a table: {e}") from None
    header = _check_header([h.strip() for h in records[0]], name)
    for i, record in enumerate(records[1:], start=2):
        if len(record) > len(header):
            raise OrchardError(
                f"line {i} of {name} has {len(record)} cells where the header has {len(header)}; mend that line"
            )
    cells = list(zip(*(r + [""] * (len(header) - len(r)) for r in records[1:])))
    decimal = "." if separator == "," else _decimal(cells)
    as_text = tuple(h for h, c in zip(header, cells) if any(_LEADING_ZERO.fullmatch(v) for v in c))
    return Peek(header, separator, encoding, decimal, as_text)


def _decimal(columns: list[tuple[str, ...]]) -> str:
    return "," if any(_DECIMAL_COMMA.fullmatch(v) for c in columns for v in c[:50]) else "."


def _decode(start: bytes, name: str) -> tuple[str, str]:
    refusal = OrchardError(f"{name} is not a text file; give a CSV, TSV, Parquet, xlsx, ods or JSON-lines file")
    if b"\0" in start or start.startswith((b"PK\x03\x04", b"\x89PNG", b"\x1f\x8b")):
        raise refusal
    try:
        return "utf-8-sig", start.decode("utf-8-sig", errors="strict" if len(start) < PEEK else "ignore")
    except UnicodeDecodeError:
        pass
    try:
        text = start.decode("cp1252")
    except UnicodeDecodeError:
        raise refusal from None
    if sum(not (c.isprintable() or c in "\r\n\t") for c in text) > 0:
        raise refusal
    return "cp1252", text


def _check_header(header: list[str], name: str) -> list[str]:
    header = [h or f"column{i}" for i, h in enumerate(header, start=1)]
    twice = [h for i, h in enumerate(header) if h in header[:i]]
    if twice:
        raise OrchardError(f"{name} has two columns named '{twice[0]}'; rename one of them")
    return header


def _missing_by_column(missing: Sequence[str], header: Sequence[str], name: str) -> dict[str, list[str]]:
    """Codes by column; those for all columns stand under ''."""
    codes: dict[str, list[str]] = {}
    for entry in missing:
        splits = [i for i, sign in enumerate(entry) if sign == "="]
        at = next((i for i in reversed(splits) if entry[:i] in header), splits[0] if splits else -1)
        column, code = (entry[:at], entry[at + 1 :]) if at >= 0 else ("", entry)
        if column and column not in header:
            raise OrchardError(unknown_name("column", column, header, name) + " (in --missing)")
        codes.setdefault(column, []).append(code)
    return codes


# -- other formats


def _read_other(path: Path, suffix: str) -> pd.DataFrame:
    needs = {".parquet": "parquet", ".pq": "parquet", ".xlsx": "excel", ".ods": "ods"}.get(suffix)
    try:
        if suffix in (".parquet", ".pq"):
            return pd.read_parquet(path)
        if suffix in (".xlsx", ".ods"):
            engine: Any = "openpyxl" if suffix == ".xlsx" else "odf"
            return pd.read_excel(path, engine=engine, keep_default_na=False, na_values=list(MISSING))
        return pd.read_json(path, lines=True, dtype=False)
    except ImportError:
        raise OrchardError(
            f"reading {suffix} files needs one more package; install it with: pip install 'bold-orchard[{needs}]'"
        ) from None
    except Exception as e:
        what = str(e).splitlines()[0] if str(e) else type(e).__name__
        raise OrchardError(f"{path.name} cannot be read as {suffix[1:]}: {what}") from None


def frame_table(frame: pd.DataFrame, name: str, missing: Sequence[str]) -> Table:
    """Bring a frame from another format to the same kinds and missing codes as CSV gives; the frame itself stays as it is."""
    frame = frame.copy()
    frame.columns = pd.Index(_check_header([str(c).strip() for c in frame.columns], name))
    if frame.shape[1] == 0 or len(frame) == 0:
        raise OrchardError(f"{name} holds no rows; there is nothing to work on")
    by_column = _missing_by_column(missing, list(frame.columns), name)
    everywhere = [*MISSING, *by_column.pop("", [])]
    for column in frame.columns:
        codes = [*everywhere, *by_column.get(column, [])]
        frame[column] = _clean(frame[column], codes)
    return Table(frame.reset_index(drop=True), name, len(frame), missing=tuple(missing))


def _clean(series: pd.Series[Any], codes: list[str]) -> pd.Series[Any]:
    if series.dtype.kind in "iuf":
        numbers = [float(c) for c in codes if _is_number(c)]
        hit = series.isin(numbers)
        return series.mask(hit) if hit.any() else series
    if series.dtype.kind == "b":
        return series.astype(str)
    if series.dtype.kind == "M":
        whole = bool((series.dropna() == series.dropna().dt.normalize()).all())
        texts = series.dt.strftime("%Y-%m-%d" if whole else "%Y-%m-%d %H:%M:%S")
        return texts.astype(object).where(series.notna(), None)
    values = [None if pd.isna(v) or str(v) in codes else v for v in series.tolist()]
    present = [v for v in values if v is not None]
    if present and all(isinstance(v, (int, float, np.number)) and not isinstance(v, bool) for v in present):
        return pd.Series([np.nan if v is None else float(v) for v in values], index=series.index, dtype=float)
    return pd.Series([None if v is None else str(v) for v in values], index=series.index, dtype=object)


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def check_missing_syntax(missing: Sequence[str]) -> None:
    """Refuse an empty ``--missing``; raises UsageError."""
    for entry in missing:
        if not entry or entry.endswith("="):
            raise UsageError("--missing needs a code, for example --missing -999 or --missing rain=-999")
