"""Columns brought to a common scale before any product is formed.

Centring, scaling and, where that is not enough, orthogonalisation make the likelihood independent of the units
and offsets of the data to rounding; the maps back to the user's scale are kept. Rows are visited in blocks that
fit the processor's cache, and nothing as long as the data is written.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays

Array = NDArray[Any]
ALIAS = 1e-9  # part of a column that must be its own: nine digits of sixteen are rounding by then
ILL = 1e-4  # ratio of eigenvalues of scaled columns below which they are made orthogonal first
BLOCK = 65536  # rows at a time: a block of a few columns fits the second-level cache


@dataclass(frozen=True)
class Columns:
    """Working columns, made block by block: row r is (source - shift) * sqrt(weight).

    A source None is the constant. ``ready`` sources carry the weight already. The last row is the response, from
    which ``coefficients @ other rows`` is subtracted.
    """

    sources: tuple[Array | None, ...]
    shifts: tuple[float, ...]
    n: int
    root: Array | None
    ready: frozenset[int] = frozenset()
    coefficients: Array | None = None

    def __len__(self) -> int:
        return len(self.sources)

    def blocks(self, size: int = BLOCK) -> Iterator[tuple[slice, Array]]:
        """Yield (rows, values (m, up to size rows)); ``values`` is overwritten by the next block."""
        buffer = np.empty((len(self), min(size, self.n)))
        for start in range(0, self.n, size):
            rows = slice(start, min(start + size, self.n))
            values = buffer[:, : rows.stop - start]
            for r, (source, shift) in enumerate(zip(self.sources, self.shifts)):
                self._fill(values[r], r, source, shift, rows)
            if self.coefficients is not None:
                values[-1] -= self.coefficients @ values[:-1]
            yield rows, values

    def _fill(self, out: Array, r: int, source: Array | None, shift: float, rows: slice) -> None:
        if source is None:
            out[:] = 1.0
        elif shift:
            np.subtract(source[rows], shift, out=out)
        else:
            out[:] = source[rows]
        if self.root is not None and r not in self.ready:
            out *= self.root[rows]

    def gram(self) -> Array:
        """Products of all pairs of rows, (m, m)."""
        total = np.zeros((len(self), len(self)))
        for _, values in self.blocks():
            total += values @ values.T
        return total

    def full(self, rows: list[int]) -> Array:
        """Some rows whole, (len(rows), n)."""
        out = np.empty((len(rows), self.n))
        for at, values in self.blocks():
            out[:, at] = values[rows]
        return out


@dataclass(frozen=True)
class Standard:
    """How the user's columns stand on the working ones.

    X_user[:, kept] = X_work @ to_work, where X_work has the rows ``x`` of ``columns`` divided by ``scales``, and
    ``to_work`` (p, p) is upper triangular; the response is y - X_work b0. ``where`` maps a column's number to
    (row, shift): column = shift + row. ``scales`` (m,) are root mean squares, ``gram`` (m, m) the products of all rows
    before the response lost its fit.
    """

    columns: Columns
    x: list[int]
    kept: list[int]
    to_work: Array
    b0: Array
    scales: Array
    gram: Array
    where: dict[int, tuple[int, float]] = field(repr=False)

    @property
    def log_det(self) -> float:
        """log|to_work|^2, the change of log|X'V^-1 X| from the working to the user's columns."""
        return 2.0 * float(np.log(np.abs(np.diag(self.to_work))).sum())

    def to_user(self, b_work: Array) -> Array:
        """Working coefficients -> the user's, for the kept columns."""
        return np.linalg.solve(self.to_work, self.b0 + b_work)


def standardise(model: Arrays) -> Standard:
    """Centre and scale all distinct columns, find aliased ones, and take out the least-squares fit."""
    root = None if model.weights is None else np.sqrt(model.weights)
    where = {c: (0, 0.0) for u in model.units for b in u.blocks for i, c in enumerate(b.columns) if i == b.constant}
    if model.intercept:
        where[model.x[0]] = (0, 0.0)
    sources: list[Array | None] = [None]
    shifts = [0.0]
    for number in [*model.x, *(c for u in model.units for b in u.blocks for c in b.columns)]:
        if number not in where:
            column = model.columns[number]
            centred = model.intercept or number not in model.x
            shift = _centre(column, model.weights) if centred and not _constant(column) else 0.0
            where[number] = (len(sources), shift)
            sources.append(column)
            shifts.append(shift)
    y_shift = _centre(model.y, model.weights) if model.intercept else 0.0
    columns = Columns((*sources, model.y), (*shifts, y_shift), model.n, root)
    return _choose_x(columns, where, model, y_shift)


