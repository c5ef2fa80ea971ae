"""The few rows that stand exactly for a cell of summed rows.

A gaussian likelihood knows the rows of a cell by their number, means and products alone. The m + 1 corners of a simplex around the
mean, moved by a root of the scatter, have all of these.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.threads import at_once

Array = NDArray[Any]
CHUNK = 8192  # cells worked on together: their small matrices still fit the processor's cache
ROUNDING = 1e-13  # part of a sum of squares that is its rounding


def rows_of(sums: Array, m: int) -> tuple[Array, Array, Array, Array]:
    """Rows that stand for all cells: values (m, n), the cell of each (n,), its share of the cell's count (n,), and what is constant in it (m, n)."""
    count, mean = sums[0], sums[1 : 1 + m] / sums[0]
    alone, rest = np.flatnonzero(count <= 1), np.flatnonzero(count > 1)
    spread, fixed = np.empty((m, m + 1, len(rest))), np.empty((m, len(rest)), dtype=bool)
    corners = helmert(m)

    def work(start: int) -> None:
        at = slice(start, start + CHUNK)
        own = rest[at]
        low = _root(sums[:, own], mean[:, own], m)
        np.einsum("rk,ikc->irc", corners, low, out=spread[..., at])
        spread[..., at] *= np.sqrt((m + 1) / count[own])
        spread[..., at] += mean[:, None, own]
        fixed[:, at] = (low == 0.0).all(axis=1)

    at_once(work, range(0, len(rest), CHUNK))
    many = spread.reshape(m, -1)
    values = np.concatenate([mean[:, alone], many], axis=1) if len(alone) else many  # spares a copy of everything
    cell = np.concatenate([alone, np.tile(rest, m + 1)])
    share = np.concatenate([np.ones(len(alone)), np.full((m + 1) * len(rest), 1.0 / (m + 1))])
    still = np.concatenate([np.ones((m, len(alone)), dtype=bool), np.tile(fixed, m + 1)], axis=1)
    return values, cell, count[cell] * share, still


def _root(sums: Array, mean: Array, m: int) -> Array:
    """A root (m, m, cells) of the scatter in some cells."""
    count, scatter, at = sums[0], np.empty((m, m, sums.shape[1])), 1 + m
    for i in range(m):
        for j in range(i + 1):
            scatter[i, j] = scatter[j, i] = sums[at] - count * mean[i] * mean[j]
            at += 1
    return factor(scatter, np.einsum("iic->ic", scatter) + count * mean**2)


def factor(scatter: Array, squares: Array) -> Array:
    """A lower factor L (m, m, cells) with L L' = scatter, zero in directions that have no more than the rounding of ``squares`` (m, cells)."""
    m = len(scatter)
    low = np.zeros_like(scatter)
    floor = ROUNDING * np.maximum(squares, 1e-300)
    moves = np.einsum("iic->ic", scatter) > floor
    rest = scatter * (moves[:, None] & moves)
    for k in range(m):
        pivot = rest[k, k]
        good = pivot > floor[k]
        root = np.sqrt(np.where(good, pivot, 1.0))
        column = np.where(good, rest[k:, k] / root, 0.0)
        low[k:, k] = column
        rest[k:, k:] -= column[:, None] * column[None]
    return low


def helmert(m: int) -> Array:
    """(m + 1, m) with orthonormal columns that all add to zero."""
    out = np.zeros((m + 1, m))
    for k in range(1, m + 1):
        out[:k, k - 1] = 1.0
        out[k, k - 1] = -k
        out[:, k - 1] /= np.sqrt(k * (k + 1))
    return out
