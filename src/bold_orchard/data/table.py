"""The table a model is fitted to: named columns, each a number or a category."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from bold_orchard.data.natural_order import label_texts, natural_order
from bold_orchard.errors import OrchardError, unknown_name


@dataclass(frozen=True)
class Labels:
    """One label per row: ``codes`` (n_rows,) index ``raw``, the distinct values; -1 where the label is missing."""

    codes: NDArray[np.intp]
    raw: NDArray[Any]

    @cached_property
    def texts(self) -> list[str]:
        """The distinct labels as text, in order of appearance."""
        return label_texts(self.raw)

    @cached_property
    def ordered(self) -> tuple[list[str], NDArray[np.intp]]:
        """Labels in natural order, and for each code its place in that order."""
        order = natural_order(self.texts)
        place = np.empty(len(order), dtype=np.intp)
        place[order] = np.arange(len(order))
        return [self.texts[i] for i in order], place


@dataclass(frozen=True)
class Table:
    """Rows and columns as read, before any row is left out.

    ``rows`` numbers the rows of ``frame`` as a person counts them in the file (the first row
    under the header is 1); ``read`` is how many rows the file held.
    """

    frame: pd.DataFrame
    name: str
    read: int
    rows: NDArray[np.intp] | None = None
    missing: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    raw: bytes | None = field(default=None, repr=False)

    def __len__(self) -> int:
        return len(self.frame)

    @property
    def columns(self) -> list[str]:
        return [str(c) for c in self.frame.columns]

    def has(self, column: str) -> bool:
        return column in self.frame.columns

    def series(self, column: str) -> pd.Series[Any]:
        if not self.has(column):
            raise OrchardError(unknown_name("column", column, self.columns, self.name))
        return self.frame[column]

    def kind(self, column: str) -> str:
        """'number', 'category', or 'empty' when every cell is missing."""
        series = self.series(column)
        if not (series.iloc[:100].notna().any() or series.notna().any()):
            return "empty"
        return "number" if series.dtype.kind in "iuf" else "category"

    def numbers(self, column: str) -> NDArray[np.float64]:
        """A column as float64 (n_rows,), NaN where missing; raises OrchardError for text."""
        series = self.series(column)
        if series.dtype.kind in "iuf" or self.kind(column) == "empty":
            return series.to_numpy(dtype=np.float64, na_value=np.nan)
        raise OrchardError(f"column '{column}' of {self.name} holds text, not numbers{self.odd_cells(column)}")

    def odd_cells(self, column: str) -> str:
        """For a text column that is mostly numbers: what the other cells are, and what to do."""
        series = self.series(column).dropna().astype(str)
        numeric = pd.to_numeric(series, errors="coerce").notna()
        if len(series) == 0 or not 0.5 < numeric.mean() < 1:
            return ""
        odd = list(dict.fromkeys(series[~numeric]))
        listed = ", ".join(f"'{v}'" for v in odd[:3])
        return f" ({int((~numeric).sum())} cells such as {listed}); if that means missing: --missing {odd[0]!r}"

    def labels(self, column: str) -> Labels:
        """The column as labels, whatever its kind."""
        series = self.series(column)
        if series.dtype.kind in "iu":
            found = _whole_labels(series.to_numpy())
            if found is not None:
                return found
        codes, raw = pd.factorize(series)
        return Labels(np.asarray(codes, dtype=np.intp), np.asarray(raw))

    def is_missing(self, column: str) -> NDArray[np.bool_]:
        series = self.series(column)
        if series.dtype.kind in "iu":
            return np.zeros(len(series), dtype=bool)
        if series.dtype.kind == "f":
            values = series.to_numpy()
            with np.errstate(all="ignore"):
                if np.isfinite(np.dot(values, values)):
                    return np.zeros(len(series), dtype=bool)
        return series.isna().to_numpy()

    def take(self, keep: NDArray[Any]) -> Table:
        """Only some rows, by a mask or by positions; row numbers stay those of the file."""
        rows = self.row_numbers[keep]
        return replace(self, frame=self.frame[keep] if keep.dtype == bool else self.frame.iloc[keep], rows=rows)

    @property
    def row_numbers(self) -> NDArray[np.intp]:
        return np.arange(1, len(self.frame) + 1) if self.rows is None else self.rows


def _whole_labels(values: NDArray[Any]) -> Labels | None:
    """Labels of whole numbers by counting, in their own order; None when they are spread too widely."""
    low, high = int(values.min()), int(values.max())
    if high - low > 4 * len(values) + 1000:
        return None
    places = (values - low).astype(np.intp, copy=False)
    present = np.zeros(high - low + 1, dtype=bool)
    present[places] = True
    if present.all():
        return Labels(places, np.arange(low, high + 1))
    rank = np.cumsum(present) - 1
    return Labels(rank[places], np.flatnonzero(present) + low)
