"""Rows laid so that sums over the levels of a unit are sums of whole vectors.

Levels with equally many rows stand together: one row of each, then the next row of each. A sum by level then adds vectors, and a value
of a level goes to its rows as a vector. Levels that few others equal stand one after the other.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
PIECE = 32_768  # rows at a time: all columns of a piece fit the cache
ALIKE = 128  # levels with equally many rows from which whole vectors are worth it


@dataclass(frozen=True)
class Block:
    """Levels (J,) whose rows stand together: ``count`` of each, side by side, or, where ``starts`` (J,) and ``counts`` (J,) are given, one level
    after the other. ``rows`` are those of its piece."""

    rows: slice
    levels: Array
    count: int
    starts: Array | None = None
    counts: Array | None = None


@dataclass(frozen=True)
class Piece:
    """A run of rows that holds whole levels; without a unit there are no ``blocks``."""

    rows: slice
    blocks: tuple[Block, ...]

    def sums(self, values: Array, out: Array) -> None:
        """Sums by level of values (..., rows of the piece), to their places in ``out`` (..., all levels)."""
        for b in self.blocks:
            own = values[..., b.rows]
            if b.starts is None:
                out[..., b.levels] = own.reshape(*own.shape[:-1], b.count, len(b.levels)).sum(axis=-2)
            else:
                out[..., b.levels] = np.add.reduceat(own, b.starts, axis=-1)

    def spread(self, values: Array) -> Array:
        """What stands by level (..., all levels), for every row of the piece (..., rows)."""
        out = np.empty((*values.shape[:-1], self.rows.stop - self.rows.start), dtype=values.dtype)
        for b in self.blocks:
            own = values[..., b.levels]
            if b.counts is None:
                at = out[..., b.rows]
                at.reshape(*at.shape[:-1], b.count, len(b.levels))[:] = own[..., None, :]
            else:
                out[..., b.rows] = np.repeat(own, b.counts, axis=-1)
        return out

    def product(self, z: Array, flat: Sequence[bool], u: Array) -> Array:
        """Z u of the piece's rows, (rows,): ``z`` (k, rows), whose ``flat`` columns are 1 throughout, and ``u`` (k, all levels)."""
        out = np.empty(self.rows.stop - self.rows.start)
        sloped, level = [a for a, one in enumerate(flat) if not one], [a for a, one in enumerate(flat) if one]
        for b in self.blocks:
            own, at, columns = u[:, b.levels], out[b.rows], z[:, b.rows]
            if b.counts is None:
                at, columns = at.reshape(b.count, -1), columns.reshape(len(z), b.count, -1)
            else:
                own = np.repeat(own, b.counts, axis=-1)
            if sloped:
                np.multiply(columns[sloped[0]], own[sloped[0]], out=at)
            else:
                at[:] = own[level[0]]
            for a in sloped[1:]:
                at += columns[a] * own[a]
            for a in level[not sloped :]:
                at += own[a]
        return out


def laid(codes: Array, levels: int) -> tuple[Array, list[Piece]]:
    """The order of rows with ``codes`` (n,) below ``levels`` and the pieces they then lie in; levels without rows stand nowhere."""
    sort = _sorted(codes, levels)
    counts = np.bincount(codes, minlength=levels)
    firsts = np.cumsum(counts) - counts
    alike = np.bincount(counts)
    single = (alike[counts] < ALIKE) & (counts > 0)
    alike[0] = 0
    parts, blocks = [], []
    for count in np.flatnonzero(alike >= ALIKE).tolist():
        chosen, most = np.flatnonzero(counts == count), max(PIECE // max(count, 1), ALIKE)
        for own in np.split(chosen, range(most, len(chosen), most)):
            parts.append((firsts[own] + np.arange(count)[:, None]).ravel())
            blocks.append((own, count))
    rest = np.flatnonzero(single)
    upto = np.cumsum(counts[rest])
    for own in np.split(rest, np.unique(np.searchsorted(upto, np.arange(PIECE, upto[-1], PIECE)))) if len(rest) else ():
        if len(own):
            parts.append(
                np.repeat(firsts[own] - (np.cumsum(counts[own]) - counts[own]), counts[own])
                + np.arange(counts[own].sum())
            )
            blocks.append((own, 0))
    return sort[np.concatenate(parts)], _pieces(blocks, counts)


def _sorted(codes: Array, levels: int) -> Array:
    """Rows in the order of their levels; few levels are sorted by their digits, which is faster."""
    return np.argsort(codes.astype(np.uint16) if levels < np.iinfo(np.uint16).max else codes, kind="stable")


def _pieces(blocks: list[tuple[Array, int]], counts: Array) -> list[Piece]:
    """Blocks one after the other, as many together as make a piece."""
    made: list[Piece] = []
    waiting: list[Block] = []
    start = at = 0
    least = PIECE // 2 if counts.sum() > PIECE else PIECE  # what is small is not worth two processors
    for levels, count in blocks:
        own = counts[levels]
        rows = slice(at - start, at - start + int(own.sum()))
        waiting.append(Block(rows, levels, count) if count else Block(rows, levels, 0, np.cumsum(own) - own, own))
        at = start + rows.stop
        if at - start >= least:
            made.append(Piece(slice(start, at), tuple(waiting)))
            waiting, start = [], at
    return [*made, Piece(slice(start, at), tuple(waiting))] if waiting else made


def plain_pieces(n: int) -> list[Piece]:
    """Rows without a unit."""
    return [Piece(slice(at, min(at + PIECE, n)), ()) for at in range(0, n, PIECE)]
