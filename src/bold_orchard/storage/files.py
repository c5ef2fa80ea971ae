"""Files of the user's: written whole or not at all."""

from __future__ import annotations

import importlib.util
import io
import os
import re
import shutil
import stat
import tempfile
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from bold_orchard.data.columns import absent
from bold_orchard.data.to_arrow import arrow_of
from bold_orchard.errors import OrchardError, visible
from bold_orchard.threads import processors

AT_ONCE = 50_000  # rows of a file written together
MANY_ROWS = 20_000  # from which the Arrow library is worth its start
SPECIAL = set(',"\r\n')  # what a cell of CSV cannot hold without quotes
BY_PACKAGE = (".xlsx", ".parquet")


def check_package(path: str | Path) -> None:
    """Raise OrchardError for a file whose form needs a package that is not installed: before any work is done for it."""
    if Path(path).suffix.lower() == ".xlsx" and importlib.util.find_spec("openpyxl") is None:
        raise OrchardError(
            f"{path}: writing .xlsx needs openpyxl; install it (pip install bold-orchard[excel]) or end the name in .csv"
        )


def write_safely(path: str | Path, write: Callable[[Path], object]) -> None:
    """Write to a temporary file beside ``path``, then rename, so nothing is ever half-written.

    A link is followed, and what is no ordinary file (a device, a pipe) is written to and stays what it is. A file that is replaced keeps its
    mode, a new one gets that of the umask.
    """
    path = Path(path)
    if path.is_dir():
        raise OrchardError(f"{path} is a folder; give a file name")
    suffix, path = path.suffix, Path(os.path.realpath(path))
    through = path.exists() and not path.is_file()
    try:
        handle, temporary = tempfile.mkstemp(dir=None if through else path.parent, prefix=".", suffix=suffix)
    except OSError as e:
        raise OrchardError(f"{path} cannot be written: {e.strerror or e}; choose another folder") from None
    os.close(handle)
    try:
        write(Path(temporary))
        if through:
            with path.open("wb") as out, open(temporary, "rb") as made:
                shutil.copyfileobj(made, out)
        else:
            os.chmod(temporary, _mode(path))
            os.replace(temporary, path)
    except OSError as e:
        raise OrchardError(f"{path} cannot be written: {e.strerror or e}; make room, or choose another place") from None
    finally:
        Path(temporary).unlink(missing_ok=True)


def _mode(path: Path) -> int:
    """The mode of a file as it is, or as a new one would have it."""
    if path.exists():
        return stat.S_IMODE(path.stat().st_mode)
    mask = os.umask(0)  # there is no other way to read it
    os.umask(mask)
    return 0o666 & ~mask


def write_text(path: str | Path, text: str) -> None:
    """A text file in UTF-8."""
    write_safely(path, lambda p: p.write_text(text, encoding="utf-8"))


def write_rows(path: str | Path, rows: Any) -> None:
    """Rows (dictionaries, or a frame) as CSV, or as the workbook or Parquet file that the name's ending asks for; a column for every key.

    Raises OrchardError where the package for it is missing.
    """
    import csv

    if Path(path).suffix.lower() in BY_PACKAGE:
        _write_by_package(path, rows)
        return

    def write(p: Path) -> None:
        if hasattr(rows, "columns"):
            write_columns(
                p, {str(c): rows[c].to_numpy() for c in rows.columns} if hasattr(rows, "to_csv") else rows.columns
            )
            return
        names = list(dict.fromkeys(k for r in rows for k in r))
        columns = _columns_of(rows, names) if len(rows) > MANY_ROWS else None
        if columns is not None:
            write_columns(p, columns)
            return
        with p.open("w", newline="", encoding="utf-8") as f:
            writer = csv.DictWriter(f, names, lineterminator="\n")
            writer.writeheader()
            writer.writerows(rows)

    write_safely(path, write)


def _columns_of(rows: list[dict[str, Any]], names: list[str]) -> dict[str, Any] | None:
    """Rows as columns of numbers and of texts; None where a column is neither."""
    import numpy as np

    columns: dict[str, Any] = {}
    for name in names:
        values = [row.get(name) for row in rows]
        kinds = set(map(type, values))
        if kinds <= {float, type(None)}:
            columns[name] = np.array(values, dtype=float)
        elif kinds == {int}:
            columns[name] = np.array(values)
        elif kinds <= {str, type(None)}:
            columns[name] = np.array(values, dtype=object)
        else:
            return None
    return columns


