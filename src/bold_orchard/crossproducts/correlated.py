"""Cross-products in the metric of correlated or unequal residuals, as functions of phi.

The inverse of R is a sum over classes of entries (see ``rows``), so every product is a sum over classes of
``value(phi) * fixed product``. With few classes the fixed products are made once and no evaluation touches a
row; with many (a continuous spread, many different gaps) each evaluation makes one pass, and one for each phi.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import Bands, RowCovariance
from bold_orchard.crossproducts.elimination import Backward
from bold_orchard.crossproducts.row_sums import Sums
from bold_orchard.crossproducts.stages import CrossProducts

Array = NDArray[Any]
Assemble = Callable[[Sums | None, Array], CrossProducts]
MOST_STACKED = 30_000_000  # entries of all classes' products held at once (240 MB)
# classes of entries of R^-1 whose products are made beforehand: many pay over a search, few for a single evaluation
MOST_CLASSES, FEW_CLASSES = 5_000, 8


class Correlated:
    """``pool`` (m, n) working columns in row order; ``sums`` planned for the finest unit of the chain, if any.

    ``assemble(sums, gram)`` turns filled sums and pool products (m, m) into ``CrossProducts``. ``stack`` (classes, size)
    holds the fixed products of each class, laid out flat, when they are few enough to keep; where only a ``few`` evaluations
    will be asked for, making them for many classes is not worth it.
    """

    def __init__(
        self, rows: RowCovariance, pool: Array, sums: Sums | None, assemble: Assemble, few: bool = False
    ) -> None:
        self.rows, self.pool, self.sums, self.assemble = rows, pool, sums, assemble
        self.totals = None if rows.unit_starts is None else np.add.reduceat(pool, rows.unit_starts, axis=1)
        self.frame = self._products([])
        count = sum(rows.sizes) + rows.unit_size
        self.stack: Array | None = None
        if count * len(_flat(self.frame)) <= MOST_STACKED and count <= (FEW_CLASSES if few else MOST_CLASSES):
            self.stack = np.stack(list(self._each_class()))
        self._last: tuple[bytes, Bands, CrossProducts] | None = None

    def _each_class(self) -> Iterator[Array]:
        """The products of each class of entries, flat."""
        for o, (classes, size) in enumerate(zip(self.rows.classes, self.rows.sizes)):
            order = np.argsort(classes, kind="stable")
            stops = np.searchsorted(classes[order], np.arange(size + 1))
            for c in range(size):
                yield _flat(self._products([(o, order[stops[c] : stops[c + 1]], None)]))
        if self.rows.unit_classes is not None and self.totals is not None:
            for c in range(self.rows.unit_size):
                yield _flat(self._products([], np.flatnonzero(self.rows.unit_classes == c)))

    def at(self, phi: Array) -> tuple[Bands, CrossProducts]:
        """The entries of R^-1 and all products at ``phi``."""
        key = np.asarray(phi).tobytes()
        if self._last is None or self._last[0] != key:
            bands = self.rows.at(phi)
            self._last = key, bands, self._combined(bands.values, bands.totals)
        return self._last[1:]

    def slope(self, phi: Array, back: Backward) -> Array:
        """d criterion / d phi, (n_phi,), from the adjoints of all products."""
        bands, _ = self.at(phi)
        totals = bands.totals_slopes
        if self.stack is None:
            made = [
                self._combined([s[a] for s in bands.slopes], None if totals is None else totals[a])
                for a in range(len(phi))
            ]
            return bands.log_det_slope + np.array([back.inner(cp) for cp in made])
        slopes = np.concatenate([*bands.slopes, *([] if totals is None else [totals])], axis=1)
        return bands.log_det_slope + slopes @ (self.stack @ _flat_adjoint(self.frame, back))

    def _combined(self, values: list[Array], totals: Array | None) -> CrossProducts:
        if self.stack is not None:
            return _unflat(self.frame, np.concatenate([*values, *([] if totals is None else [totals])]) @ self.stack)
        terms: list[tuple[int, Array, Array | None]] = []
        for o, (classes, value) in enumerate(zip(self.rows.classes, values)):
            index = np.flatnonzero(classes >= 0)
            terms.append((o, index, value[classes[index]]))
        if totals is None or self.rows.unit_classes is None:
            return self._products(terms)
        return self._products(terms, np.arange(len(self.rows.unit_classes)), totals[self.rows.unit_classes])

    def _products(
        self, terms: list[tuple[int, Array, Array | None]], units: Array | None = None, weight: Array | None = None
    ) -> CrossProducts:
        """Products over the pairs (row, row - offset) of each term, weighted; both orders of a pair count.

        ``units`` adds the products of those units' totals, weighted by ``weight``.
        """
        gram = np.zeros((len(self.pool), len(self.pool)))
        sums = None if self.sums is None else Sums(self.sums.codes, self.sums.size)
        if sums is not None and self.sums is not None:
            sums.made = {key: np.zeros(sums.size) for key in self.sums.made}
        if units is not None and self.totals is not None and self.rows.unit_starts is not None:
            right = self.totals[:, units]
            left = right if weight is None else right * weight
            gram += left @ right.T
            if sums is not None:
                _add(sums, sums.codes[self.rows.unit_starts[units]], left, right, False)
        for offset, index, factor in terms:
            for at in range(0, len(index), 65536):
                rows = index[at : at + 65536]
                left, right = self.pool[:, rows], self.pool[:, rows - offset]
                if factor is not None:
                    left = left * factor[at : at + 65536]
                gram += left @ right.T
                if offset:
                    gram += right @ left.T
                if sums is not None:
                    _add(sums, sums.codes[rows], left, right, offset > 0)
        return self.assemble(sums, gram)


def _add(sums: Sums, codes: Array, left: Array, right: Array, both: bool) -> None:
    for a, b in sums.made:
        product = left[a] * right[b]
        if both:
            product += left[b] * right[a]
        np.add.at(sums.made[a, b], codes, product)


def _flat(products: CrossProducts) -> Array:
    parts = [part.ravel() for s in products.stages for part in (s.c, s.right)]
    return np.concatenate([*parts, products.dense.ravel()])


def _flat_adjoint(frame: CrossProducts, back: Backward) -> Array:
    """The adjoint in the layout of ``_flat``, so that a change of f is one scalar product."""
    parts = []
    for i, s in enumerate(frame.stages):
        parts += [back.inverse[s.unit].ravel(), 2.0 * back.rights[i].ravel()]
    return np.concatenate([*parts, back.dense.ravel()])


def _unflat(frame: CrossProducts, flat: Array) -> CrossProducts:
    stages, at = [], 0
    for s in frame.stages:
        c = flat[at : at + s.c.size].reshape(s.c.shape)
        at += s.c.size
        right = flat[at : at + s.right.size].reshape(s.right.shape)
        at += s.right.size
        stages.append(replace(s, c=c, right=right))
    return replace(frame, stages=stages, dense=flat[at:].reshape(frame.dense.shape))
