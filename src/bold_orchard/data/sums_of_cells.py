"""Numbers of rows, values and products of pairs, summed by cell over pieces."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
TOGETHER = 8192  # rows whose products stay near the processor
MOST_LISTED, MOST_SUMS = 4_000_000, 32_000_000  # cells, and sums of them, up to which all cells are listed
MERGE = 2_000_000  # cells of unmerged pieces from which they are merged
ROOM = 50_000  # cells added to each end of a list that must grow


class CellSums:
    """Sums by cell: in a list of all ``space`` cells where these are few, else of those that occur, merged now and then.

    ``centre`` and ``size`` (m,) are taken off the values. Sums of a cell: its rows, m values, products of pairs.
    """

    def __init__(self, space: int, centre: Array, size: Array) -> None:
        self.space, self.centre, self.size = space, centre, size
        few = space <= MOST_LISTED and space * self.width <= MOST_SUMS
        self.all = np.zeros((space, self.width)) if few else None
        self.waiting: list[tuple[Array, Array]] = []

    @property
    def width(self) -> int:
        m = len(self.centre)
        return 1 + m + m * (m + 1) // 2

    def add(self, key: Array, x: list[Array]) -> None:
        """Rows of the cells ``key`` (n,) with values ``x`` (m of n)."""
        if self.all is not None:
            for at in range(0, len(key), TOGETHER):
                rows = slice(at, at + TOGETHER)
                for total, values in zip(self.all.T, self._terms([v[rows] for v in x], len(key[rows])).T):
                    np.add.at(total, key[rows], values)
            return
        self.waiting.append(_by_cell(key, self._terms(x, len(key))))
        if sum(len(k) for k, _ in self.waiting) > MERGE:
            self.waiting = [merged(self.waiting)]

    def _terms(self, x: list[Array], n: int) -> Array:
        """What a row adds to its cell, (n, width)."""
        out, m = np.empty((n, self.width)), len(x)
        out[:, 0] = 1.0
        for i, v in enumerate(x):
            np.subtract(v, self.centre[i], out=out[:, 1 + i])
            out[:, 1 + i] /= self.size[i]
        at = 1 + m
        for i in range(m):
            for j in range(i + 1):
                np.multiply(out[:, 1 + i], out[:, 1 + j], out=out[:, at])
                at += 1
        return out

    def joined(self, other: CellSums) -> CellSums:
        """These and a later part's together; both are used up."""
        if self.all is not None and other.all is not None:
            self.all += other.all
        elif self.waiting or other.waiting:
            self.waiting = [merged([*self.waiting, *other.waiting])]
        return self

    def result(self) -> tuple[Array, Array]:
        """Cells that occur, sorted, and their sums (width, cells)."""
        if self.all is not None:
            keys = np.flatnonzero(self.all[:, 0])
            return keys, (self.all if len(keys) == self.space else self.all[keys]).T
        if not self.waiting:
            return np.zeros(0, dtype=np.int64), np.zeros((self.width, 0))
        keys, sums = merged(self.waiting)
        return keys, sums.T


class NumberedSums(CellSums):
    """Sums by whole number, of which is known beforehand only that not too many lie between the least and the largest."""

    def __init__(self, centre: Array, size: Array) -> None:
        super().__init__(0, centre, size)
        self.low = 0

    def add(self, key: Array, x: list[Array]) -> None:
        """Raises OverflowError where the numbers lie too far apart."""
        if len(key):
            self._reach(int(key.min()), int(key.max()) + 1)
            super().add(key - self.low, x)

    def _reach(self, low: int, high: int) -> None:
        """Make the list hold the cells from low to before high."""
        assert self.all is not None
        first, last = self.low, self.low + self.space
        if self.space and first <= low and high <= last:
            return
        first, last = (
            (low, high)
            if not self.space
            else (first if first <= low else low - ROOM, last if high <= last else high + ROOM)
        )
        if last - first > MOST_LISTED or (last - first) * self.width > MOST_SUMS:
            raise OverflowError
        grown = np.zeros((last - first, self.width))
        grown[self.low - first : self.low - first + self.space] = self.all
        self.low, self.space, self.all = first, last - first, grown

    def joined(self, other: CellSums) -> NumberedSums:
        assert isinstance(other, NumberedSums) and self.all is not None and other.all is not None
        if not other.space:
            return self
        if not self.space:
            return other
        self._reach(other.low, other.low + other.space)
        at = other.low - self.low
        self.all[at : at + other.space] += other.all
        return self

    def result(self) -> tuple[Array, Array]:
        """The numbers that occur, and their sums (width, numbers)."""
        keys, sums = super().result()
        return keys + self.low, sums


def _by_cell(key: Array, terms: Array) -> tuple[Array, Array]:
    """Cells that occur in ``key`` (n,), sorted, and the sums of their ``terms`` (n, width)."""
    order = np.argsort(key, kind="stable")
    key = key[order]
    starts = np.flatnonzero(np.diff(key, prepend=key[:1] - 1))  # of no rows none
    return key[starts], np.add.reduceat(terms[order], starts)


def merged(parts: list[tuple[Array, Array]]) -> tuple[Array, Array]:
    """Sums (cells, width) of all parts by cell, cells sorted; parts may have none."""
    return _by_cell(np.concatenate([k for k, _ in parts]), np.concatenate([s for _, s in parts]))
