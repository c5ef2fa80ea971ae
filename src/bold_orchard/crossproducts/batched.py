"""Small dense algebra for many units at once.

Arrays hold one small matrix per unit with the units in the last axis, shape ``(rows, columns, n_units)``, so
that each step is one vector operation over all units; loops run over the small dimensions only.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
CHUNK = 8192  # units worked on together: their small matrices still fit the processor's cache


def chunks(n_units: int) -> list[slice]:
    """Slices of units whose small matrices fit the processor's cache together."""
    return [slice(at, min(at + CHUNK, n_units)) for at in range(0, n_units, CHUNK)]


def multiply(a: Array, b: Array, out: Array | None = None) -> Array:
    """``a @ b`` per unit: (r, k, J) times (k, c, J) -> (r, c, J)."""
    return np.asarray(np.einsum("rkj,kcj->rcj", a, b, out=out))


def multiply_transposed(a: Array, b: Array) -> Array:
    """``a @ b.T`` per unit: (r, k, J) times (c, k, J) -> (r, c, J)."""
    return np.asarray(np.einsum("rkj,ckj->rcj", a, b))


def constant_times(m: Array, b: Array) -> Array:
    """The same small matrix ``m`` (r, k) times every unit's ``b`` (k, c, J)."""
    return (m @ b.reshape(b.shape[0], -1)).reshape(m.shape[0], *b.shape[1:])


def cholesky(a: Array) -> Array:
    """Lower factors of positive definite ``a`` (k, k, J); the upper triangle of the result is unset."""
    k = a.shape[0]
    low = np.zeros_like(a)
    for j in range(k):
        pivot = a[j, j] - np.einsum("mj,mj->j", low[j, :j], low[j, :j]) if j else a[j, j]
        low[j, j] = np.sqrt(pivot)
        for i in range(j + 1, k):
            rest = a[i, j] - np.einsum("mj,mj->j", low[i, :j], low[j, :j]) if j else a[i, j]
            low[i, j] = rest / low[j, j]
    return low


def solve_lower_constant(low: Array, m: Array) -> Array:
    """``low^-1 m`` per unit for one small matrix ``m`` (k, c) -> (k, c, J)."""
    k, c = m.shape
    out = np.empty((k, c, low.shape[2]))
    for i in range(k):
        out[i] = m[i][:, None]
        for n in range(i):
            out[i] -= low[i, n] * out[n]
        out[i] /= low[i, i]
    return out


def gram(f: Array) -> Array:
    """``f.T @ f`` per unit: (r, k, J) -> (k, k, J)."""
    return np.asarray(np.einsum("rij,rkj->ikj", f, f))


def total(a: Array, b: Array) -> Array:
    """Sum over units of ``a @ b``: (r, k, J), (k, c, J) -> (r, c)."""
    return np.asarray(np.einsum("rkj,kcj->rc", a, b))
