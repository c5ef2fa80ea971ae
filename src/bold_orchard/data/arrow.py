"""Large tables through the Arrow library: many processors read delimited text, columnar files give the columns asked for."""

from __future__ import annotations

import contextlib
import io
import re
from collections.abc import Sequence, Set
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import (
    EXACT,
    Column,
    Texts,
    buffers_of,
    in_order,
    is_number,
    of_array,
    texts_or_numbers,
    without_codes,
)

Array = NDArray[Any]
BLOCK = 4 << 20  # bytes of text parsed together: enough for every processor, small beside the table
SCAN, LONGEST = 128 << 10, 64  # bytes looked through together, near the processor; of a cell of digits
MOST_LABELS = 2**31 - 1
COLUMNAR = (".parquet", ".pq", ".feather", ".arrow")


class NotForArrow(Exception):
    """A table that the patient reader takes: odd lines, odd kinds."""


def read_text(
    source: Path | io.BytesIO, header: Sequence[str], wanted: Sequence[str], separator: str, decimal: str, as_text: Set[str],
    missing: Sequence[str], own: dict[str, list[str]], quoted: bool, fractions: Set[str] = frozenset(),
) -> dict[str, Column]:  # fmt: skip
    """Columns of delimited UTF-8 text under its first line; raises NotForArrow for what must be read more patiently.

    ``missing`` codes hold for all columns, ``own`` for one; ``as_text`` columns are never numbers, ``fractions`` are numbers
    with a decimal point as far as has been seen: the library need not find out.
    """
    import pyarrow as pa
    from pyarrow import csv

    def read(kinds: dict[str, Any]) -> Any:
        return csv.read_csv(
            pa.BufferReader(source.getvalue()) if isinstance(source, io.BytesIO) else str(source),
            csv.ReadOptions(column_names=list(header), skip_rows=1, block_size=BLOCK),
            csv.ParseOptions(delimiter=separator, newlines_in_values=quoted),
            csv.ConvertOptions(
                include_columns=list(wanted), column_types=kinds, null_values=list(missing), strings_can_be_null=True,
                true_values=["\0"], false_values=["\0"], auto_dict_encode=True, auto_dict_max_cardinality=MOST_LABELS,
                decimal_point=decimal,
            ),
        )  # fmt: skip

    texts = pa.dictionary(pa.int32(), pa.string())
    text = [c for c in wanted if c in as_text or any(not is_number(v) for v in own.get(c, []))]
    known: dict[str, Any] = dict.fromkeys(text, texts)
    supposed = {c: pa.float64() for c in wanted if c in fractions and c not in known}
    looked = False
    while True:
        try:
            made = read(known | supposed)
        except (pa.ArrowInvalid, pa.ArrowKeyError, OSError) as e:
            if not supposed:
                raise NotForArrow from e
            supposed = {}
            continue
        read_as = made.columns
        columns = [_plain(column, c in known) for c, column in zip(wanted, read_as)]
        odd = {
            c for c, column in zip(wanted, columns) if column is None or (c not in known and _perhaps_labels(column))
        }
        whole = {c for c, column in zip(wanted, read_as) if c not in known and pa.types.is_integer(column.type)}
        odd |= whole if whole and not looked and _zeros_lead(source, separator) else set()
        looked = True
        if not odd:
            break
        known, supposed = known | dict.fromkeys(odd, texts), {}

    def ours(name: str, column: Column) -> Column:
        codes = [*missing, *own.get(name, [])]
        if not isinstance(column, Texts):
            return without_codes(column, codes)
        column = without_texts(column, codes)
        return column if name in as_text else texts_or_numbers(column, codes, decimal)

    return {c: ours(c, column) for c, column in zip(wanted, columns) if column is not None}


def _perhaps_labels(column: Column) -> bool:
    """Whether numbers may be labels of so many digits that a float would make several of them one."""
    if isinstance(column, Texts) or not len(column):
        return False
    with np.errstate(all="ignore"):
        large = np.nanmax(np.abs(column.astype(np.float64, copy=False)), initial=0.0) >= EXACT
        return bool(large and (column.dtype.kind == "i" or np.all(np.isnan(column) | (column == np.floor(column)))))


def _zeros_lead(source: Path | io.BytesIO, separator: str) -> bool:
    """Whether a cell of the file is digits with a zero first, or hexadecimal, which the library takes for a number."""
    cell = re.compile(
        rb"["
        + re.escape(separator.encode())
        + rb"\"\n]0[0-9xX][0-9a-fA-F]*["
        + re.escape(separator.encode())
        + rb"\"\r\n]"
    )
    with contextlib.ExitStack() as stack:
        file = source if isinstance(source, io.BytesIO) else stack.enter_context(source.open("rb"))
        file.seek(0)
        rest = b""
        while block := file.read(SCAN):
            values = np.frombuffer(rest + block, dtype=np.uint8)
            before, zero, after = values[:-2], values[1:-1] == ord("0"), values[2:]
            starts = ((before == ord(separator)) | (before == ord('"')) | (before == ord("\n"))) & zero
            second = (after - ord("0") < 10) | ((after | 32) == ord("x"))
            if (starts & second).any() and cell.search(rest + block + b"\n"):
                return True
            rest = block[-LONGEST:]
    return False


