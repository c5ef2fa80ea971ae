"""One pass over the rows: every product the likelihood needs, summed by unit.

After this no evaluation touches a row. Units that nest in one another form a chain, eliminated one after
the other with block-diagonal work only; units crossed with the chain form the tail, kept dense.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.model import Arrays, Codes, RandomUnit
from bold_orchard.likelihood.standardise import Standard, standardise

Array = NDArray[Any]


@dataclass
class Stage:
    """One unit of the chain, J levels, k effects each, levels sorted by their parents.

    ``c`` (k, k, J) is Z'Z per level; ``right`` (k, r, J) is Z' times the columns eliminated later: k_g
    columns for each later unit g of the chain (those of the level's own parent), then the tail, then [X y].
    ``starts[g]`` are the first levels of each level of g, for summing over children.
    """

    unit: int
    levels: int
    size: int
    c: Array
    right: Array
    slices: dict[int, slice]
    starts: dict[int, NDArray[np.intp]]
    order: NDArray[np.intp]

    def up(self, g: int, values: Array) -> Array:
        """Sum (..., J) over the levels of stage ``g``."""
        return np.add.reduceat(values, self.starts[g], axis=-1)

    def down(self, g: int, values: Array) -> Array:
        """Repeat (..., J_g) for every child level."""
        counts = np.diff(np.append(self.starts[g], self.levels))
        return np.repeat(values, counts, axis=-1)


@dataclass
class Tail:
    """A unit outside the chain; its effects are ``columns`` of the dense part, ordered (effect, level)."""

    unit: int
    levels: int
    size: int
    columns: slice
    order: NDArray[np.intp]


@dataclass
class CrossProducts:
    """All the likelihood needs of the data.

    ``dense`` (d, d) holds the products of the tail's and [X y]'s columns; X and the response are on the working
    scale of ``standard``. ``z_to_work[f]`` (k, k) maps user effects of unit f to working effects.
    ``log_weights`` is the sum of log weights.
    """

    n: int
    p: int
    standard: Standard
    stages: list[Stage]
    tails: list[Tail]
    dense: Array
    z_to_work: dict[int, Array]
    log_weights: float = 0.0
    units: tuple[RandomUnit, ...] = field(default=(), repr=False)

    @property
    def q(self) -> int:
        """Number of dense tail columns."""
        return sum(t.levels * t.size for t in self.tails)


def cross_products(model: Arrays) -> CrossProducts:
    """Sum all products by unit; the only pass over the rows."""
    standard = standardise(model)
    maps, works = {}, {}
    for f, unit in enumerate(model.units):
        maps[f], works[f] = _working_effects(unit, standard)
    chain, tail = _split(model.units)
    sums = _Sums(standard, model.units, chain)
    w = [*standard.x, len(standard.pool) - 1]
    tails, at = [], 0
    for f in tail:
        unit = model.units[f]
        columns = slice(at, at + unit.levels * unit.size)
        tails.append(Tail(f, unit.levels, unit.size, columns, np.arange(unit.levels)))
        at = columns.stop
    stages = [_stage(i, chain, tails, model.units, works, w, sums) for i in range(len(chain))]
    dense = _dense(tails, works, w, sums, standard.gram)
    log_weights = 0.0 if model.weights is None else float(np.log(model.weights).sum())
    return CrossProducts(model.n, len(standard.kept), standard, stages, tails, dense, maps, log_weights, model.units)


def _working_effects(unit: RandomUnit, standard: Standard) -> tuple[Array, Array]:
    """Maps for one unit: user effects -> working effects (k, k), and pool rows -> working columns (m, k).

    With Z_user = Z_work B and Z_user u = Z_work (B u), the first map is B.
    """
    k, m = unit.size, len(standard.pool)
    to_work, picks = np.zeros((k, k)), np.zeros((m, k))
    at = 0
    for block in unit.blocks:
        b = np.eye(len(block.columns))
        scales = [standard.where[id(c)][2] for c in block.columns]
        common = float(np.exp(np.mean(np.log(scales))))
        for i, column in enumerate(block.columns):
            row, shift, scale = standard.where[id(column)]
            freedom = block.structure.freedom
            b[i, i] = {"linear": scale, "scale": scale, "common": common}.get(freedom, 1.0)
            picks[row, at + i] += scale / b[i, i]
            if freedom == "linear" and block.constant is not None:
                b[block.constant, i] += shift if i != block.constant else 0.0
            else:
                picks[0, at + i] += shift / b[i, i]
        to_work[at : at + len(b), at : at + len(b)] = b
        at += len(b)
    return to_work, picks


def nested_in(child: RandomUnit, parent: RandomUnit) -> Codes | None:
    """For each level of ``child`` its level of ``parent`` (levels,), or None when not nested."""
    above = np.empty(child.levels, dtype=np.intp)
    above[child.codes] = parent.codes
    return above if np.array_equal(above[child.codes], parent.codes) else None


def _split(units: tuple[RandomUnit, ...]) -> tuple[list[int], list[int]]:
    """Units of the chain, finest first, and the others, largest first."""
    by_size = sorted(range(len(units)), key=lambda f: -units[f].levels)
    chain: list[int] = []
    tail: list[int] = []
    for f in by_size:
        fits = all(nested_in(units[c], units[f]) is not None for c in chain)
        (chain if fits else tail).append(f)
    return chain, tail


class _Sums:
    """Sums of products of pool rows by level of the finest unit, each made once."""

    def __init__(self, standard: Standard, units: tuple[RandomUnit, ...], chain: list[int]) -> None:
        self.pool, self.units, self.chain = standard.pool, units, chain
        self.unit_rows = bool(np.all(self.pool[0] == 1.0))
        self._made: dict[tuple[int, int], Array] = {}
        self._buffer = np.empty(self.pool.shape[1])
        self._pairs: dict[tuple[int, int, int, int], Array] = {}
        self.orders: dict[int, NDArray[np.intp]] = {}
        self.starts: dict[tuple[int, int], NDArray[np.intp]] = {}
        if chain:
            self._sort_levels()

    def _sort_levels(self) -> None:
        """Number the levels of the chain so that children of one parent are adjacent."""
        ranks: dict[int, Codes] = {}
        for position in range(len(self.chain) - 1, -1, -1):
            f = self.chain[position]
            unit = self.units[f]
            keys = []
            for g in self.chain[position + 1 :]:
                parents = nested_in(unit, self.units[g])
                assert parents is not None
                keys.append(ranks[g][parents])
            order = np.lexsort(keys) if keys else np.arange(unit.levels)
            self.orders[f] = order
            ranks[f] = np.empty_like(order)
            ranks[f][order] = np.arange(unit.levels)
            for g, key in zip(self.chain[position + 1 :], keys):
                self.starts[f, g] = np.searchsorted(key[order], np.arange(self.units[g].levels))
        self.finest_order = self.orders[self.chain[0]]

    def rows(self, a: int, b: int) -> Array | None:
        """The product of two pool rows, None standing for ones; valid until the next call."""
        if self.unit_rows and 0 in (a, b):
            return self.pool[max(a, b)] if max(a, b) else None
        return np.multiply(self.pool[a], self.pool[b], out=self._buffer)

    def by_level(self, f: int, a: int, b: int) -> Array:
        """sum over rows of pool[a] * pool[b] for each level of chain unit ``f``, in its order (J,)."""
        key = (min(a, b), max(a, b))
        if key not in self._made:
            finest = self.units[self.chain[0]]
            made = np.bincount(finest.codes, self.rows(*key), minlength=finest.levels)
            self._made[key] = made[self.finest_order].astype(float)
        made = self._made[key]
        return made if f == self.chain[0] else np.add.reduceat(made, self.starts[self.chain[0], f])

    def block(self, f: int, left: Array, right: Array) -> Array:
        """sum of left' pool pool' right per level: maps (m, k), (m, c) -> (k, c, J)."""
        out = np.zeros((left.shape[1], right.shape[1], self.units[f].levels))
        for i, x in _entries(left):
            for j, y in _entries(right):
                for a, ca in x:
                    for b, cb in y:
                        made = self.by_level(f, a, b)
                        out[i, j] += made if ca == cb == 1.0 else (ca * cb) * made
        return out

    def pairs(self, f: int, g: int, a: int, b: int) -> Array:
        """sum over rows of pool[a] * pool[b] by (level of f, level of g), user order (J_f, J_g)."""
        key = (f, g, min(a, b), max(a, b))
        if key not in self._pairs:
            one, two = self.units[f], self.units[g]
            cells = one.codes * two.levels + two.codes
            flat = np.bincount(cells, self.rows(a, b), minlength=one.levels * two.levels)
            self._pairs[key] = flat.reshape(one.levels, two.levels).astype(float)
        return self._pairs[key]

    def crossed(self, f: int, g: int, left: Array, right: Array) -> Array:
        """As ``block`` between two units: (k_f, k_g, J_f, J_g)."""
        out = np.zeros((left.shape[1], right.shape[1], self.units[f].levels, self.units[g].levels))
        for i, x in _entries(left):
            for j, y in _entries(right):
                for a, ca in x:
                    for b, cb in y:
                        out[i, j] += (ca * cb) * self.pairs(f, g, a, b)
        return out


def _entries(picks: Array) -> Iterator[tuple[int, list[tuple[int, float]]]]:
    for i in range(picks.shape[1]):
        rows = np.flatnonzero(picks[:, i])
        yield i, [(int(r), float(picks[r, i])) for r in rows]


def _select(rows: list[int], m: int) -> Array:
    picks = np.zeros((m, len(rows)))
    picks[rows, np.arange(len(rows))] = 1.0
    return picks


def _stage(
    i: int, chain: list[int], tails: list[Tail], units: tuple[RandomUnit, ...], works: dict[int, Array],
    w: list[int], sums: _Sums,
) -> Stage:  # fmt: skip
    f = chain[i]
    unit, work = units[f], works[f]
    later = chain[i + 1 :]
    parts, slices, at = [], {}, 0
    for position, g in enumerate(later, start=i + 1):
        parts.append(sums.block(f, work, works[g]))
        slices[position] = slice(at, at + units[g].size)
        at += units[g].size
    for t in tails:
        crossed = sums.crossed(f, t.unit, work, works[t.unit])[:, :, sums.orders[f], :]
        parts.append(crossed.transpose(0, 1, 3, 2).reshape(unit.size, -1, unit.levels))
    parts.append(sums.block(f, work, _select(w, len(sums.pool))))
    return Stage(
        unit=f,
        levels=unit.levels,
        size=unit.size,
        c=sums.block(f, work, work),
        right=np.concatenate(parts, axis=1) if len(parts) > 1 else parts[0],
        slices=slices,
        starts={position: sums.starts[f, g] for position, g in enumerate(later, start=i + 1)},
        order=sums.orders[f],
    )


def _dense(tails: list[Tail], works: dict[int, Array], w: list[int], sums: _Sums, gram: Array) -> Array:
    """Products among the tail's and [X y]'s columns."""
    q = sum(t.levels * t.size for t in tails)
    dense = np.zeros((q + len(w), q + len(w)))
    dense[q:, q:] = gram[np.ix_(w, w)]
    for t in tails:
        unit = sums.units[t.unit]
        for i, x in _entries(works[t.unit]):
            at = slice(t.columns.start + i * t.levels, t.columns.start + (i + 1) * t.levels)
            for j, row in enumerate(w):
                column = np.zeros(unit.levels)
                for a, ca in x:
                    column += ca * np.bincount(unit.codes, sums.rows(a, row), minlength=unit.levels)
                dense[at, q + j] = dense[q + j, at] = column
        for s in tails:
            block = sums.crossed(t.unit, s.unit, works[t.unit], works[s.unit])
            k, c, jt, js = block.shape
            dense[t.columns, s.columns] = block.transpose(0, 2, 1, 3).reshape(k * jt, c * js)
    return dense
