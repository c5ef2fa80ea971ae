"""Labels of one column over all pieces."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.table import Labels, Table

Array = NDArray[Any]
MOST_COUNTED = 50_000_000  # whole numbers between the least and the largest label, up to which labels are ticked off
ROOM = 100_000  # and added to each end when a new piece goes beyond


class Levels:
    """Texts in order of appearance, numbers in their own order; whole numbers are ticked off in a list of all between their ends."""

    def __init__(self) -> None:
        self.place: dict[Any, int] = {}
        self.numbers: Array | None = None
        self._low, self._present = 0, np.zeros(0, dtype=bool)
        self._rank: Array | None = None

    def see(self, table: Table, column: str) -> None:
        """Take up the labels of a piece."""
        values = table.column(column)
        fresh = self.numbers is None and not self.place
        if not isinstance(values, Texts) and values.dtype.kind in "iu" and len(values) and fresh and self.tick(values):
            return
        self._take(table.labels(column).raw)

    def take_up(self, other: Levels) -> None:
        """Those of a later part."""
        if not len(other):
            return
        ticked = other._ticked and self.numbers is None and not self.place
        if not (ticked and self.tick(other.raw)):
            self._take(other.raw)

    @property
    def _ticked(self) -> bool:
        return len(self._present) > 0

    def tick(self, values: Array) -> bool:
        """Whether whole numbers could be ticked off; the list grows to hold them."""
        low, high = int(values.min()), int(values.max())
        first, last = self._low, self._low + len(self._present)
        if not self._ticked or low < first or high >= last:
            first, last = (low, high + 1) if not self._ticked else (min(first, low - ROOM), max(last, high + 1 + ROOM))
            if last - first > MOST_COUNTED:
                return False
            grown = np.zeros(last - first, dtype=bool)
            grown[self._low - first : self._low - first + len(self._present)] = self._present
            self._low, self._present = first, grown
        self._present[values - self._low] = True
        self._rank = None
        return True

    def _take(self, raw: Array) -> None:
        if self._ticked:  # what was ticked off becomes a list of numbers
            self.numbers = self.raw
            self._low, self._present = 0, np.zeros(0, dtype=bool)
        if raw.dtype == object:
            for value in raw.tolist():
                self.place.setdefault(value, len(self.place))
        elif self.numbers is None:
            self.numbers = np.unique(raw)
        elif not np.isin(raw, self.numbers, assume_unique=True).all():
            self.numbers = np.union1d(self.numbers, raw)

    def codes(self, table: Table, column: str) -> Array:
        """The place of every row's label among all."""
        values = table.column(column)
        if self._ticked and not isinstance(values, Texts):
            if self._rank is None:
                self._rank = np.cumsum(self._present) - 1
            return self._rank[values.astype(np.intp, copy=False) - self._low]
        labels: Labels = table.labels(column)
        if self.numbers is not None and labels.raw.dtype != object:
            return np.searchsorted(self.numbers, labels.raw)[labels.codes]
        raw = labels.raw.tolist()
        return np.fromiter((self.place[v] for v in raw), dtype=np.int64, count=len(raw))[labels.codes]

    def __len__(self) -> int:
        if self._ticked:
            return int(np.count_nonzero(self._present))
        return len(self.place) if self.numbers is None else len(self.numbers)

    @property
    def raw(self) -> Array:
        """The distinct labels, in their order."""
        if self._ticked:
            return np.flatnonzero(self._present) + self._low
        if self.numbers is not None:
            return self.numbers
        out = np.empty(len(self.place), dtype=object)
        out[:] = list(self.place)
        return out