def _plain(chunked: Any, text: bool) -> Column | None:
    """A column of the library as ours, which may be text or not; None where the library took texts for times, for yes and no, or for numbers that are none ("nan")."""
    import pyarrow as pa

    kind = chunked.type
    if not text and (pa.types.is_temporal(kind) or pa.types.is_boolean(kind)):
        return None
    column = column_of(chunked)
    if isinstance(column, Texts) or not pa.types.is_floating(kind):
        return column
    with np.errstate(all="ignore"):
        if np.isfinite(np.dot(column, column)):
            return column
    return None if np.count_nonzero(np.isnan(column)) > chunked.null_count else column


def without_texts(column: Texts, codes: Sequence[str]) -> Texts:
    """Texts with those that are missing codes taken out."""
    bad = np.array([t in codes for t in column.raw.tolist()], dtype=bool)
    if not bad.any():
        return column
    place = np.append(np.where(bad, -1, np.cumsum(~bad) - 1), -1)
    return Texts(place[column.codes].astype(np.intp), column.raw[~bad], column.order)


def column_of(chunked: Any) -> Column:
    """A column of the Arrow library as ours; raises NotForArrow for lists and the like."""
    import pyarrow as pa
    from pyarrow import compute

    kind = chunked.type
    if pa.types.is_null(kind):
        return np.full(len(chunked), np.nan)
    if pa.types.is_int64(kind) or pa.types.is_float64(kind):
        values, known = buffers_of(chunked, np.dtype(np.int64 if pa.types.is_int64(kind) else np.float64))
        if values.dtype.kind == "i" and len(values) and (int(values.max()) > EXACT or int(values.min()) < -EXACT):
            return column_of(chunked.cast(pa.string()))  # labels: a float would make several of them one
        return values if known is None else np.where(known, values, np.nan)
    if pa.types.is_integer(kind) and not (pa.types.is_uint64(kind) or chunked.null_count):
        return column_of(chunked.cast(pa.int64()))
    if pa.types.is_uint64(kind) and len(chunked) and (compute.max(chunked).as_py() or 0) > EXACT:
        return column_of(chunked.cast(pa.string()))
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return column_of(chunked.cast(pa.float64()))
    if pa.types.is_dictionary(kind):
        if kind.ordered:
            return _coded(
                chunked.cast(pa.dictionary(kind.index_type, pa.string(), True)).unify_dictionaries().combine_chunks()
            )
        if not (pa.types.is_string(kind.value_type) or pa.types.is_large_string(kind.value_type)):
            return column_of(chunked.cast(kind.value_type))
        return _coded(chunked.unify_dictionaries().combine_chunks())
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return _coded(chunked.dictionary_encode().unify_dictionaries().combine_chunks())
    if pa.types.is_boolean(kind):
        return of_array(np.array([None if v is None else str(v) for v in chunked.to_pylist()], dtype=object))
    if pa.types.is_temporal(kind):
        return _times(chunked)
    raise NotForArrow


def _coded(array: Any) -> Texts:
    """One array, or chunks that share their dictionary."""
    import pyarrow as pa

    if isinstance(array, pa.ChunkedArray):
        if array.num_chunks == 0:
            return Texts(np.zeros(0, dtype=np.intp), np.zeros(0, dtype=object))
        array = array.chunk(0)
    kind = np.dtype(array.indices.type.to_pandas_dtype())
    codes, known = buffers_of(pa.chunked_array([array.indices]), kind)
    codes = codes.astype(np.intp) if known is None else np.where(known, codes, -1).astype(np.intp)
    raw = np.array(array.dictionary.to_pylist(), dtype=object)
    return in_order(codes, raw, tuple(map(str, raw.tolist())) if array.type.ordered else ())


def _times(chunked: Any) -> Texts:
    """Dates and times as text, days alone where no time stands in any row."""
    import pyarrow as pa

    if not (pa.types.is_timestamp(chunked.type) or pa.types.is_date(chunked.type)):
        raise NotForArrow
    values = chunked.cast(pa.timestamp("us")).to_numpy().astype("datetime64[s]")
    known = ~np.isnat(values)
    whole = bool((values[known] == values[known].astype("datetime64[D]")).all())
    texts = np.datetime_as_string(values, unit="D" if whole else "s")
    out = of_array(
        np.array([t.replace("T", " ") if k else None for t, k in zip(texts.tolist(), known.tolist())], dtype=object)
    )
    assert isinstance(out, Texts)
    return out


def columnar_names(path: Path) -> tuple[list[str], int]:
    """Names of the columns of a Parquet or Arrow file, and how many rows it has."""
    from pyarrow import parquet

    if path.suffix.lower() in (".parquet", ".pq"):
        file = parquet.ParquetFile(path)
        return list(file.schema_arrow.names), int(file.metadata.num_rows)
    made = _feather(path, None)
    return list(made.column_names), int(made.num_rows)


def read_columnar(path: Path, names: Sequence[str]) -> list[Any]:
    """Columns of a Parquet or Arrow file, chunked as they lie there."""
    from pyarrow import parquet

    if path.suffix.lower() in (".parquet", ".pq"):
        made = parquet.ParquetFile(path, memory_map=True).read(columns=list(names))
    else:
        made = _feather(path, names)
    return [made.column(n) for n in names]


def _feather(path: Path, names: Sequence[str] | None) -> Any:
    from pyarrow import feather

    return feather.read_table(path, columns=None if names is None else list(names), memory_map=True)


def arrow_column(chunked: Any, codes: Sequence[str]) -> Column:
    """A column from another library, its missing codes taken out; raises NotForArrow."""
    column = column_of(chunked)
    return without_texts(column, codes) if isinstance(column, Texts) else without_codes(column, codes)
