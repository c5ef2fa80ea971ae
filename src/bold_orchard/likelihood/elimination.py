"""Block elimination of the random effects, forwards for the criterion and backwards for its gradient.

With ``H = V / sigma^2 = I + sum_f Z_f Gamma_f Z_f'`` and ``Gamma_f = T_f T_f'``, eliminating one unit replaces the
products C among all other columns by their products in the metric of ``(I + Z Gamma Z')^-1``:

    C_rest <- C_rest - R' K R,   K = T (I + T' C T)^-1 T',   R = Z' [rest]

(Woodbury), and adds ``log|I + T' C T|`` to ``log|H|``. K stays finite for singular T, so the boundary
needs no special case. Running the steps backwards (reverse-mode differentiation of the same recursion; for
covariances this is the selected inverse) gives the exact gradient.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood import batched
from bold_orchard.likelihood.crossproducts import CrossProducts, Stage

Array = NDArray[Any]


@dataclass
class StageWork:
    """What elimination of one stage leaves: reduced ``c``, ``right``; ``f`` with K = f'f; ``y`` = f right."""

    stage: Stage
    t: Array
    c: Array
    right: Array
    f: Array
    y: Array

    @property
    def k(self) -> Array:
        return batched.gram(self.f)


@dataclass
class TailWork:
    """The dense part: ``s`` (q, q) and ``right`` (q, w) reduced, K (q, q), ``lam`` (q, q) block factor."""

    lam: Array
    s: Array
    right: Array
    k: Array
    a_inverse: Array


@dataclass
class Eliminated:
    """Forward pass: ``log_det`` = log|H|; ``w`` (p+1, p+1) = [X y]' H^-1 [X y]."""

    products: CrossProducts
    works: list[StageWork]
    tail: TailWork | None
    log_det: float
    w: Array


def eliminate(products: CrossProducts, factors: list[Array]) -> Eliminated:
    """Eliminate every unit; ``factors[f]`` is T of unit f, (k_f, k_f)."""
    stages = products.stages
    cs = [s.c for s in stages]
    rights = [s.right for s in stages]
    owned = [False] * len(stages)
    dense = products.dense.copy()
    works, log_det = [], 0.0
    for i, stage in enumerate(stages):
        t = factors[stage.unit]
        low = batched.cholesky(_plus_identity(_sandwich(t, cs[i])))
        for a in range(stage.size):
            log_det += 2.0 * float(np.log(low[a, a]).sum())
        f = batched.solve_lower_constant(low, t.T)
        y = batched.multiply(f, rights[i])
        works.append(StageWork(stage, t, cs[i], rights[i], f, y))
        for g, columns in stage.slices.items():
            if not owned[g]:
                cs[g], rights[g], owned[g] = cs[g].copy(), rights[g].copy(), True
            mine, after = y[:, columns], y[:, columns.stop :]
            cs[g] -= stage.up(g, batched.multiply(mine.transpose(1, 0, 2), mine))
            rights[g] -= stage.up(g, batched.multiply(mine.transpose(1, 0, 2), after))
        start = y.shape[1] - len(dense)
        for a in range(stage.size):
            dense -= y[a, start:] @ y[a, start:].T
    return _eliminate_tail(products, factors, works, log_det, dense)


def _sandwich(t: Array, c: Array) -> Array:
    """T' C T per unit."""
    half = batched.constant_times(t.T, c)
    return batched.constant_times(t.T, half.transpose(1, 0, 2))


def _plus_identity(a: Array) -> Array:
    a[np.arange(len(a)), np.arange(len(a))] += 1.0
    return a


def _eliminate_tail(
    products: CrossProducts, factors: list[Array], works: list[StageWork], log_det: float, dense: Array
) -> Eliminated:
    q = products.q
    if q == 0:
        return Eliminated(products, works, None, log_det, dense)
    from scipy.linalg import lapack

    lam = np.zeros((q, q))
    for t in products.tails:
        lam[t.columns, t.columns] = np.kron(factors[t.unit], np.eye(t.levels))
    s, right = dense[:q, :q], dense[:q, q:]
    a = _tail_sandwich(products, factors, s)
    a[np.diag_indices(q)] += 1.0
    low, info = lapack.dpotrf(a, lower=1, clean=0, overwrite_a=1)
    if info:
        raise np.linalg.LinAlgError("the tail is not positive definite")
    log_det += 2.0 * float(np.log(np.diag(low)).sum())
    inverse, _ = lapack.dpotri(low, lower=1, overwrite_c=1)
    inverse = np.tril(inverse) + np.tril(inverse, -1).T
    k = lam @ inverse @ lam.T
    w = dense[q:, q:] - right.T @ k @ right
    return Eliminated(products, works, TailWork(lam, s, right, k, inverse), log_det, (w + w.T) / 2)


