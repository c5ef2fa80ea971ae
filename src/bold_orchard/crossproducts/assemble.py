"""Every product the likelihood needs, summed by unit in one pass; after this no evaluation touches a row.

Units that nest in one another form a chain, eliminated one after the other with block-diagonal work only;
units crossed with the chain form the tail, kept dense. A chain of one unit crossed with a large tail keeps its
products with the tail as cells (``Crossing``).
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays, Codes, RandomUnit
from bold_orchard.crossproducts.cells import Crossing
from bold_orchard.crossproducts.correlated import Correlated
from bold_orchard.crossproducts.row_sums import Pairs, Sums, one_pass, pairs_of
from bold_orchard.crossproducts.stages import CrossProducts, Stage, Tail
from bold_orchard.crossproducts.standardise import Standard, standardise

Array = NDArray[Any]
Entries = tuple[tuple[int, tuple[tuple[int, float], ...]], ...]
# entries of the table of levels by crossed effects from which cells that hold rows are kept alone (32 MB)
DENSE_TAIL = 4_000_000


def cross_products(model: Arrays, few: bool = False) -> tuple[CrossProducts, Correlated | None]:
    """Sum all products by unit; with a residual covariance also what makes them anew for other parameters, ``few`` times or often."""
    frame, works, chain = framed(model)
    standard = frame.standard
    if model.rows is not None:
        correlated = _correlated(model, frame, works, chain, few)
        return correlated.at(model.rows.start)[1], correlated
    builder = Builder(model.units, chain, frame.tails, works, picks_of_w(standard))
    builder.plan()
    response = one_pass(standard.columns, builder.all_sums())
    dense = builder.dense(gram_of_w(standard, response))
    return mixed(replace(frame, stages=[builder.stage(i) for i in range(len(chain))], dense=dense)), None


def framed(model: Arrays) -> tuple[CrossProducts, dict[int, Array], list[int]]:
    """All but the sums: the frame, each unit's map from pool rows to working columns (m, k), and the units of the chain."""
    standard = standardise(model)
    made = {f: working_effects(unit, standard) for f, unit in enumerate(model.units)}
    chain, tail = split(model)
    frame = CrossProducts(
        n=model.n if model.count is None else model.count,
        p=len(standard.kept),
        standard=standard,
        stages=[],
        tails=tails_of(model.units, tail),
        dense=np.zeros((0, 0)),
        z_to_work={f: to_work for f, (to_work, _) in made.items()},
        log_weights=_log_weights(model),
        uneven=1.0
        if model.weights is None or model.count is not None
        else float(model.weights.max() / model.weights.min()),
        units=model.units,
    )
    return frame, {f: work for f, (_, work) in made.items()}, chain


def _log_weights(model: Arrays) -> float:
    return 0.0 if model.weights is None or model.count is not None else float(np.log(model.weights).sum())


def tails_of(units: tuple[RandomUnit, ...], tail: list[int]) -> list[Tail]:
    tails, at = [], 0
    for f in tail:
        columns = slice(at, at + units[f].levels * units[f].size)
        tails.append(Tail(f, units[f].levels, units[f].size, columns, np.arange(units[f].levels)))
        at = columns.stop
    return tails


def mixed(products: CrossProducts) -> CrossProducts:
    """Turn the columns of tail units with a known covariance A = L L' between levels into Z L (in place)."""
    q = products.q
    for t in products.tails:
        mix = products.units[t.unit].relationship_factor
        if mix is None:
            continue
        for a in range(t.size):
            at = slice(t.columns.start + a * t.levels, t.columns.start + (a + 1) * t.levels)
            products.dense[at] = mix.T @ products.dense[at]
            products.dense[:, at] = products.dense[:, at] @ mix
            for stage in products.stages:
                first = stage.right.shape[1] - len(products.dense)
                rows = slice(first + at.start, first + at.stop)
                stage.right[:, rows] = np.einsum("lm,klj->kmj", mix, stage.right[:, rows], optimize=True)
    assert q <= len(products.dense)
    return products


