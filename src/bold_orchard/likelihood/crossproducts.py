"""Every product the likelihood needs, summed by unit in one pass; after this no evaluation touches a row.

Units that nest in one another form a chain, eliminated one after the other with block-diagonal work only;
units crossed with the chain form the tail, kept dense. A chain of one unit crossed with a large tail keeps its
products with the tail as cells (``Crossing``).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.crossing import Crossing
from bold_orchard.likelihood.model import Arrays, Codes, RandomUnit
from bold_orchard.likelihood.standardise import Standard, standardise
from bold_orchard.likelihood.sums import Pairs, Sums, one_pass, pairs_of

Array = NDArray[Any]
DENSE_TAIL = 4_000_000


@dataclass
class Stage:
    """One unit of the chain, J levels, k effects each, levels sorted by their parents.

    ``c`` (k, k, J) is Z'Z per level; ``right`` (k, r, J) is Z' times the columns eliminated later: k_g
    columns for each later unit g of the chain (those of the level's own parent), then the tail unless
    ``crossing`` holds it, then [X y]. ``starts[g]`` are the first levels of each level of g.
    """

    unit: int
    levels: int
    size: int
    c: Array
    right: Array
    slices: dict[int, slice]
    starts: dict[int, Array]
    order: Array
    crossing: Crossing | None = None

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
    order: Array


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
    made = {f: _working_effects(unit, standard) for f, unit in enumerate(model.units)}
    chain, tail = split(model.units)
    builder = _Builder(model.units, chain, tail, {f: work for f, (_, work) in made.items()}, _picks_of_w(standard))
    builder.plan()
    response = one_pass(standard.columns, builder.all_sums())
    log_weights = 0.0 if model.weights is None else float(np.log(model.weights).sum())
    return CrossProducts(
        n=model.n,
        p=len(standard.kept),
        standard=standard,
        stages=[builder.stage(i) for i in range(len(chain))],
        tails=builder.tails,
        dense=builder.dense(_gram_of_w(standard, response)),
        z_to_work={f: to_work for f, (to_work, _) in made.items()},
        log_weights=log_weights,
        units=model.units,
    )


def _picks_of_w(standard: Standard) -> Array:
    """Pool rows -> working columns [X, response], (m, p + 1)."""
    rows = [*standard.x, len(standard.columns) - 1]
    picks = np.zeros((len(standard.columns), len(rows)))
    picks[rows, np.arange(len(rows))] = 1.0 / standard.scales[rows]
    return picks


def _gram_of_w(standard: Standard, response: Array) -> Array:
    """[X y]'[X y] on the working scale, the response's row from the pass itself."""
    rows = [*standard.x, len(standard.columns) - 1]
    gram = standard.gram[np.ix_(rows, rows)]
    gram[-1] = gram[:, -1] = response[rows]
    return gram / np.outer(standard.scales[rows], standard.scales[rows])


def _working_effects(unit: RandomUnit, standard: Standard) -> tuple[Array, Array]:
    """Maps for one unit: user effects -> working effects (k, k), and pool rows -> working columns (m, k).

    With Z_user = Z_work B and Z_user u = Z_work (B u), the first map is B.
    """
    k, m = unit.size, len(standard.columns)
    to_work, picks = np.zeros((k, k)), np.zeros((m, k))
    at = 0
    for block in unit.blocks:
        b = np.eye(len(block.columns))
        places = [standard.where[id(c)] for c in block.columns]
        sizes = [np.hypot(standard.scales[row], shift) if row else 1.0 for row, shift in places]
        freedom = block.structure.freedom
        centred = freedom == "linear" and block.constant is not None
        for i, (row, shift) in enumerate(places):
            scale = standard.scales[row] if centred else sizes[i]
            b[i, i] = {"linear": scale, "scale": scale, "common": np.exp(np.mean(np.log(sizes)))}.get(freedom, 1.0)
            if row == 0:
                b[i, i] = b[i, i] if freedom == "common" else 1.0
            picks[row, at + i] += 1.0 / b[i, i]
            if centred:
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


def split(units: tuple[RandomUnit, ...]) -> tuple[list[int], list[int]]:
    """Units of the chain, finest first, and those of the tail.

    When the products of the finest unit with a dense tail would be too many, the chain is the finest unit alone.
    """
    by_size = sorted(range(len(units)), key=lambda f: -units[f].levels)
    chain: list[int] = []
    tail: list[int] = []
    for f in by_size:
        fits = all(nested_in(units[c], units[f]) is not None for c in chain)
        (chain if fits else tail).append(f)
    width = sum(units[f].levels * units[f].size for f in tail)
    if chain and width * units[chain[0]].levels * units[chain[0]].size > DENSE_TAIL:
        return chain[:1], sorted(chain[1:] + tail, key=lambda f: -units[f].levels)
    return chain, tail


class _Builder:
    """Plans which sums are needed, then assembles stages and the dense part from them."""

    def __init__(
        self, units: tuple[RandomUnit, ...], chain: list[int], tail: list[int], works: dict[int, Array], w: Array
    ) -> None:
        self.units, self.chain, self.works, self.w = units, chain, works, w
        self.tails, at = [], 0
        for f in tail:
            columns = slice(at, at + units[f].levels * units[f].size)
            self.tails.append(Tail(f, units[f].levels, units[f].size, columns, np.arange(units[f].levels)))
            at = columns.stop
        self.levels: dict[int, Sums] = {}
        self.pairs: dict[tuple[int, int], Pairs] = {}
        self.orders: dict[int, Array] = {}
        self.starts: dict[tuple[int, int], Array] = {}
        width = at * (units[chain[0]].levels * units[chain[0]].size if chain else 0)
        self.as_cells = width > DENSE_TAIL
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

    def plan(self) -> None:
        """Tell every table of sums which products it must hold."""
        if self.chain:
            finest = self.chain[0]
            self.levels[finest] = Sums(self.units[finest].codes, self.units[finest].levels)
            for i, f in enumerate(self.chain):
                for g in [*self.chain[i:], None]:
                    self._want(self.levels[finest], self.works[f], self.w if g is None else self.works[g])
        for t in self.tails:
            unit = self.units[t.unit]
            self.levels[t.unit] = Sums(unit.codes, unit.levels)
            self._want(self.levels[t.unit], self.works[t.unit], self.w)
            self._want(self.levels[t.unit], self.works[t.unit], self.works[t.unit])
            others = [s.unit for s in self.tails if s.unit > t.unit] + self.chain
            for f in others:
                self.pairs[f, t.unit] = pairs_of(self.units[f], unit)
                self._want(self.pairs[f, t.unit].sums, self.works[f], self.works[t.unit])

    @staticmethod
    def _want(sums: Sums, left: Array, right: Array) -> None:
        for a in np.flatnonzero(left.any(axis=1)):
            for b in np.flatnonzero(right.any(axis=1)):
                sums.want(int(a), int(b))

    def all_sums(self) -> list[Sums]:
        return [*self.levels.values(), *(p.sums for p in self.pairs.values())]

    def block(self, f: int, right: Array) -> Array:
        """Z_f' times working columns ``right`` (m, c) by level of chain unit f: (k, c, J_f)."""
        finest = self.chain[0]
        made = _combine(self.levels[finest], self.works[f], right)
        if len(self.chain) > 1:
            made = np.take(made, self.orders[finest], axis=-1)
        return made if f == finest else np.add.reduceat(made, self.starts[finest, f], axis=-1)

    def stage(self, i: int) -> Stage:
        f = self.chain[i]
        unit = self.units[f]
        parts, slices, starts, at = [], {}, {}, 0
        for position, g in enumerate(self.chain[i + 1 :], start=i + 1):
            parts.append(self.block(f, self.works[g]))
            slices[position] = slice(at, at + self.units[g].size)
            starts[position] = self.starts[f, g]
            at += self.units[g].size
        crossing = None
        if self.as_cells:
            crossing = self._crossing(f)
        else:
            parts += [self._grid(f, t) for t in self.tails]
        parts.append(self.block(f, self.w))
        right = np.concatenate(parts, axis=1) if len(parts) > 1 else parts[0]
        c = self.block(f, self.works[f])
        return Stage(f, unit.levels, unit.size, c, right, slices, starts, self.orders[f], crossing)

    def _grid(self, f: int, t: Tail) -> Array:
        """Z_f' Z_t for all pairs of levels, (k_f, k_t J_t, J_f) in stage order."""
        pairs = self.pairs[f, t.unit]
        cells = _combine(pairs.sums, self.works[f], self.works[t.unit])
        out = np.zeros((self.units[f].size, t.size, t.levels, self.units[f].levels))
        rank = np.empty(self.units[f].levels, dtype=np.intp)
        rank[self.orders[f]] = np.arange(self.units[f].levels)
        out[:, :, pairs.second, rank[pairs.first]] = cells
        return out.reshape(out.shape[0], -1, out.shape[3])

    def _crossing(self, f: int) -> Crossing:
        parts = []
        for t in self.tails:
            pairs = self.pairs[f, t.unit]
            cells = _combine(pairs.sums, self.works[f], self.works[t.unit])
            for a in range(t.size):
                parts.append((pairs.first, t.columns.start + a * t.levels + pairs.second, cells[:, a]))
        q = self.tails[-1].columns.stop
        return Crossing.build(self.units[f].levels, q, parts)

    def dense(self, gram: Array) -> Array:
        """Products among the tail's and [X y]'s columns."""
        q = self.tails[-1].columns.stop if self.tails else 0
        dense = np.zeros((q + len(gram), q + len(gram)))
        dense[q:, q:] = gram
        for t in self.tails:
            sums = self.levels[t.unit]
            with_w = _combine(sums, self.works[t.unit], self.w).transpose(0, 2, 1).reshape(-1, len(gram))
            dense[t.columns, q:] = with_w
            dense[q:, t.columns] = with_w.T
            own = _combine(sums, self.works[t.unit], self.works[t.unit])
            for a in range(t.size):
                for b in range(t.size):
                    at = np.arange(t.levels)
                    dense[t.columns.start + a * t.levels + at, t.columns.start + b * t.levels + at] = own[a, b]
            for s in self.tails:
                if s.unit > t.unit:
                    pairs = self.pairs[s.unit, t.unit]
                    cells = _combine(pairs.sums, self.works[s.unit], self.works[t.unit])
                    for a in range(s.size):
                        for b in range(t.size):
                            i = s.columns.start + a * s.levels + pairs.first
                            j = t.columns.start + b * t.levels + pairs.second
                            dense[i, j] = dense[j, i] = cells[a, b]
        return dense


def _combine(sums: Sums, left: Array, right: Array) -> Array:
    """left' (sums) right per level: maps (m, k), (m, c) -> (k, c, levels)."""
    out = np.zeros((left.shape[1], right.shape[1], sums.size))
    for i, x in _entries(left):
        for j, y in _entries(right):
            for a, ca in x:
                for b, cb in y:
                    out[i, j] += sums[a, b] if ca * cb == 1.0 else (ca * cb) * sums[a, b]
    return out


def _entries(picks: Array) -> Iterator[tuple[int, list[tuple[int, float]]]]:
    for i in range(picks.shape[1]):
        rows = np.flatnonzero(picks[:, i])
        yield i, [(int(r), float(picks[r, i])) for r in rows]
