"""Cross-products with a weight for every row, made anew at each step of a generalized model.

Rows stand by level of the finest unit (``by_level``). Weights may be negative: only products are formed.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays, RandomUnit
from bold_orchard.crossproducts.assemble import Builder, mixed, picks_of_w, split, tails_of, working_effects
from bold_orchard.crossproducts.by_level import Piece, laid, plain_pieces
from bold_orchard.crossproducts.elimination import Backward
from bold_orchard.crossproducts.stages import CrossProducts, Stage, Tail
from bold_orchard.crossproducts.standardise import Standard, standardise
from bold_orchard.errors import OrchardError
from bold_orchard.threads import at_once

Array = NDArray[Any]
# entries of crossed effects by levels that are held at every step of a generalized search (320 MB)
MOST_GRID = 40_000_000


class Weighted:
    """``order`` (n,) sorts the user's rows; ``x`` (p, n) and ``z[f]`` (k, n) are working columns in that order.

    Effects of every unit are arrays (k, levels) in the user's numbering of levels.
    """

    def __init__(self, model: Arrays, standard: Standard | None = None) -> None:
        """``standard`` is that of more rows than these, where they are a part."""
        chain, tail = split(model)
        n = model.n
        self.order, self.pieces = np.arange(n), plain_pieces(n)
        if chain:
            self.order, self.pieces = laid(model.units[chain[0]].codes, model.units[chain[0]].levels)
        self.standard = standard = standardise(model) if standard is None else standard
        pool = np.empty((len(standard.columns), n))
        for at, values in standard.columns.blocks():
            pool[:, at] = values
        self.pool = pool[:, self.order]
        self.pool[-1] = 0.0
        self.units = tuple(ordered(u, self.order) for u in model.units)
        made = {f: working_effects(u, standard) for f, u in enumerate(model.units)}
        self.works = {f: work for f, (_, work) in made.items()}
        self.z = {f: np.ascontiguousarray(work.T @ self.pool) for f, work in self.works.items()}
        rows = standard.x
        self.x = self.pool[rows] / standard.scales[rows][:, None]
        self.frame = CrossProducts(
            n=n, p=len(rows), standard=standard, stages=[], tails=tails_of(model.units, tail), dense=np.zeros((0, 0)),
            z_to_work={f: b for f, (b, _) in made.items()}, units=self.units,
        )  # fmt: skip
        everything = picks_of_w(standard)
        self._finish(chain, everything)

    def _finish(self, chain: list[int], everything: Array) -> None:
        """What builds the products; ``everything`` maps columns to those of [X, response]."""
        width = sum(t.levels * t.size for t in self.frame.tails)
        if chain and width * self.units[chain[0]].levels * self.units[chain[0]].size > MOST_GRID:
            raise OrchardError(
                f"{width:,} crossed effects beside {self.units[chain[0]].levels:,} levels are more than a generalized model "
                "can hold yet; leave a unit out, or fit a part of the data with --where"
            )
        self.chain = chain
        self.plain, self.full = self._builder(everything[:, -1:]), self._builder(everything)

    def _builder(self, w: Array) -> Builder:
        builder = Builder(self.units, self.chain, self.frame.tails, self.works, w)
        builder.as_cells = False
        builder.plan()
        return builder

    def each(self, work: Callable[[slice, Piece], Any]) -> list[Any]:
        """``work(rows, piece)`` for every piece, so that what it makes on the way stays in the processor's cache."""
        return at_once(lambda piece: work(piece.rows, piece), self.pieces)

    def by_level(self, values: Array) -> Array:
        """Sums of values (..., n) by level of the finest unit, (..., levels)."""
        out = np.empty((*values.shape[:-1], self.units[self.chain[0]].levels))
        self.each(lambda rows, piece: piece.sums(values[..., rows], out))
        return out

    def of_level(self, values: Array) -> Array:
        """What stands by level of the finest unit (..., levels), for every row (..., n)."""
        out = np.empty((*values.shape[:-1], self.frame.n))

        def work(rows: slice, piece: Piece) -> None:
            out[..., rows] = piece.spread(values)

        self.each(work)
        return out

    def at(self, weight: Array, response: Array, with_x: bool = False) -> CrossProducts:
        """Products of all effects (and X) with themselves under ``weight`` (n,), and with ``response`` (n,)."""
        return self.made_by(lambda rows, _: (weight[..., rows], response[..., rows]), with_x)

    def made_by(self, source: Callable[[slice, Piece], tuple[Array, Array]], with_x: bool = False) -> CrossProducts:
        """The same from a function of a piece that gives its rows' weight and response."""
        builder, p = self.full if with_x else self.plain, len(self.x)
        tables = builder.all_sums()
        finest = builder.levels[self.chain[0]] if self.chain else None
        keys = [] if finest is None else list(finest.made)
        totals = np.empty((len(keys), 0 if finest is None else finest.size))
        others = [(table, key) for table in tables if table is not finest for key in table.made]
        last = len(self.pool) - 1

        def work(rows: slice, piece: Piece) -> tuple[list[Array], Array]:
            weight, response = source(rows, piece)

            def product(key: tuple[int, int], out: Array) -> Array:
                made = self.entry(weight, response, key)
                for column in key:
                    if column not in (0, last):
                        made = np.multiply(made, self.pool[column, rows], out=out)
                return made

            rows_here = weight.shape[-1]
            own, spare = np.empty((len(keys), rows_here)), np.empty(rows_here)
            for key, out in zip(keys, own):
                made = product(key, out)
                if made is not out:
                    out[:] = made
            piece.sums(own, totals)
            shared = [np.bincount(table.codes[rows], product(key, spare), table.size) for table, key in others]
            gram = np.zeros((1, 1))
            if with_x:
                gram = np.zeros((p + 1, p + 1))
                gram[:p, :p], gram[p, :p] = self.of_fixed(self.x[:, rows], weight, response)
                gram[:p, p] = gram[p, :p]
            return shared, gram

        parts = self.each(work)
        if finest is not None:
            finest.made |= dict(zip(keys, totals))
        for i, (table, key) in enumerate(others):
            table.made[key] = np.sum([shared[i] for shared, _ in parts], axis=0)
        gram = np.sum([g for _, g in parts], axis=0)
        stages = [builder.stage(i) for i in range(len(self.chain))]
        return mixed(replace(self.frame, stages=stages, dense=builder.dense(gram)))

    def entry(self, weight: Array, response: Array, key: tuple[int, int]) -> Array:
        """By what the product of two columns is multiplied in every row; the last column stands for the response."""
        return response if key[1] == len(self.pool) - 1 else weight

    def of_fixed(self, x: Array, weight: Array, response: Array) -> tuple[Array, Array]:
        """X'WX and X' times the response, of some rows."""
        return (x * weight) @ x.T, x @ response

    def zeros(self) -> Array:
        """A linear predictor of nothing."""
        return np.zeros(self.frame.n)

    def times_x(self, b: Array) -> Array:
        """X b of every row."""
        return np.asarray(b @ self.x)

    def into_x(self, values: Array) -> Array:
        """X' times the values of every row, (p,)."""
        return np.asarray(self.x @ values)

    def nearest_x(self, eta: Array) -> Array:
        """Coefficients of which X b is nearest to a linear predictor, (p,)."""
        return np.asarray(np.linalg.lstsq(self.x.T, eta, rcond=None)[0])

    def along_x(self, i: int, rows: slice) -> Array:
        """What one coefficient adds to the linear predictor of some rows."""
        return self.x[i, rows]

    def spread(self, effects: dict[int, Array]) -> Array:
        """Z u: effects (k, levels) of every unit, user's numbering, to rows (n,)."""
        out = self.zeros()

        def work(rows: slice, piece: Piece) -> None:
            out[..., rows] = self.within(piece, effects)

        if effects:
            self.each(work)
        return out

    def within(self, piece: Piece, effects: dict[int, Array]) -> Array:
        """The same for the rows of one piece."""
        total = None
        for f, u in effects.items():
            z, flat = self.z[f][:, piece.rows], self.flat[f]
            if self.is_finest(f):
                part = piece.product(z, flat, u)
                total = part if total is None else np.add(total, part, out=total)
                continue
            codes = self.units[f].codes[piece.rows]
            for a, one in enumerate(flat):
                part = u[a][codes]
                if not one:
                    part *= z[a]
                total = part if total is None else np.add(total, part, out=total)
        return np.zeros(piece.rows.stop - piece.rows.start) if total is None else total

    def at_nodes(self, fixed: Array, u: Array) -> Array:
        """The linear predictor at effects (nodes, k, levels) of the only unit, (nodes, n)."""
        eta = fixed
        for a, one in enumerate(self.flat[0]):
            part = self.of_level(u[:, a])
            if not one:
                part *= self.z[0][a]
            part += eta
            eta = part
        return eta

    def by_effect(self, slopes: Array) -> Iterator[Array]:
        """Slopes in the linear predictor (nodes, n), as those in each effect of the only unit."""
        return (slopes if one else slopes * column for one, column in zip(self.flat[0], self.z[0]))

    def of_pairs(self, products: Array) -> Array:
        """z' M z of every row, (n,), from M (k, k, levels) of the only unit."""
        h = np.zeros(self.frame.n)
        for a, b in itertools.product(range(len(products)), repeat=2):
            h += self.z[0][a] * self.z[0][b] * self.of_level(products[a, b])
        return h

    def is_finest(self, f: int) -> bool:
        """Whether rows stand by the levels of unit f."""
        return bool(self.chain) and f == self.chain[0]

    @cached_property
    def flat(self) -> dict[int, list[bool]]:
        """Which columns of Z are 1 throughout."""
        return {f: [bool(np.all(column == 1.0)) for column in z] for f, z in self.z.items()}

    def pull(self, values: Array) -> dict[int, Array]:
        """Z'values for every unit, (k, levels), user's numbering."""
        return self.pull_by(lambda rows, _: values[..., rows])

    def pull_by(self, source: Callable[[slice, Piece], Array]) -> dict[int, Array]:
        """The same from a function of a piece that gives its rows' values."""
        finest = self.chain[0] if self.chain else None
        out = {f: np.zeros((unit.size, unit.levels)) for f, unit in enumerate(self.units)}
        kept = np.empty(self.frame.n) if set(out) - {finest} else None

        def work(rows: slice, piece: Piece) -> None:
            values = source(rows, piece)
            if kept is not None:
                kept[rows] = values
            if finest is not None:
                made = np.empty((len(out[finest]), len(values)))
                for column, one, own in zip(self.z[finest][:, rows], self.flat[finest], made):
                    np.multiply(values, 1.0 if one else column, out=own)
                piece.sums(made, out[finest])

        self.each(work)
        for f, unit in enumerate(self.units):
            for column, one, total in zip(self.z[f], self.flat[f], out[f] if f != finest else ()):
                total[:] = np.bincount(unit.codes, kept if one else column * kept, unit.levels)
        return out

    def leverages(self, products: CrossProducts, back: Backward) -> Callable[[slice, Piece], Array]:
        """A function of a piece that gives z_i' (adjoint of all products) z_i of its rows."""
        places = [None if self.in_order else self._place(stage.order, stage.unit) for stage in products.stages]
        beside = [self._beside_tails(products, i, back.rights.get(i)) for i in range(len(places))]
        dense = unmixed(products, back.dense[: products.q, : products.q]) if products.q else None

        def made(rows: slice, piece: Piece) -> Array:
            own = np.zeros(rows.stop - rows.start)
            for i, stage in enumerate(products.stages):
                place, inverse, z = places[i], back.inverse[stage.unit], self.z[stage.unit][:, rows]
                code = self.units[stage.unit].codes[rows] if place is None else place[rows]
                for a, one in enumerate(self.flat[stage.unit]):
                    if place is None:
                        part = piece.product(z, self.flat[stage.unit], inverse[a])
                    else:
                        part = np.einsum("bn,bn->n", inverse[a][:, code], z)
                    own += part if one else np.multiply(part, z[a], out=part)
                if i in back.rights:
                    self._beside_parents(own, products, i, back.rights[i], code, rows)
                for t, a, blocks in beside[i]:
                    codes = self.units[t.unit].codes[rows]
                    for b in range(t.size):
                        own += 2.0 * self.z[stage.unit][a, rows] * self.z[t.unit][b, rows] * blocks[b][codes, code]
            if dense is not None:
                self._among_tails(own, products, dense, rows)
            return own

        return made

    def _beside_parents(
        self, h: Array, products: CrossProducts, i: int, rights: Array, code: Array, rows: slice
    ) -> None:
        """Add the products of one stage's effects with those of its parents, for some rows."""
        stage = products.stages[i]
        for g, columns in stage.slices.items():
            z, other = self.z[stage.unit], self.z[products.stages[g].unit]
            for a, (b, at) in itertools.product(range(stage.size), enumerate(range(columns.start, columns.stop))):
                h += 2.0 * z[a, rows] * other[b, rows] * rights[a, at][code]

    def _beside_tails(self, products: CrossProducts, i: int, rights: Array | None) -> list[tuple[Tail, int, Array]]:
        """Adjoints of one stage's products with the tail, by unit of the tail and effect of the stage: (k, levels, J)."""
        made: list[tuple[Tail, int, Array]] = []
        if rights is None:
            return made
        first = products.stages[i].right.shape[1] - len(products.dense)
        for t in products.tails:
            mine = rights[:, first + t.columns.start : first + t.columns.stop]
            mix = products.units[t.unit].relationship_factor
            for a in range(products.stages[i].size):
                own = mine[a].reshape(t.size, t.levels, -1)
                made.append((t, a, own if mix is None else mix @ own))
        return made

    def _among_tails(self, h: Array, products: CrossProducts, dense: Array, rows: slice) -> None:
        for t, s in itertools.product(products.tails, products.tails):
            block = dense[t.columns, s.columns].reshape(t.size, t.levels, s.size, s.levels)
            for a, b in itertools.product(range(t.size), range(s.size)):
                values = block[a, :, b][self.units[t.unit].codes[rows], self.units[s.unit].codes[rows]]
                h += self.z[t.unit][a, rows] * self.z[s.unit][b, rows] * values

    def _place(self, order: Array, f: int) -> Array:
        """Rows' levels of unit f numbered as its stage has them."""
        codes = self.units[f].codes
        rank = np.empty(len(order), dtype=np.intp)
        rank[order] = np.arange(len(order))
        return rank[codes]

    @property
    def in_order(self) -> bool:
        """Whether levels stand in the elimination as the user numbers them: those of a unit alone."""
        return len(self.chain) == 1

    def by_user(self, stage: Stage, values: Array) -> Array:
        """Effects (k, levels) of one stage in the user's numbering."""
        if self.in_order:
            return values
        out = np.empty_like(values)
        out[:, stage.order] = values
        return out

    def to_stages(self, products: CrossProducts, values: dict[int, Array]) -> dict[int, Array]:
        """Sums (k, levels) in the user's numbering -> the elimination's order (Z L for a known covariance)."""
        out = {s.unit: values[s.unit] if self.in_order else values[s.unit][:, s.order] for s in products.stages}
        for t in products.tails:
            mix = products.units[t.unit].relationship_factor
            out[t.unit] = values[t.unit] if mix is None else values[t.unit] @ mix
        return out

    def from_stages(self, products: CrossProducts, values: dict[int, Array]) -> dict[int, Array]:
        """Effects (k, levels) in the elimination's order -> the user's numbering (L u for a known covariance)."""
        out = {}
        for s in products.stages:
            out[s.unit] = self.by_user(s, values[s.unit])
        for t in products.tails:
            mix = products.units[t.unit].relationship_factor
            out[t.unit] = values[t.unit] if mix is None else values[t.unit] @ mix.T
        return out


def unmixed(products: CrossProducts, adjoint: Array) -> Array:
    """The adjoint of Z'WZ from that of (Z L)'W(Z L), tail part (q, q)."""
    out = adjoint
    for t in products.tails:
        mix = products.units[t.unit].relationship_factor
        if mix is None:
            continue
        out = out.copy()
        for a in range(t.size):
            at = slice(t.columns.start + a * t.levels, t.columns.start + (a + 1) * t.levels)
            out[at] = mix @ out[at]
            out[:, at] = out[:, at] @ mix.T
    return out


def ordered(unit: RandomUnit, order: Array) -> RandomUnit:
    return replace(unit, codes=unit.codes[order])
