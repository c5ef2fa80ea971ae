"""The variance of a linear combination of b_hat and u_hat - u where the tail is sparse."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.wide.elimination import WideEliminated
from bold_orchard.crossproducts.wide.probes import TOGETHER, Slopes, slopes
from bold_orchard.crossproducts.wide.products import WideTail

Array = NDArray[Any]
IN_LEVELS = 64  # vectors of signs behind standard errors of single levels: some hundredths of them at most
Column = tuple[int, Array, Array]


def error_variance_wide(e: WideEliminated, x: Array, columns: list[Column]) -> Array:
    """As ``likelihood.prediction_error``: x (p, n) on the working coefficients, (unit, level (n,), part (k, n)) on effects; (n,).

    z'K z + r'(X'H^-1X)^-1 r with r = x - (Gamma Z'H^-1X)' z, exact but for what signs say of K beside its blocks.
    """
    p, rest = len(e.w) - 1, x.copy()
    parts: dict[int, tuple[Array, Array]] = {}
    for f, level, z in columns:  # several clauses may speak of one unit
        parts[f] = level, z if f not in parts else parts[f][1] + z
    for f, (level, z) in parts.items():
        gamma_z = e.factors[f] @ (e.factors[f].T @ z)
        rest -= np.einsum("anw,an->wn", e.projected[f][:, level, :p], gamma_z)
    out = np.einsum("pn,pn->n", rest, np.linalg.solve(e.w[:p, :p], rest)) if p else np.zeros(x.shape[1])
    return np.asarray(out + _of_effects(e, slopes(e, IN_LEVELS), parts)) if parts else out


def _of_effects(e: WideEliminated, s: Slopes, parts: dict[int, tuple[Array, Array]]) -> Array:
    """z'K z over all units together."""
    stage = e.products.stage
    n = len(next(iter(parts.values()))[0])
    out, kz, level = np.zeros(n), None, None
    if stage.unit in parts:
        level, z = parts[stage.unit]
        kz = np.einsum("abn,bn->an", e.k[:, :, level], z)
        out += np.einsum("an,an->n", z, kz) + np.einsum("an,nab,bn->n", kz, s.inner[level], kz)
    gamma_z = s.gamma(s.z)
    for t, own in zip(e.products.wide, e.own_k):
        if t.unit not in parts:
            continue
        place, z = parts[t.unit]
        at_own = np.einsum("nab,bn->an", own[place], z)
        out += np.einsum("an,an->n", z, at_own)
        if kz is not None and level is not None:
            out -= 2.0 * np.einsum("an,abn,bn->n", kz, _cell(t, level, place), at_own)
    mine = None if level is None else np.unique(level, return_inverse=True)
    own_cells = [] if mine is None else [m[mine[0]] for m in e.products.cells]
    for start in range(0, s.z.shape[1], TOGETHER):  # what signs add: both sides, less what the stage takes of them
        at = slice(start, start + TOGETHER)
        both = np.ones((n, len(s.weight[at]))) * s.weight[at]
        for v in (s.moved[:, at], gamma_z[:, at]):
            side = _along(e, v, parts, n)
            for a, cells in enumerate(own_cells):  # of the stage only the levels asked for
                side -= (cells @ v)[mine[1].ravel()] * kz[a][:, None]  # type: ignore[index]
            both *= side
        out += both.sum(axis=1)
    return out


def _along(e: WideEliminated, v: Array, parts: dict[int, tuple[Array, Array]], n: int) -> Array:
    """The tail's part of the combinations times v (q, m), (n, m)."""
    total = np.zeros((n, v.shape[1]))
    for t in e.products.wide:
        if t.unit in parts:
            place, z = parts[t.unit]
            total += np.einsum("nam,an->nm", v[t.at].reshape(t.levels, t.size, -1)[place], z)
    return total


def _cell(t: WideTail, first: Array, second: Array) -> Array:
    """The products of pairs of levels, (k0, k, n); zero where no row has both."""
    keys = t.first.astype(np.int64) * t.levels + t.second
    wanted = first.astype(np.int64) * t.levels + second
    at = np.minimum(np.searchsorted(keys, wanted), max(len(keys) - 1, 0))
    found = keys[at] == wanted if len(keys) else np.zeros(len(wanted), dtype=bool)
    return np.where(found, t.cells[:, :, at], 0.0) if len(keys) else np.zeros((*t.cells.shape[:2], len(wanted)))