def _constant(column: Array) -> bool:
    return bool(column[0] == column[-1] and np.all(column == column[0]))


def _centre(column: Array, weights: Array | None) -> float:
    first = float(column[0])
    if weights is None:
        mean = float(column.mean())
        return mean if abs(mean) < 1e8 * max(float(np.abs(column[:100] - first).max()), 1e-300) else _exact_mean(column)
    return first + float(np.average(column - first, weights=weights))


def _exact_mean(column: Array) -> float:
    """The mean of values that share many leading digits."""
    first = float(column[0])
    return first + float((column - first).mean())


def _choose_x(columns: Columns, where: dict[int, tuple[int, float]], model: Arrays, y_shift: float) -> Standard:
    """Choose the working columns of X, find the aliased ones and subtract the least-squares fit from y."""
    rows = [where[c][0] for c in model.x]
    gram = columns.gram()
    scales = np.sqrt(np.maximum(np.diag(gram), 1e-300) / columns.n)
    scales[-1] = 1.0
    kept = list(range(len(rows)))
    to_work = np.diag(scales[rows])
    if model.intercept:
        shifts = np.array([where[c][1] for c in model.x])
        to_work[0, 1:] += shifts[1:] * scales[0]
    if not _well_conditioned(gram[np.ix_(rows, rows)]):
        kept, q, r = independent_basis(columns.full(rows) / scales[rows][:, None])
        to_work = r @ to_work[np.ix_(kept, kept)]
        rows = list(range(len(columns) - 1, len(columns) - 1 + len(kept)))
        columns = _with_rows(columns, q)
        scales = np.concatenate([scales[:-1], np.ones(len(kept)), scales[-1:]])
        gram = columns.gram()
    b0 = np.zeros(0)
    if rows:
        inner = gram[np.ix_(rows, rows)] / np.outer(scales[rows], scales[rows])
        b0 = np.linalg.solve(inner, gram[rows, -1] / scales[rows])
        coefficients = np.zeros(len(columns) - 1)
        coefficients[rows] = b0 / scales[rows]
        columns = replace(columns, coefficients=coefficients)
    if model.intercept:
        b0 = b0 + y_shift * to_work[:, 0]
    return Standard(columns, rows, kept, to_work, b0, scales, gram, where)


def _with_rows(columns: Columns, q: Array) -> Columns:
    """Insert ready-made rows q (n, p) before the response."""
    extra = tuple(np.ascontiguousarray(c) for c in q.T)
    first = len(columns) - 1
    return replace(
        columns,
        sources=(*columns.sources[:-1], *extra, columns.sources[-1]),
        shifts=(*columns.shifts[:-1], *(0.0 for _ in extra), columns.shifts[-1]),
        ready=frozenset(range(first, first + len(extra))),
    )


def _well_conditioned(inner: Array) -> bool:
    if not len(inner):
        return True
    d = np.sqrt(np.diag(inner))
    if not np.all(d > 0):
        return False
    values = np.linalg.eigvalsh(inner / np.outer(d, d))
    return bool(values[0] > ILL * values[-1])


def independent_basis(columns: Array) -> tuple[list[int], Array, Array]:
    """Orthonormal basis of the columns that are not aliased with earlier ones.

    ``columns`` (p, n). Returns kept positions, Q scaled so that each column has mean square 1 (n, p'), and R
    (p', p') with columns.T[:, kept] = Q R.
    """
    root_n = np.sqrt(columns.shape[1])
    norms = np.linalg.norm(columns, axis=1)
    kept = list(range(len(columns)))
    q, r = np.linalg.qr(columns.T)
    if columns.shape[0] > columns.shape[1] or not np.all(np.abs(np.diag(r)) > ALIAS * norms):
        kept = _independent(columns, norms)
        q, r = np.linalg.qr(columns[kept].T)
    return kept, q * root_n, r / root_n


def _independent(columns: Array, norms: Array) -> list[int]:
    """Positions of the columns that earlier ones do not span (twice-is-enough Gram-Schmidt)."""
    kept: list[int] = []
    basis = np.empty((0, columns.shape[1]))
    for i, column in enumerate(columns):
        rest = column.copy()
        for _ in range(2):
            rest -= (basis @ rest) @ basis
        size = float(np.linalg.norm(rest))
        if size > ALIAS * norms[i] and size > 0:
            basis = np.vstack([basis, rest / size])
            kept.append(i)
    return kept
