"""Products of a unit's many levels with a large tail, kept as cells; the tail's own part stays dense.

Eliminating the unit subtracts ``sum_j R_j' K_j R_j`` from the dense part, where R_j (k, q) has few
non-zero cells. Two ways, chosen by size:

- one effect per level and few distinct values of Z'Z (counts): K_j is the same for all levels of one class, so
  ``sum_j in class R_j' R_j`` is made once for each class and an evaluation combines classes;
- otherwise all pairs of cells of one level are listed once and an evaluation sums over the list.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts import batched

Array = NDArray[Any]
MOST_STACKED = 20_000_000  # entries of all stacked products held at once (160 MB)


@dataclass
class Crossing:
    """Cells sorted by level: ``level``, ``column`` (cells,), ``values`` (k, cells); ``starts`` (levels + 1,)."""

    levels: int
    q: int
    level: Array
    column: Array
    values: Array
    starts: Array
    _pairs: CellPairs | None = None
    _stack: tuple[Array, Array] | None = None
    _mixed: Array | None = None

    @staticmethod
    def build(levels: int, q: int, parts: list[tuple[Array, Array, Array]]) -> Crossing:
        """From (level, column, values (k, cells)) of each tail unit; cells that are zero throughout are left out."""
        level = np.concatenate([p[0] for p in parts])
        column = np.concatenate([p[1] for p in parts])
        values = np.concatenate([p[2] for p in parts], axis=1)
        keep = values.any(axis=0)
        if not keep.all():
            level, column, values = level[keep], column[keep], values[:, keep]
        if len(parts) > 1:
            order = np.lexsort((column, level))
            level, column, values = level[order], column[order], values[:, order]
        starts = np.searchsorted(level, np.arange(levels + 1))
        return Crossing(levels, q, level, column, values, starts)

    # -- products with vectors

    def times(self, right: Array) -> Array:
        """R_j @ right for every level: right (q, w) -> (k, w, J)."""
        picked = right[self.column].T
        return np.stack([self._by_level(v * picked) for v in self.values])

    def _by_level(self, cells: Array) -> Array:
        """Sum (w, cells) over the cells of each level, (w, J)."""
        if self.starts[-2] == self.starts[-1]:  # reduceat needs a cell to start from
            cells = np.pad(cells, ((0, 0), (0, 1)))
        out = np.add.reduceat(cells, self.starts[:-1], axis=1)
        empty = self.starts[1:] == self.starts[:-1]
        if empty.any():
            out[:, empty] = 0.0
        return out

    def transposed_times(self, left: Array) -> Array:
        """sum_j R_j' left_j: left (k, w, J) -> (q, w)."""
        out = np.empty((self.q, left.shape[1]))
        for c in range(left.shape[1]):
            weight = self.values[0] * left[0, c][self.level]
            for i in range(1, len(self.values)):
                weight += self.values[i] * left[i, c][self.level]
            out[:, c] = np.bincount(self.column, weight, minlength=self.q)
        return out

    def cross(self, right: Array, c: Array, k: Array) -> Array:
        """sum_j R_j' K_j right_j, (q, w): right (k, w, J) is the same at every call, c and K as in ``subtract_gram``."""
        stack = self._classes(c)
        if stack is None:
            return self.transposed_times(batched.multiply(k, right))
        return np.tensordot(k[0, 0][stack[0]], self._mixed_classes(right, c, len(stack[0])), axes=1)

    def cross_total(self, bar: Array, keep: Array, right: Array, c: Array) -> float | None:
        """sum_j keep_j^2 (R_j bar right_j'), bar (q, w), by classes; None where there are none."""
        stack = self._classes(c)
        if stack is None:
            return None
        mixed = self._mixed_classes(right, c, len(stack[0]))
        return float(keep[0, 0][stack[0]] ** 2 @ np.tensordot(mixed, bar, axes=2))

    def _mixed_classes(self, right: Array, c: Array, count: int) -> Array:
        """sum of R_j' right_j over each class, (classes, q, w), made once."""
        if self._mixed is None:
            kind = np.unique(c[0, 0], return_inverse=True)[1][self.level]
            sums = [np.bincount(kind * self.q + self.column, self.values[0] * w[self.level], count * self.q)
                    for w in right[0]]  # fmt: skip
            self._mixed = np.stack(sums, axis=1).reshape(count, self.q, -1)
        return self._mixed

    # -- the quadratic products; ``dense`` is the whole dense part, whose first q rows and columns are the tail's

    def subtract_gram(self, dense: Array, c: Array, k: Array) -> None:
        """dense[:q, :q] -= sum_j R_j' K_j R_j; ``c`` (k, k, J) is Z'Z per level, on whose classes K depends."""
        stack = self._classes(c)
        if stack is not None:
            members, matrices = stack
            dense[: self.q, : self.q] -= np.tensordot(k[0, 0][members], matrices, axes=1)
            return
        pairs = self._all_pairs()
        level = self.level[pairs.first]
        weight = np.zeros(len(level))
        for i, one in enumerate(pairs.ones):
            for j, two in enumerate(pairs.twos):
                weight -= one * k[i, j][level] * two
        flat, width = dense.reshape(-1), len(dense)
        np.add.at(flat, pairs.row * width + pairs.column, weight)
        off = pairs.off
        np.add.at(flat, pairs.column[off] * width + pairs.row[off], weight[off])

    def quadratic(self, bar: Array, keep: Array, c: Array) -> Array:
        """sum_j keep_j (R_j bar R_j') keep_j', (k, k); bar as ``dense``, symmetric; keep (k, k, J)."""
        stack = self._classes(c)
        if stack is not None:
            members, matrices = stack
            inner = np.ascontiguousarray(bar[: self.q, : self.q]).reshape(-1)
            return np.array([[float(keep[0, 0][members] ** 2 @ (matrices.reshape(len(members), -1) @ inner))]])
        pairs, size = self._all_pairs(), len(self.values)
        level = self.level[pairs.first]
        both = bar.reshape(-1)[pairs.row * len(bar) + pairs.column]
        both[pairs.off] *= 2.0
        keeps = [[keep[i, j][level] for j in range(size)] for i in range(size)]
        ones = [sum(keeps[i][j] * pairs.ones[j] for j in range(size)) for i in range(size)]
        twos = [sum(keeps[i][j] * pairs.twos[j] for j in range(size)) for i in range(size)]
        out = np.array([[float(both @ (a * b)) for b in twos] for a in ones])
        return (out + out.T) / 2

    def per_level(self, bar: Array) -> Array:
        """R_j bar R_j' for every level, (k, k, J); bar as ``dense``."""
        pairs, size = self._all_pairs(), len(self.values)
        both = bar.reshape(-1)[pairs.row * len(bar) + pairs.column]
        both[pairs.off] *= 2.0
        level = self.level[pairs.first]
        out = np.empty((size, size, self.levels))
        for i in range(size):
            for j in range(size):
                out[i, j] = np.bincount(level, both * pairs.ones[i] * pairs.twos[j], minlength=self.levels)
        return (out + out.transpose(1, 0, 2)) / 2

    def _classes(self, c: Array) -> tuple[Array, Array] | None:
        """(a member of each class (m,), sum of R_j' R_j over each class (m, q, q)), or None when too many."""
        if self._stack is None and len(self.values) == 1:
            distinct, members, belongs = np.unique(c[0, 0], return_index=True, return_inverse=True)
            if len(distinct) * self.q**2 <= MOST_STACKED:
                matrices = np.empty((len(distinct), self.q, self.q))
                order = np.argsort(belongs, kind="stable")
                stops = np.searchsorted(belongs[order], np.arange(len(distinct) + 1))
                for m in range(len(distinct)):
                    matrices[m] = self._dense_gram(order[stops[m] : stops[m + 1]])
                self._stack = members, matrices
        return self._stack

    def _dense_gram(self, levels: Array) -> Array:
        """R_j' R_j summed over some levels, by dense products of at most 4,096 levels at a time."""
        total = np.zeros((self.q, self.q))
        for at in range(0, len(levels), 4096):
            chosen = levels[at : at + 4096]
            counts = self.starts[chosen + 1] - self.starts[chosen]
            cells = np.repeat(self.starts[chosen] - np.append(0, np.cumsum(counts)[:-1]), counts) + np.arange(
                counts.sum()
            )
            rows = np.repeat(np.arange(len(chosen)), counts)
            dense = np.zeros((len(chosen), self.q))
            dense[rows, self.column[cells]] = self.values[0][cells]
            total += dense.T @ dense
        return total

    def _all_pairs(self) -> CellPairs:
        if self._pairs is None:
            position = np.arange(len(self.level)) - self.starts[self.level]
            first = np.repeat(np.arange(len(self.level)), position + 1)
            ends = np.cumsum(position + 1)
            offset = np.arange(len(first)) - np.repeat(ends - position - 1, position + 1)
            second = self.starts[self.level[first]] + offset
            row, column = self.column[first], self.column[second]
            off = np.flatnonzero(row != column)
            self._pairs = CellPairs(first, row, column, off, self.values[:, first], self.values[:, second])
        return self._pairs


@dataclass
class CellPairs:
    """Pairs of cells of one level: ``first`` cell; ``row`` >= ``column`` in the tail; values (k, pairs) of both.

    ``off`` lists the pairs of two different cells.
    """

    first: Array
    row: Array
    column: Array
    off: Array
    ones: Array
    twos: Array
