"""Tables of other formats than delimited text: columnar files, workbooks, JSON lines, frames of a program."""

from __future__ import annotations

import contextlib
from collections.abc import Container, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from bold_orchard.data.arrow import NotForArrow, arrow_column, columnar_names, read_columnar
from bold_orchard.data.columns import EXACT, Column, Columns, is_number
from bold_orchard.data.header import MISSING, check_header, missing_by_column
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError

if TYPE_CHECKING:
    import pandas as pd


def read_columnar_table(path: Path, name: str, missing: Sequence[str], columns: Container[str]) -> Table:
    """Parquet, Feather or Arrow: the columns asked for, others when they are."""
    try:
        with _foreign(path):
            names, n = columnar_names(path)
            header = check_header([c.strip() for c in names], name)
            by_column = missing_by_column(missing, header, name)
            everywhere = [*MISSING, *by_column.pop("", [])]

            in_file = dict(zip(header, names))

            def load(wanted: list[str]) -> dict[str, Column]:
                own = [in_file[c] for c in wanted]
                made = read_columnar(path, own)
                return {c: arrow_column(m, [*everywhere, *by_column.get(c, [])]) for c, m in zip(wanted, made)}

            held = load([c for c in header if c in columns] or header) if header else {}
    except NotForArrow:
        with _foreign(path):
            import pandas as pd

            return frame_table(pd.read_parquet(path), name, missing)
    if not header or n == 0:
        raise OrchardError(f"{name} holds no rows; there is nothing to work on")
    return Table(Columns(header, n, held, load), name, n, missing=tuple(missing))


def read_workbook(path: Path) -> tuple[pd.DataFrame, tuple[str, ...]]:
    """The first sheet of a workbook, and what to say of the others; raises OrchardError for two columns of one name."""
    import pandas as pd

    with _foreign(path):
        engine: Any = "openpyxl" if path.suffix.lower() == ".xlsx" else "odf"
        with pd.ExcelFile(path, engine=engine) as book:
            sheets = [str(s) for s in book.sheet_names]
            cells = pd.read_excel(book, header=None, keep_default_na=False, na_values=list(MISSING), dtype=object)
    cells = cells.dropna(axis="columns", how="all")
    if not len(cells):
        raise OrchardError(f"the first sheet of {path.name}, '{sheets[0]}', is empty; the table must be on that sheet")
    header = ["" if pd.isna(h) else str(h).strip() for h in cells.iloc[0]]
    frame = cells.iloc[1:].dropna(how="all")
    frame.columns = pd.Index(check_header(header, path.name))
    if len(sheets) == 1:
        return frame, ()
    others = ", ".join(f"'{s}'" for s in sheets[1:4]) + (", ..." if len(sheets) > 4 else "")
    return frame, (f"{path.name} has {len(sheets)} sheets: '{sheets[0]}', the first, was read; not read: {others}.",)


def read_json_lines(path: Path) -> pd.DataFrame:
    import pandas as pd

    with _foreign(path):
        return pd.read_json(path, lines=True, dtype=False)


@contextlib.contextmanager
def _foreign(path: Path) -> Iterator[None]:
    """What other libraries say of a file, in one line of ours."""
    suffix = path.suffix.lower()
    needs = {".ods": "ods"}.get(suffix, "excel")
    try:
        yield
    except (OrchardError, NotForArrow):
        raise
    except ImportError:
        raise OrchardError(
            f"reading {suffix} files needs one more package; install it with: pip install 'bold-orchard[{needs}]'"
        ) from None
    except Exception as e:
        what = str(e).splitlines()[0] if str(e) else type(e).__name__
        raise OrchardError(f"{path.name} cannot be read as {suffix[1:]}: {what}") from None


def frame_table(frame: pd.DataFrame, name: str, missing: Sequence[str]) -> Table:
    """Bring a frame from another format to the same kinds and missing codes as CSV gives; the frame itself stays as it is."""
    import pandas as pd

    frame = frame.copy()
    frame.columns = pd.Index(check_header([str(c).strip() for c in frame.columns], name))
    if frame.shape[1] == 0 or len(frame) == 0:
        raise OrchardError(f"{name} holds no rows; there is nothing to work on")
    by_column = missing_by_column(missing, list(frame.columns), name)
    everywhere = [*MISSING, *by_column.pop("", [])]
    for column in frame.columns:
        codes = [*everywhere, *by_column.get(column, [])]
        frame[column] = _clean(frame[column], codes)
    return Table(frame.reset_index(drop=True), name, len(frame), missing=tuple(missing))


def _large(values: Any) -> bool:
    """Whether whole numbers are so large that a float would make several of them one: labels, kept as they stand."""
    return any(
        isinstance(v, (int, np.integer)) and not isinstance(v, bool) and abs(int(v)) > EXACT
        for v in values
        if v is not None
    )


def _clean(series: pd.Series[Any], codes: list[str]) -> pd.Series[Any]:
    import pandas as pd

    if series.dtype.kind in "iuf" and not _large(series):
        numbers = [float(c) for c in codes if is_number(c)]
        hit = series.isin(numbers)
        return series.mask(hit) if hit.any() else series
    if isinstance(series.dtype, pd.CategoricalDtype) and series.dtype.ordered:
        texts = [None if pd.isna(v) or str(v) in codes else str(v) for v in series.tolist()]
        order = [str(c) for c in series.dtype.categories if str(c) not in codes]
        return pd.Series(pd.Categorical(texts, categories=order, ordered=True), index=series.index)
    if series.dtype.kind == "b":
        return series.astype(str)
    if series.dtype.kind == "M":
        whole = bool((series.dropna() == series.dropna().dt.normalize()).all())
        texts = series.dt.strftime("%Y-%m-%d" if whole else "%Y-%m-%d %H:%M:%S")
        return texts.astype(object).where(series.notna(), None)
    values = [None if pd.isna(v) or str(v) in codes else v for v in series.tolist()]
    present = [v for v in values if v is not None]
    if _large(present):
        return pd.Series([None if v is None else str(v) for v in values], index=series.index, dtype=object)
    if present and all(isinstance(v, (int, float, np.number)) and not isinstance(v, bool) for v in present):
        return pd.Series([np.nan if v is None else float(v) for v in values], index=series.index, dtype=float)
    return pd.Series([None if v is None else str(v) for v in values], index=series.index, dtype=object)
