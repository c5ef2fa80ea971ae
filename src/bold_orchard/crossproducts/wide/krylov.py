"""Conjugate gradients for many right-hand sides at once, and what their coefficients say of functions of the matrix.

Hestenes & Stiefel (1952); the coefficients are those of Lanczos' tridiagonal matrix (Golub & Van Loan 2013, section 11.3).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
MOST = 2_000  # products with the matrix beyond which equations count as unsolvable


def solved(times: Callable[[Array], Array], right: Array, tolerance: float) -> tuple[Array, list[tuple[Array, Array]]]:
    """Solve M x = b for every column of ``right`` (q, w), M symmetric positive definite; ``times`` multiplies (q, c) by it.

    A column ends when its residual is ``tolerance`` of b. Also returns each column's tridiagonal matrix, (diagonal, beside it). Raises
    LinAlgError where M is not positive definite or the equations do not come to an end.
    """
    w = right.shape[1]
    out = np.zeros_like(right)
    diagonals: list[list[float]] = [[] for _ in range(w)]
    besides: list[list[float]] = [[] for _ in range(w)]
    size = np.einsum("qc,qc->c", right, right)
    if not np.isfinite(size).all():
        raise np.linalg.LinAlgError("a right-hand side is not finite")
    open_ = np.flatnonzero(size > 0)
    r = right[:, open_].copy()
    p, rr, x = r.copy(), size[open_], np.zeros_like(r)
    last = [(0.0, 0.0)] * w  # alpha and beta of the step before
    for _ in range(MOST):
        if not len(open_):
            return out, [(np.array(d), np.array(b[: max(len(d) - 1, 0)])) for d, b in zip(diagonals, besides)]
        mp = times(p)
        curved = np.einsum("qc,qc->c", p, mp)
        if not (curved > 0).all():
            raise np.linalg.LinAlgError("the crossed part is not positive definite")
        alpha = rr / curved
        x += alpha * p
        r -= alpha * mp
        new = np.einsum("qc,qc->c", r, r)
        beta = new / rr
        for place, column in enumerate(open_):
            a, b = last[column]
            diagonals[column].append(1.0 / alpha[place] + (b / a if a else 0.0))
            besides[column].append(float(np.sqrt(beta[place]) / alpha[place]))
            last[column] = (float(alpha[place]), float(beta[place]))
        rr = new
        done = new <= tolerance**2 * size[open_]
        if done.any():
            out[:, open_[done]] = x[:, done]
            keep = ~done
            open_, r, p, x, rr, beta = open_[keep], r[:, keep], p[:, keep], x[:, keep], rr[keep], beta[keep]
        p = r + beta * p
    raise np.linalg.LinAlgError("the equations of the crossed effects do not come to an end")


def form_of_log(right: Array, tridiagonals: list[tuple[Array, Array]]) -> Array:
    """b' log(M) b for every column (q, w) whose Lanczos coefficients are given (Golub & Meurant 2010), (w,)."""
    from scipy.linalg import eigh_tridiagonal

    out = np.zeros(right.shape[1])
    for c, (diagonal, beside) in enumerate(tridiagonals):
        if len(diagonal):
            values, vectors = eigh_tridiagonal(diagonal, beside)
            if values[0] <= 0:
                raise np.linalg.LinAlgError("the crossed part is not positive definite")
            out[c] = (right[:, c] @ right[:, c]) * float(vectors[0] ** 2 @ np.log(values))
    return out
