"""Columns brought to a common scale before any product is formed.

Centring, scaling and, where that is not enough, orthogonalisation make the likelihood independent of the units
and offsets of the data to rounding; the maps back to the user's scale are kept.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.model import Arrays

Array = NDArray[Any]
ALIAS = 1e-9
ILL = 1e-4


@dataclass(frozen=True)
class Standard:
    """Working columns as rows of ``pool`` (m, n): row 0 is the constant, the last is the response.

    X_user[:, kept] = pool[x].T @ to_work, with ``to_work`` (p, p) upper triangular; the response is
    y - X b0 with ``b0`` on the working scale. ``where`` maps a user's column (by id) to
    (row of pool, shift, scale): column = shift * pool[0] + scale * pool[row]. All rows carry sqrt(weight).
    ``gram`` is pool @ pool.T.
    """

    pool: Array
    gram: Array
    x: list[int]
    kept: list[int]
    to_work: Array
    b0: Array
    where: dict[int, tuple[int, float, float]]

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
    z_columns = [c for u in model.units for b in u.blocks for i, c in enumerate(b.columns) if i != b.constant]
    x_columns = list(model.x[1:] if model.intercept else model.x)
    distinct = {id(c): c for c in [*x_columns, *z_columns]}
    constants = [c for u in model.units for b in u.blocks for i, c in enumerate(b.columns) if i == b.constant]
    pool = np.empty((len(distinct) + 2, model.n))
    pool[0] = 1.0 if root is None else root
    where = {id(c): (0, 0.0, 1.0) for c in constants}
    if model.intercept:
        where[id(model.x[0])] = (0, 0.0, 1.0)
    for row, (key, column) in enumerate(distinct.items(), start=1):
        shift, scale = _fill(pool[row], column, root)
        where[key] = (row, shift, scale)
    shift = _centre(model.y, model.weights) if model.intercept else 0.0
    np.subtract(model.y, shift, out=pool[-1])
    if root is not None:
        pool[-1] *= root
    return _orthogonal(pool, where, model, shift)


def _centre(column: Array, weights: Array | None) -> float:
    first = float(column[0])
    return first + float(np.average(column - first, weights=weights))


def _fill(row: Array, column: Array, root: Array | None) -> tuple[float, float]:
    """Write the standardised column into ``row``; a constant column is only scaled."""
    shift = _centre(column, None if root is None else root**2)
    np.subtract(column, shift, out=row)
    scale = float(np.sqrt(np.dot(row, row) / len(row)))
    if scale <= 1e-13 * abs(shift):
        shift, scale = 0.0, (abs(shift) or 1.0)
        np.copyto(row, column)
    row /= scale
    if root is not None:
        row *= root
    return shift, scale


def _orthogonal(pool: Array, where: dict[int, tuple[int, float, float]], model: Arrays, y_shift: float) -> Standard:
    """Choose the working columns of X, find the aliased ones and subtract the least-squares fit from y."""
    rows = [where[id(c)][0] for c in model.x]
    shifts = np.array([where[id(c)][1] for c in model.x])
    scales = np.array([where[id(c)][2] for c in model.x])
    if not model.intercept and np.any(shifts):
        for c in model.x:  # without an intercept the centred columns span another space
            row, shift, scale = where[id(c)]
            pool[row] += shift / scale * pool[0]
            where[id(c)] = (row, 0.0, scale)
        shifts = np.zeros_like(shifts)
    gram = pool @ pool.T
    p = len(rows)
    kept = list(range(p))
    inner = gram[np.ix_(rows, rows)]
    to_work = np.diag(scales)
    if p and model.intercept:
        to_work[0, :] += np.where(np.arange(p) > 0, shifts, 0.0)
    if not _well_conditioned(inner):
        kept, q, r = _householder(pool[rows])
        to_work = r @ to_work[np.ix_(kept, kept)]
        pool = np.vstack([pool[:-1], q.T, pool[-1:]])
        rows = list(range(len(pool) - 1 - len(kept), len(pool) - 1))
        gram = pool @ pool.T
    b0 = _take_out_least_squares(pool, gram, rows)
    if model.intercept:
        b0 = b0 + y_shift * to_work[:, 0]
    return Standard(pool, gram, rows, kept, to_work, b0, where)


def _take_out_least_squares(pool: Array, gram: Array, rows: list[int]) -> Array:
    """Subtract from the response (last row) its least-squares fit; returns the coefficients (p,)."""
    b0 = np.zeros(len(rows))
    if not rows:
        return b0
    inner = gram[np.ix_(rows, rows)]
    products = gram[:, -1]
    for _ in range(3):
        step = np.linalg.solve(inner, products[rows])
        b0 += step
        full = np.zeros(len(pool) - 1)
        full[rows] = step
        pool[-1] -= full @ pool[:-1]
        products = pool @ pool[-1]
        if np.abs(products[rows]).max() <= 1e-11 * np.sqrt(products[-1] * inner.diagonal().max()):
            break
    gram[-1] = gram[:, -1] = products
    gram[-1, rows] = gram[rows, -1] = 0.0
    return b0


def _well_conditioned(inner: Array) -> bool:
    if not len(inner):
        return True
    d = np.sqrt(np.diag(inner))
    values = np.linalg.eigvalsh(inner / np.outer(d, d))
    return bool(values[0] > ILL * values[-1])


def _householder(columns: Array) -> tuple[list[int], Array, Array]:
    """Orthonormal basis of the columns that are not aliased with earlier ones.

    ``columns`` (p, n). Returns kept positions, Q scaled so that each column has mean square 1 (n, p'), and R
    (p', p') with columns.T[:, kept] = Q R.
    """
    root_n = np.sqrt(columns.shape[1])
    kept: list[int] = []
    norms = np.linalg.norm(columns, axis=1)
    q, r = np.linalg.qr(columns.T)
    if np.all(np.abs(np.diag(r)) > ALIAS * norms) and columns.shape[0] <= columns.shape[1]:
        kept = list(range(len(columns)))
    else:
        basis: list[Array] = []
        for i, column in enumerate(columns):
            rest = column.copy()
            for _ in range(2):
                for b in basis:
                    rest -= (b @ rest) * b
            size = float(np.linalg.norm(rest))
            if size > ALIAS * norms[i]:
                basis.append(rest / size)
                kept.append(i)
        q, r = np.linalg.qr(columns[kept].T)
    return kept, q * root_n, r / root_n