def _tail_sandwich(products: CrossProducts, factors: list[Array], s: Array) -> Array:
    lam = np.zeros_like(s)
    for t in products.tails:
        lam[t.columns, t.columns] = np.kron(factors[t.unit], np.eye(t.levels))
    return lam.T @ s @ lam


@dataclass
class Backward:
    """Reverse pass for ``f = log|H| + g(W)`` with adjoint ``dg/dW`` given.

    ``slope[f]`` (k, k) is df/dGamma_f; ``inverse[f]`` (k, k, J) the adjoint of each level's C, which for
    g = log|X'H^-1X| is the prediction error variance of the level's effects over sigma^2.
    """

    slope: dict[int, Array]
    inverse: dict[int, Array]


def backward(e: Eliminated, w_bar: Array) -> Backward:
    """Differentiate through the elimination; ``w_bar`` (p+1, p+1) is symmetric."""
    slope: dict[int, Array] = {}
    inverse: dict[int, Array] = {}
    dense_bar = _tail_backward(e, w_bar, slope, inverse)
    c_bars: dict[int, Array] = {}
    right_bars: dict[int, Array] = {}
    for i in range(len(e.works) - 1, -1, -1):
        work = e.works[i]
        gr = _apply(work, work.right, dense_bar, c_bars, right_bars)
        k = work.k
        q = batched.multiply_transposed(work.right, gr)
        keep = -batched.multiply(work.c, k)
        keep = _plus_identity(keep)
        slope[work.stage.unit] = batched.total(keep, work.c) - batched.total(
            batched.multiply(keep, q), keep.transpose(1, 0, 2)
        )
        kq = batched.multiply(k, q)
        c_bars[i] = k + batched.multiply(kq, k)
        inverse[work.stage.unit] = c_bars[i]
        if i:
            right_bars[i] = -batched.multiply(k, gr)
    return Backward(slope, inverse)


def _apply(
    work: StageWork, rows: Array, dense_bar: Array, c_bars: dict[int, Array], right_bars: dict[int, Array]
) -> Array:
    """The adjoint of everything eliminated after this stage, times ``rows`` (k, r, J) per level."""
    stage = work.stage
    out = np.empty_like(rows)
    d = len(dense_bar)
    split = rows.shape[1] - d
    for a in range(rows.shape[0]):
        np.matmul(dense_bar, rows[a, split:], out=out[a, split:])
    out[:, :split] = 0.0
    for g, columns in stage.slices.items():
        c_bar, right_bar = stage.down(g, c_bars[g]), stage.down(g, right_bars[g])
        mine, after = rows[:, columns], rows[:, columns.stop :]
        out[:, columns] += batched.multiply(mine, c_bar)
        out[:, columns] += batched.multiply_transposed(after, right_bar)
        out[:, columns.stop :] += batched.multiply(mine, right_bar)
    return out


def _tail_backward(e: Eliminated, w_bar: Array, slope: dict[int, Array], inverse: dict[int, Array]) -> Array:
    """Adjoint of the dense part, (q + w, q + w); fills the tail units' slopes."""
    if e.tail is None:
        return w_bar
    t = e.tail
    kr = t.k @ t.right
    s_bar = t.k + kr @ w_bar @ kr.T
    keep_right = t.right - t.s @ kr
    m = t.s - t.s @ t.k @ t.s - keep_right @ w_bar @ keep_right.T
    for unit in e.products.tails:
        shape = (unit.size, unit.levels, unit.size, unit.levels)
        slope[unit.unit] = np.einsum("ajbj->ab", m[unit.columns, unit.columns].reshape(shape))
        own = s_bar[unit.columns, unit.columns].reshape(shape)
        inverse[unit.unit] = np.einsum("ajbj->abj", own)
    return np.block([[s_bar, -kr @ w_bar], [-w_bar @ kr.T, w_bar]])


