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

Array = NDArray[Any]
MOST_STACKED = 20_000_000


@dataclass
class Crossing:
    """Cells sorted by level: ``level``, ``column`` (cells,), ``values`` (k, cells); ``starts`` (levels + 1,)."""

    levels: int
    q: int
    level: Array
    column: Array
    values: Array
    starts: Array
    _pairs: tuple[Array, Array, Array] | None = None
    _stack: tuple[Array, Array] | None = None

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
        k, w = len(self.values), right.shape[1]
        out = np.empty((k, w, self.levels))
        picked = right[self.column].T
        for i in range(k):
            for c in range(w):
                out[i, c] = np.bincount(self.level, self.values[i] * picked[c], minlength=self.levels)
        return out

    def transposed_times(self, left: Array) -> Array:
        """sum_j R_j' left_j: left (k, w, J) -> (q, w)."""
        k, w = left.shape[:2]
        out = np.zeros((self.q, w))
        for c in range(w):
            weight = sum(self.values[i] * left[i, c][self.level] for i in range(k))
            out[:, c] = np.bincount(self.column, weight, minlength=self.q)
        return out

    # -- the quadratic products

    def subtract_gram(self, out: Array, c: Array, k: Array) -> None:
        """out -= sum_j R_j' K_j R_j, (q, q); ``c`` (k, k, J) is Z'Z per level, on whose classes K depends."""
        stack = self._classes(c)
        if stack is not None:
            members, matrices = stack
            out -= np.tensordot(k[0, 0][members], matrices, axes=1)
            return
        first, second, _ = self._all_pairs()
        size = len(self.values)
        weight = np.zeros(len(first))
        level = self.level[first]
        for i in range(size):
            for j in range(size):
                weight += self.values[i][first] * k[i, j][level] * self.values[j][second]
        np.negative(weight, out=weight)
        np.add.at(out, (self.column[first], self.column[second]), weight)
        weight[self.column[first] == self.column[second]] = 0.0
        np.add.at(out, (self.column[second], self.column[first]), weight)

    def quadratic(self, bar: Array, keep: Array, c: Array) -> Array:
        """sum_j keep_j (R_j bar R_j') keep_j', (k, k); bar (q, q) symmetric, keep (k, k, J)."""
        stack = self._classes(c)
        if stack is not None:
            members, matrices = stack
            weight = keep[0, 0][members] ** 2
            return np.array([[float(weight @ (matrices.reshape(len(members), -1) @ bar.ravel()))]])
        first, second, target = self._all_pairs()
        size = len(self.values)
        kept = np.zeros((size, len(self.level)))
        for i in range(size):
            for j in range(size):
                kept[i] += keep[i, j][self.level] * self.values[j]
        both = bar.ravel()[target]
        off = (self.column[first] != self.column[second]).astype(float)
        out = np.empty((size, size))
        for i in range(size):
            for j in range(size):
                one = kept[i][first] * kept[j][second]
                two = kept[i][second] * kept[j][first]
                out[i, j] = float(both @ (one + off * two))
        return out

    def per_level(self, bar: Array) -> Array:
        """R_j bar R_j' for every level, (k, k, J)."""
        first, second, target = self._all_pairs()
        size = len(self.values)
        both = bar.ravel()[target]
        off = (self.column[first] != self.column[second]).astype(float)
        out = np.empty((size, size, self.levels))
        for i in range(size):
            for j in range(size):
                weight = both * (self.values[i][first] * self.values[j][second]
                                 + off * self.values[i][second] * self.values[j][first])  # fmt: skip
                out[i, j] = np.bincount(self.level[first], weight, minlength=self.levels)
        return out

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

    def _all_pairs(self) -> tuple[Array, Array, Array]:
        """Pairs of cells (first, second) of one level with column[first] >= column[second], and their target."""
        if self._pairs is None:
            position = np.arange(len(self.level)) - self.starts[self.level]
            first = np.repeat(np.arange(len(self.level)), position + 1)
            ends = np.cumsum(position + 1)
            offset = np.arange(len(first)) - np.repeat(ends - position - 1, position + 1)
            second = self.starts[self.level[first]] + offset
            target = self.column[first] * self.q + self.column[second]
            self._pairs = first, second, target
        return self._pairs