def _correlated(
    model: Arrays, frame: CrossProducts, works: dict[int, Array], chain: list[int], few: bool
) -> Correlated:
    """Tail units become explicit columns; every class of entries of R^-1 gets the same sums."""
    assert model.rows is not None
    columns = frame.standard.columns
    m, q = len(columns), frame.q
    pool = np.zeros((m + q, model.n))
    for at, values in columns.blocks():
        pool[:m, at] = values
    for t in frame.tails:
        for a in range(t.size):
            z = works[t.unit][:, a] @ pool[:m]
            pool[m + t.columns.start + a * t.levels + model.units[t.unit].codes, np.arange(model.n)] += z
    w = np.zeros((m + q, q + frame.p + 1))
    w[m:, :q] = np.eye(q)
    w[:m, q:] = picks_of_w(frame.standard)
    padded = {f: np.vstack([work, np.zeros((q, work.shape[1]))]) for f, work in works.items()}
    builder = Builder(model.units, chain, [], padded, w)
    builder.plan()

    def assemble(sums: Sums | None, gram: Array) -> CrossProducts:
        if sums is not None:
            builder.levels[chain[0]] = sums
        stages = [builder.stage(i) for i in range(len(chain))]
        return mixed(replace(frame, stages=stages, dense=w.T @ gram @ w))

    return Correlated(model.rows, pool, builder.levels[chain[0]] if chain else None, assemble, few)


def picks_of_w(standard: Standard) -> Array:
    """Pool rows -> working columns [X, response], (m, p + 1)."""
    rows = [*standard.x, len(standard.columns) - 1]
    picks = np.zeros((len(standard.columns), len(rows)))
    picks[rows, np.arange(len(rows))] = 1.0 / standard.scales[rows]
    return picks


def gram_of_w(standard: Standard, response: Array) -> Array:
    """[X y]'[X y] on the working scale, the response's row from the pass itself."""
    rows = [*standard.x, len(standard.columns) - 1]
    gram = standard.gram[np.ix_(rows, rows)]
    gram[-1] = gram[:, -1] = response[rows]
    return gram / np.outer(standard.scales[rows], standard.scales[rows])


def working_effects(unit: RandomUnit, standard: Standard) -> tuple[Array, Array]:
    """Maps for one unit: user effects -> working effects (k, k), and pool rows -> working columns (m, k).

    With Z_user = Z_work B and Z_user u = Z_work (B u), the first map is B.
    """
    k, m = unit.size, len(standard.columns)
    to_work, picks = np.zeros((k, k)), np.zeros((m, k))
    at = 0
    for block in unit.blocks:
        b = np.eye(len(block.columns))
        places = [standard.where[c] for c in block.columns]
        sizes = [np.hypot(standard.scales[row], shift) if row else 1.0 for row, shift in places]
        invariance = block.structure.invariance
        centred = invariance == "linear" and block.constant is not None
        for i, (row, shift) in enumerate(places):
            scale = standard.scales[row] if centred else sizes[i]
            b[i, i] = {"linear": scale, "scale": scale, "common": np.exp(np.mean(np.log(sizes)))}.get(invariance, 1.0)
            if row == 0:
                b[i, i] = b[i, i] if invariance == "common" else 1.0
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


def split(model: Arrays) -> tuple[list[int], list[int]]:
    """Units of the chain, finest first, and those of the tail.

    A unit with a known covariance between levels, or one that cuts through the units of a residual covariance, goes
    to the tail. When the products of the finest unit with a dense tail would be too many, the chain is that unit alone.
    """
    units = model.units
    by_size = sorted(range(len(units)), key=lambda f: -units[f].levels)
    chain: list[int] = []
    tail: list[int] = []
    for f in by_size:
        fits = units[f].relationship_factor is None and all(nested_in(units[c], units[f]) is not None for c in chain)
        if fits and model.within is not None:
            inside = RandomUnit(model.within, int(model.within.max()) + 1, ())
            fits = nested_in(inside, units[f]) is not None
        (chain if fits else tail).append(f)
    width = sum(units[f].levels * units[f].size for f in tail)
    plain = model.rows is None and all(u.relationship_factor is None for u in units)
    if chain and plain and width * units[chain[0]].levels * units[chain[0]].size > DENSE_TAIL:
        return chain[:1], sorted(chain[1:] + tail, key=lambda f: -units[f].levels)
    return chain, tail