def scores(e: Eliminated, c: Array) -> tuple[dict[int, Array], dict[int, Array]]:
    """Back substitution for the residual ``[X y] c``, c (p+1,).

    Returns per unit ``v = Z' H^-1 r`` and the predicted effects ``u = Gamma v``, each (k, J) in stage order.
    """
    v: dict[int, Array] = {}
    u: dict[int, Array] = {}
    ahead = c
    if e.tail is not None:
        z = e.tail.right @ c
        effects = e.tail.k @ z
        rest = z - e.tail.s @ effects
        for t in e.products.tails:
            v[t.unit] = rest[t.columns].reshape(t.size, t.levels)
            u[t.unit] = effects[t.columns].reshape(t.size, t.levels)
        ahead = np.concatenate([-effects, c])
    for work in reversed(e.works):
        stage = work.stage
        split = work.right.shape[1] - len(ahead)
        z = np.einsum("krj,r->kj", work.right[:, split:], ahead)
        for g, columns in stage.slices.items():
            parent = stage.down(g, u[e.works[g].stage.unit])
            z -= np.einsum("kcj,cj->kj", work.right[:, columns], parent)
        effects = np.einsum("abj,bj->aj", work.k, z)
        u[stage.unit] = effects
        v[stage.unit] = z - np.einsum("abj,bj->aj", work.c, effects)
    return v, u


def quadratic_forms(e: Eliminated, directions: list[tuple[int, Array]]) -> Array:
    """``q_a' P q_b`` for vectors ``q_a = Z_f w_a``, w_a (k_f, J_f) in stage order; P with sigma^2 = 1.

    P = H^-1 - H^-1 X (X'H^-1X)^-1 X'H^-1. Used for the average information (Gilmour et al. 1995).
    """
    m = len(directions)
    products = e.products
    rights = [np.zeros((s.size, m, s.levels)) for s in products.stages]
    dense = np.zeros((len(products.dense), m))
    both = np.zeros((m, m))
    for b, (unit, w) in enumerate(directions):
        _project(products, unit, w, b, rights, dense)
    for a, (unit, w) in enumerate(directions):
        position = next((i for i, s in enumerate(products.stages) if s.unit == unit), None)
        if position is not None:
            both[a] = np.einsum("kj,kmj->m", w, rights[position])
        else:
            t = next(t for t in products.tails if t.unit == unit)
            both[a] = w.ravel() @ dense[t.columns]
    return _reduce_extra(e, rights, dense, both)


def _project(products: CrossProducts, unit: int, w: Array, b: int, rights: list[Array], dense: Array) -> None:
    """Column b: products of Z_unit w with every Z and with [X y]."""
    stages = products.stages
    position = next((i for i, s in enumerate(stages) if s.unit == unit), None)
    if position is None:
        t = next(t for t in products.tails if t.unit == unit)
        flat = w.ravel()
        dense[:, b] = products.dense[:, t.columns] @ flat
        for i, s in enumerate(stages):
            offset = s.right.shape[1] - len(products.dense)
            columns = slice(offset + t.columns.start, offset + t.columns.stop)
            rights[i][:, b] = np.einsum("krj,r->kj", s.right[:, columns], flat)
        return
    own = stages[position]
    rights[position][:, b] = np.einsum("abj,bj->aj", own.c, w)
    for i, s in enumerate(stages[:position]):
        rights[i][:, b] = np.einsum("kcj,cj->kj", s.right[:, s.slices[position]], s.down(position, w))
    for g, columns in own.slices.items():
        rights[g][:, b] = own.up(g, np.einsum("kcj,kj->cj", own.right[:, columns], w))
    offset = own.right.shape[1] - len(products.dense)
    dense[:, b] = np.einsum("krj,kj->r", own.right[:, offset:], w)


def _reduce_extra(e: Eliminated, rights: list[Array], dense: Array, both: Array) -> Array:
    d = len(dense)
    for i, work in enumerate(e.works):
        y = batched.multiply(work.f, rights[i])
        for g, columns in work.stage.slices.items():
            rights[g] = rights[g] - work.stage.up(g, batched.multiply(work.y[:, columns].transpose(1, 0, 2), y))
        start = work.y.shape[1] - d
        for a in range(work.stage.size):
            dense = dense - work.y[a, start:] @ y[a].T
            both = both - y[a] @ y[a].T
    if e.tail is not None:
        q = len(e.tail.k)
        kd = e.tail.k @ dense[:q]
        both = both - dense[:q].T @ kd
        dense = dense[q:] - e.tail.right.T @ kd
    x = dense[:-1]
    return both - x.T @ np.linalg.solve(e.w[:-1, :-1], x) if len(x) else both
