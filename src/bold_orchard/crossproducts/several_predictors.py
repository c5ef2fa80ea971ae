"""Cross-products of rows with several linear predictors, whose weights are matrices between these.

Every working column belongs to one predictor. A product of two columns is weighted by the entry of W between their
predictors, so that rows are
gone through once, however many predictors there are.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import linalg

from bold_orchard.crossproducts.arrays import Arrays, RandomBlock, RandomUnit
from bold_orchard.crossproducts.assemble import split, tails_of
from bold_orchard.crossproducts.by_level import Piece, laid, plain_pieces
from bold_orchard.crossproducts.elimination import Backward
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.standardise import Columns, Standard, independent_basis
from bold_orchard.crossproducts.weighted import Weighted, ordered, unmixed

Array = NDArray[Any]


class SeveralRows(Weighted):
    """As ``Weighted``, with linear predictors (P, n) and weights (P, P, n); ``of_x`` (p,) and ``of_z[f]`` (k,) are the
    predictors of columns.

    ``predictor`` gives that of every column of ``model``, whose rows are those of the table.
    """

    def __init__(self, model: Arrays, predictor: Sequence[int], count: int) -> None:
        chain, tail = split(model)
        n = model.n
        self.count = count
        self.order, self.pieces = np.arange(n), plain_pieces(n)
        if chain:
            self.order, self.pieces = laid(model.units[chain[0]].codes, model.units[chain[0]].levels)
        of = np.asarray(predictor, dtype=np.intp)
        columns = [c[self.order] for c in model.columns]
        self.units = tuple(ordered(u, self.order) for u in model.units)
        x, kept, to_work = _fixed(columns, model.x, of)
        self.x, self.of_x = x, of[[model.x[k] for k in kept]]
        made = {f: _effects(u, columns, of) for f, u in enumerate(model.units)}
        self.z = {f: z for f, (_, z) in made.items()}
        numbers = {f: [c for b in u.blocks for c in b.columns] for f, u in enumerate(model.units)}
        self.of_z = {f: of[own] for f, own in numbers.items()}
        self.pool = np.vstack([np.ones((1, n)), *self.z.values(), x, np.zeros((1, n))])
        self.of_pool = np.concatenate([[0], *self.of_z.values(), self.of_x, [0]]).astype(np.intp)
        m, self.works, at = len(self.pool), {}, 1
        for f, z in self.z.items():
            self.works[f] = np.eye(m)[:, at : at + len(z)]
            at += len(z)
        everything = np.eye(m)[:, at:]
        self.standard = Standard(
            Columns((None,) * m, (0.0,) * m, n, None), list(range(at, m - 1)), kept, to_work, np.zeros(len(kept)), np.ones(m), np.eye(m), {}
        )  # fmt: skip
        self.frame = CrossProducts(
            n=n, p=len(kept), standard=self.standard, stages=[], tails=tails_of(model.units, tail), dense=np.zeros((0, 0)),
            z_to_work={f: b for f, (b, _) in made.items()}, units=self.units,
        )  # fmt: skip
        self._finish(chain, everything)

    def entry(self, weight: Array, response: Array, key: tuple[int, int]) -> Array:
        a, b = (self.of_pool[k] for k in key)
        return np.asarray(response[a] if key[1] == len(self.pool) - 1 else weight[a, b])

    def of_fixed(self, x: Array, weight: Array, response: Array) -> tuple[Array, Array]:
        gram, right = np.zeros((len(x), len(x))), np.zeros(len(x))
        for a in range(self.count):
            mine = self.of_x == a
            right[mine] = x[mine] @ response[a]
            for b in range(self.count):
                gram[np.ix_(mine, self.of_x == b)] = (x[mine] * weight[a, b]) @ x[self.of_x == b].T
        return gram, right

    def zeros(self) -> Array:
        return np.zeros((self.count, self.frame.n))

    def times_x(self, b: Array) -> Array:
        return np.array([b[self.of_x == a] @ self.x[self.of_x == a] for a in range(self.count)])

    def into_x(self, values: Array) -> Array:
        out = np.empty(len(self.x))
        for a in range(self.count):
            out[self.of_x == a] = self.x[self.of_x == a] @ values[a]
        return out

    def nearest_x(self, eta: Array) -> Array:
        out = np.empty(len(self.x))
        for a in range(self.count):
            mine = self.of_x == a
            out[mine] = np.linalg.lstsq(self.x[mine].T, eta[a], rcond=None)[0]
        return out

    def along_x(self, i: int, rows: slice) -> Array:
        out = np.zeros((self.count, rows.stop - rows.start))
        out[self.of_x[i]] = self.x[i, rows]
        return out

    def within(self, piece: Piece, effects: dict[int, Array]) -> Array:
        out = np.zeros((self.count, piece.rows.stop - piece.rows.start))
        for f, u in effects.items():
            z = self.z[f][:, piece.rows]
            own = piece.spread(u) if self.is_finest(f) else u[:, self.units[f].codes[piece.rows]]
            for a, (one, part) in enumerate(zip(self.flat[f], own)):
                out[self.of_z[f][a]] += part if one else part * z[a]
        return out

    def pull_by(self, source: Callable[[slice, Piece], Array]) -> dict[int, Array]:
        finest = self.chain[0] if self.chain else None
        out = {f: np.zeros((unit.size, unit.levels)) for f, unit in enumerate(self.units)}
        kept = np.empty((self.count, self.frame.n)) if set(out) - {finest} else None

        def work(rows: slice, piece: Piece) -> None:
            values = source(rows, piece)
            if kept is not None:
                kept[:, rows] = values
            if finest is not None:
                piece.sums(values[self.of_z[finest]] * self.z[finest][:, rows], out[finest])

        self.each(work)
        for f, unit in enumerate(self.units):
            if f != finest and kept is not None:
                for a, total in enumerate(out[f]):
                    total[:] = np.bincount(unit.codes, kept[self.of_z[f][a]] * self.z[f][a], unit.levels)
        return out

    def at_nodes(self, fixed: Array, u: Array) -> Array:
        eta = np.repeat(fixed[:, None], len(u), axis=1)
        for a, z in enumerate(self.z[0]):
            eta[self.of_z[0][a]] += self.of_level(u[:, a]) * z
        return eta

    def by_effect(self, slopes: Array) -> Iterator[Array]:
        return (slopes[p] * z for p, z in zip(self.of_z[0], self.z[0]))

    def of_pairs(self, products: Array) -> Array:
        h = np.zeros((self.count, self.count, self.frame.n))
        for a, b in itertools.product(range(len(products)), repeat=2):
            h[self.of_z[0][a], self.of_z[0][b]] += self.z[0][a] * self.z[0][b] * self.of_level(products[a, b])
        return h

    def leverages(self, products: CrossProducts, back: Backward) -> Callable[[slice, Piece], Array]:
        """A function of a piece that gives z_i' (adjoint of all products) z_i of its rows, for every two predictors (P,
        P, rows)."""
        places = [None if self.in_order else self._place(stage.order, stage.unit) for stage in products.stages]
        beside = [self._beside_tails(products, i, back.rights.get(i)) for i in range(len(places))]
        dense = unmixed(products, back.dense[: products.q, : products.q]) if products.q else None

        def made(rows: slice, piece: Piece) -> Array:
            h = np.zeros((self.count, self.count, rows.stop - rows.start))

            def add(f: int, a: int, g: int, b: int, values: Array, both: bool = True) -> None:
                made = self.z[f][a, rows] * self.z[g][b, rows] * values
                p, q = self.of_z[f][a], self.of_z[g][b]
                h[p, q] += made
                if both:
                    h[q, p] += made

            for i, stage in enumerate(products.stages):
                f, place = stage.unit, places[i]
                code = self.units[f].codes[rows] if place is None else place[rows]
                for a, b in itertools.product(range(stage.size), repeat=2):
                    add(f, a, f, b, back.inverse[f][a, b][code], False)
                for g, columns in stage.slices.items() if i in back.rights else ():
                    for a, (b, at) in itertools.product(
                        range(stage.size), enumerate(range(columns.start, columns.stop))
                    ):
                        add(f, a, products.stages[g].unit, b, back.rights[i][a, at][code])
                for t, a, blocks in beside[i]:
                    for b in range(t.size):
                        add(f, a, t.unit, b, blocks[b][self.units[t.unit].codes[rows], code])
            for t, s in itertools.product(products.tails, products.tails):
                assert dense is not None
                block = dense[t.columns, s.columns].reshape(t.size, t.levels, s.size, s.levels)
                for a, b in itertools.product(range(t.size), range(s.size)):
                    values = block[a, :, b][self.units[t.unit].codes[rows], self.units[s.unit].codes[rows]]
                    add(t.unit, a, s.unit, b, values, False)
            return h

        return made


def _fixed(columns: list[Array], numbers: Sequence[int], of: Array) -> tuple[Array, list[int], Array]:
    """Working columns of X (p', n), orthonormal inside each predictor, the positions kept, and X[:, kept] = X_work @
    to_work."""
    n, parts, kept, blocks = len(columns[0]) if columns else 0, [np.zeros((0, 0))], [], []
    parts = []
    for a in sorted({int(of[c]) for c in numbers}):
        places = [i for i, c in enumerate(numbers) if of[c] == a]
        own = np.array([columns[numbers[i]] for i in places])
        scales = np.sqrt(np.maximum((own**2).mean(axis=1), 1e-300))
        have, q, r = independent_basis(own / scales[:, None])
        parts.append(q.T)
        kept += [places[i] for i in have]
        blocks.append(r * scales[have])
    return (
        (np.vstack(parts) if parts else np.zeros((0, n))),
        kept,
        linalg.block_diag(*blocks) if blocks else np.zeros((0, 0)),
    )


def _effects(unit: RandomUnit, columns: list[Array], of: Array) -> tuple[Array, Array]:
    """User effects -> working effects (k, k), and the working columns (k, n): slopes centred and scaled within their
    predictor."""
    back, made = [], []
    for block in unit.blocks:
        z = np.array([columns[c] for c in block.columns])
        b = _scaled(block, z, of)
        back.append(b)
        made.append(np.linalg.solve(b.T, z))
    return linalg.block_diag(*back), np.ascontiguousarray(np.vstack(made))


def _scaled(block: RandomBlock, z: Array, of: Array) -> Array:
    """B of one clause with Z = Z_work B, as far as its structure allows without changing what can be its covariance."""
    k, invariance = len(z), block.structure.invariance
    sizes = np.sqrt((z**2).mean(axis=1))
    sizes = np.where(sizes > 0, sizes, 1.0)
    if invariance == "common":
        return np.eye(k) * float(np.exp(np.mean(np.log(sizes))))
    if invariance not in ("linear", "scale"):
        return np.eye(k)
    b = np.diag(sizes)
    if invariance == "linear":
        own = np.array([of[c] for c in block.columns])
        for a in set(own.tolist()):
            flat = [i for i in np.flatnonzero(own == a) if (z[i] == 1.0).all()]
            for i in np.flatnonzero(own == a) if flat else ():
                if i != flat[0]:
                    shift = float(z[i].mean())
                    b[flat[0], i], b[i, i] = shift, float(z[i].std()) or 1.0
    return b