class Builder:
    """Plans which sums are needed, then assembles stages and the dense part from them."""

    def __init__(
        self, units: tuple[RandomUnit, ...], chain: list[int], tails: list[Tail], works: dict[int, Array], w: Array
    ) -> None:
        self.units, self.chain, self.tails, self.works, self.w = units, chain, tails, works, w
        self.levels: dict[int, Sums] = {}
        self.pairs: dict[tuple[int, int], Pairs] = {}
        self.orders: dict[int, Array] = {}
        self.starts: dict[tuple[int, int], Array] = {}
        width = tails[-1].columns.stop * units[chain[0]].levels * units[chain[0]].size if tails and chain else 0
        self.as_cells = width > DENSE_TAIL and all(units[t.unit].relationship_factor is None for t in tails)
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
        made = combine(self.levels[finest], self.works[f], right)
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
        cells = combine(pairs.sums, self.works[f], self.works[t.unit])
        out = np.zeros((self.units[f].size, t.size, t.levels, self.units[f].levels))
        rank = np.empty(self.units[f].levels, dtype=np.intp)
        rank[self.orders[f]] = np.arange(self.units[f].levels)
        out[:, :, pairs.second, rank[pairs.first]] = cells
        return out.reshape(out.shape[0], -1, out.shape[3])

    def _crossing(self, f: int) -> Crossing:
        parts = []
        for t in self.tails:
            pairs = self.pairs[f, t.unit]
            cells = combine(pairs.sums, self.works[f], self.works[t.unit])
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
            with_w = combine(sums, self.works[t.unit], self.w).transpose(0, 2, 1).reshape(-1, len(gram))
            dense[t.columns, q:] = with_w
            dense[q:, t.columns] = with_w.T
            own = combine(sums, self.works[t.unit], self.works[t.unit])
            for a in range(t.size):
                for b in range(t.size):
                    at = np.arange(t.levels)
                    dense[t.columns.start + a * t.levels + at, t.columns.start + b * t.levels + at] = own[a, b]
            for s in self.tails:
                if s.unit > t.unit:
                    pairs = self.pairs[s.unit, t.unit]
                    cells = combine(pairs.sums, self.works[s.unit], self.works[t.unit])
                    for a in range(s.size):
                        for b in range(t.size):
                            i = s.columns.start + a * s.levels + pairs.first
                            j = t.columns.start + b * t.levels + pairs.second
                            dense[i, j] = dense[j, i] = cells[a, b]
        return dense


def combine(sums: Sums, left: Array, right: Array) -> Array:
    """left' (sums) right per level: maps (m, k), (m, c) -> (k, c, levels)."""
    out = np.zeros((left.shape[1], right.shape[1], sums.size))
    for i, x in _entries(left):
        for j, y in _entries(right):
            for a, ca in x:
                for b, cb in y:
                    out[i, j] += sums[a, b] if ca * cb == 1.0 else (ca * cb) * sums[a, b]
    return out


def _entries(picks: Array) -> Entries:
    """For each working column its place and the pool rows it is made of, with their weights."""
    return _held(picks.tobytes(), picks.shape)


@lru_cache(maxsize=64)
def _held(raw: bytes, shape: tuple[int, ...]) -> Entries:
    """The same maps are asked for at every step of a search."""
    picks = np.frombuffer(raw).reshape(shape)
    rows = [np.flatnonzero(column).tolist() for column in picks.T]
    return tuple((i, tuple((r, float(picks[r, i])) for r in own)) for i, own in enumerate(rows))