def write_columns(path: Path, columns: dict[str, Any]) -> None:
    """Columns as CSV, missing values empty; many rows by the Arrow library, where it is there."""
    import csv

    import numpy as np

    from bold_orchard.data.columns import absent

    n = len(next(iter(columns.values()), ()))
    if n > MANY_ROWS and importlib.util.find_spec("pyarrow") is not None:
        _write_by_arrow(path, columns)
        return
    every = slice(None)
    lists = [["" if absent(v) else v for v in np.asarray(c[every]).tolist()] for c in columns.values()]
    with path.open("w", newline="", encoding="utf-8") as f:
        writer = csv.writer(f, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows(zip(*lists))


def _write_by_arrow(path: Path, columns: dict[str, Any]) -> None:
    import csv
    import io

    import pyarrow as pa
    import pyarrow.csv as arrow_csv

    n = len(next(iter(columns.values())))
    plain = not any(set(str(text)) & SPECIAL for text in [*columns, *(t for c in columns.values() for t in _texts(c))])
    options = arrow_csv.WriteOptions(include_header=False, quoting_style="none" if plain else "needed")
    with path.open("wb") as f:
        head = io.StringIO()
        csv.writer(head, lineterminator="\n").writerow(columns)
        f.write(head.getvalue().encode())
        threads = processors()

        def written(start: int) -> Any:
            at, out = slice(start, start + AT_ONCE), pa.BufferOutputStream()
            run = pa.table({k: arrow_of(_run_of(c, at)) for k, c in columns.items()})
            arrow_csv.write_csv(run, out, options)
            return out.getvalue()

        with ThreadPoolExecutor(threads) as pool:
            ahead: deque[Any] = deque()
            for start in range(0, n, AT_ONCE):
                ahead.append(pool.submit(written, start))
                if len(ahead) > threads:  # no more in memory than is being written
                    f.write(ahead.popleft().result())
            for made in ahead:
                f.write(made.result())


def _run_of(column: Any, at: slice) -> Any:
    """Some rows of a column, texts still by their codes."""
    import numpy as np

    from bold_orchard.data.columns import Texts

    if hasattr(column, "raw"):
        return Texts(np.asarray(column.codes[at]), column.raw, column.order)
    return np.asarray(column[at])


def _texts(column: Any) -> Any:
    """The distinct texts of a column, nothing of a column of numbers."""
    if hasattr(column, "raw"):
        return column.raw
    if getattr(getattr(column, "dtype", None), "kind", "") != "O":
        return ()
    return arrow_of(column).unique().to_pylist()


def _write_parquet(path: Path, columns: dict[str, Any]) -> None:
    """A run of rows after another."""
    import pyarrow as pa
    from pyarrow import parquet

    n = len(next(iter(columns.values()), ()))
    writer: Any = None
    for start in range(0, max(n, 1), AT_ONCE):
        run = {str(k): arrow_of(_run_of(c, slice(start, start + AT_ONCE))) for k, c in columns.items()}
        made = pa.table(run)
        if writer is None:
            writer = parquet.ParquetWriter(path, made.schema)
        writer.write_table(made.cast(writer.schema))
    writer.close()


def _write_by_package(path: str | Path, rows: Any) -> None:
    ending = Path(path).suffix.lower()
    check_package(path)
    if ending == ".parquet" and hasattr(rows, "run"):
        write_safely(path, lambda p: _write_parquet(p, rows.columns))
        return
    import pandas as pd

    frame = rows if hasattr(rows, "to_csv") else pd.DataFrame(rows.run(slice(None)) if hasattr(rows, "run") else rows)
    write_safely(path, lambda p: _write_workbook(p, frame) if ending == ".xlsx" else frame.to_parquet(p, index=False))


def _write_workbook(path: Path, frame: Any) -> None:
    """A workbook in which texts are texts, whatever they begin with; made at no time, so that the same table is the same file."""
    import datetime
    import zipfile

    import openpyxl

    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append([visible(str(c)) for c in frame.columns])
    for row in frame.itertuples(index=False):
        sheet.append([visible(v) if isinstance(v, str) else None if absent(v) else v for v in row])
    for cells in sheet.iter_rows():
        for cell in cells:
            if cell.data_type == "f":
                cell.data_type = "s"
    book.properties.created = book.properties.modified = datetime.datetime(2020, 1, 1)
    first, second = io.BytesIO(), io.BytesIO()  # in memory: a full disk is then found by the one write at the end
    book.save(first)
    with zipfile.ZipFile(first) as made:
        parts = {name: made.read(name) for name in made.namelist()}
    with zipfile.ZipFile(second, "w", zipfile.ZIP_DEFLATED) as out:
        for name, content in parts.items():
            if name == "docProps/core.xml":
                content = re.sub(rb">[^<>]*Z</dcterms:modified>", b">2020-01-01T00:00:00Z</dcterms:modified>", content)
            out.writestr(zipfile.ZipInfo(name, (2020, 1, 1, 0, 0, 0)), content)
    path.write_bytes(second.getvalue())
