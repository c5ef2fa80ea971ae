"""The table a model is fitted to: named columns, each a number or a category."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import NUMBER, Column, Columns, Texts, factorize, of_frame, of_mapping
from bold_orchard.data.natural_order import label_texts, natural_order
from bold_orchard.errors import OrchardError, unknown_name

if TYPE_CHECKING:
    import pandas as pd

# numbers that a category may have as labels (doses, grades, years), and the part of cells beyond which others are strays
MOST_NUMBERED, MOSTLY = 20, 0.9


@dataclass(frozen=True)
class Labels:
    """One label per row: ``codes`` (n_rows,) index ``raw``, the distinct values; -1 where the label is missing.

    ``order`` are the levels as the data declare their order, empty where they do not.
    """

    codes: NDArray[np.intp]
    raw: NDArray[Any]
    order: tuple[str, ...] = ()

    @cached_property
    def texts(self) -> list[str]:
        """The distinct labels as text, in order of appearance."""
        return label_texts(self.raw)

    @cached_property
    def positions(self) -> list[int]:
        """Positions of the labels in the order declared, else in natural order."""
        place = {t: i for i, t in enumerate(self.order)}
        return sorted(natural_order(self.texts), key=lambda i: place.get(self.texts[i], len(place)))

    @cached_property
    def ordered(self) -> tuple[list[str], NDArray[np.intp]]:
        """Labels in their order, and for each code its place in it."""
        order = self.positions
        place = np.empty(len(order), dtype=np.intp)
        place[order] = np.arange(len(order))
        return [self.texts[i] for i in order], place


@dataclass(frozen=True)
class Table:
    """Rows and columns as read, before any row is left out.

    ``data`` are the columns; a pandas DataFrame or a mapping of arrays is taken too. ``rows`` numbers the rows as a person counts them
    in the file (the first row under the header is 1); ``read`` is how many rows the file held, ``parts`` how many files it lies in.
    """

    data: Columns
    name: str
    read: int
    rows: NDArray[np.intp] | None = None
    missing: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    raw: bytes | None = field(default=None, repr=False)
    parts: int = 1

    def __init__(
        self, data: Columns | Mapping[str, Any] | pd.DataFrame, name: str, read: int, rows: NDArray[np.intp] | None = None,
        missing: tuple[str, ...] = (), notes: tuple[str, ...] = (), raw: bytes | None = None, parts: int = 1,
    ) -> None:  # fmt: skip
        if not isinstance(data, Columns):
            data = of_mapping(data, read) if isinstance(data, Mapping) else of_frame(data)
        values = {
            "data": data,
            "name": name,
            "read": read,
            "rows": rows,
            "missing": missing,
            "notes": notes,
            "raw": raw,
            "parts": parts,
        }
        for key, value in values.items():
            object.__setattr__(self, key, value)

    def __len__(self) -> int:
        return self.data.n

    @property
    def frame(self) -> pd.DataFrame:
        """All columns as a pandas DataFrame."""
        return self.data.frame()

    @property
    def columns(self) -> list[str]:
        return list(self.data.names)

    def has(self, column: str) -> bool:
        return column in self.data

    def column(self, name: str) -> Column:
        """One column; raises OrchardError with the nearest name for one that is not there."""
        if name not in self.data:
            raise OrchardError(unknown_name("column", name, self.columns, self.name))
        return self.data[name]

    def kind(self, column: str) -> str:
        """'number', 'category', or 'empty' when every cell is missing."""
        values = self.column(column)
        if isinstance(values, Texts):
            return "category" if (values.codes[:100] >= 0).any() or (values.codes >= 0).any() else "empty"
        if values.dtype.kind != "f" or not np.isnan(values[:100]).all() or not np.isnan(values).all():
            return "number" if len(values) else "empty"
        return "empty"

    def numbers(self, column: str) -> NDArray[np.float64]:
        """A column as float64 (n_rows,), NaN where missing; raises OrchardError for text."""
        values = self.column(column)
        if not isinstance(values, Texts):
            return values.astype(np.float64, copy=False)
        if self.kind(column) == "empty":
            return np.full(len(values), np.nan)
        raise OrchardError(f"column '{column}' of {self.name} holds text, not numbers{self.odd_cells(column)}")

    def odd_cells(self, column: str) -> str:
        """For a text column that is mostly numbers: what the other cells are, and what to do."""
        values = self.column(column)
        if not isinstance(values, Texts) or not (values.codes >= 0).any():
            return ""
        counts = np.bincount(values.codes[values.codes >= 0], minlength=len(values.raw))
        numeric = np.array([NUMBER.fullmatch(str(t)) is not None for t in values.raw])
        if not 0.5 < counts[numeric].sum() / counts.sum() < 1:
            return ""
        first = int(np.flatnonzero((values.codes >= 0) & ~numeric[values.codes])[0])
        odd, many = str(values.raw[values.codes[first]]), int(counts[~numeric].sum())
        where = f"'{odd}' in row {self.row_numbers[first]:,}"
        where = where if many == 1 else f"{many:,} cells are not, the first {where}"
        return f" ({where}); if that means missing: --missing {shlex.quote(odd)}"

    def stray_cells(self, column: str) -> str:
        """``odd_cells`` where a column is hardly meant as categories: many different numbers, few cells that are none."""
        values = self.column(column)
        if not isinstance(values, Texts) or len(values.raw) <= MOST_NUMBERED:
            return ""
        numeric = np.array([NUMBER.fullmatch(str(t)) is not None for t in values.raw])
        present = values.codes[values.codes >= 0]
        if not len(present) or not numeric[present].mean() > MOSTLY:
            return ""
        if numeric[present].all():
            padded = any(len(str(t)) > 1 and str(t)[0] == "0" and str(t)[1] != "." for t in values.raw)
            return "" if padded else " (text in rows that are left out); if that text means missing: --missing CODE"
        return self.odd_cells(column)

    def labels(self, column: str) -> Labels:
        """The column as labels, whatever its kind."""
        values = self.column(column)
        if isinstance(values, Texts):
            return Labels(values.codes, values.raw, values.order)
        if values.dtype.kind in "iu" and len(values):
            found = _whole_labels(values)
            if found is not None:
                return found
        return Labels(*factorize(values))

    def is_missing(self, column: str) -> NDArray[np.bool_]:
        values = self.column(column)
        if isinstance(values, Texts):
            return values.codes < 0
        return np.zeros(len(values), dtype=bool) if self.data.all_finite(column) else np.isnan(values)

    def with_columns(self, made: Mapping[str, Column]) -> Table:
        """The same rows with some columns changed or added."""
        return replace(self, data=self.data.replaced(made))

    def only(self, columns: Sequence[str]) -> Table:
        """The same rows with some of the columns."""
        return replace(self, data=self.data.only(columns))

    @property
    def orders(self) -> dict[str, tuple[str, ...]]:
        """The orders of levels that columns held in memory declare."""
        return {n: c.order for n, c in self.data.held.items() if isinstance(c, Texts) and c.order}

    def with_orders(self, orders: Mapping[str, Sequence[str]]) -> Table:
        """The same rows with the levels of some text columns in the orders given."""
        known = {n: c for n in orders if self.has(n) and isinstance(c := self.column(n), Texts)}
        return self.with_columns({n: replace(c, order=tuple(orders[n])) for n, c in known.items()})

    def take(self, keep: NDArray[Any]) -> Table:
        """Only some rows, by a mask or by positions; row numbers stay those of the file."""
        return replace(self, data=self.data.take(keep), rows=self.row_numbers[keep])

    @property
    def row_numbers(self) -> NDArray[np.intp]:
        return np.arange(1, len(self) + 1) if self.rows is None else self.rows


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
