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

from bold_orchard.crossproducts import batched
from bold_orchard.crossproducts.cells import Crossing
from bold_orchard.crossproducts.stages import CrossProducts, Stage, Tail
from bold_orchard.threads import at_once

Array = NDArray[Any]
SMALL_TAIL = 300  # width from which a factorisation is safe and quicker than eigenvalues
NUMPY_INVERSE = 600  # width up to which a plain inverse is quicker than one by the factor
SAFE = 1e-6  # smallest pivot of a factor that may still be inverted without loss of half the digits


@dataclass
class StageWork:
    """What elimination of one stage leaves: reduced ``c``, ``right``; ``f`` with K = f'f; ``y`` = f right."""

    stage: Stage
    c: Array
    right: Array
    f: Array
    y: Array

    @property
    def k(self) -> Array:
        return batched.gram(self.f)


@dataclass
class TailWork:
    """The dense part: ``s`` (q, q) and ``right`` (q, w) reduced, and K (q, q).

    ``inverse[f]`` (k, k) sums the diagonal blocks of (I + T'ST)^-1 over the levels of tail unit f.
    """

    factors: list[Array]
    s: Array
    right: Array
    k: Array
    inverse: dict[int, Array]


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
    stages, q = products.stages, products.q
    cs = [s.c for s in stages]
    rights = [s.right for s in stages]
    owned = [False] * len(stages)
    dense = products.dense.copy()
    works, log_det = [], 0.0
    for i, stage in enumerate(stages):
        f, y, added = factor_levels(factors[stage.unit], cs[i], rights[i])
        log_det += added
        works.append(StageWork(stage, cs[i], rights[i], f, y))
        for g, columns in stage.slices.items():
            if not owned[g]:
                cs[g], rights[g], owned[g] = cs[g].copy(), rights[g].copy(), True
            mine, after = y[:, columns], y[:, columns.stop :]
            cs[g] -= stage.up(g, batched.multiply(mine.transpose(1, 0, 2), mine))
            rights[g] -= stage.up(g, batched.multiply(mine.transpose(1, 0, 2), after))
        first = q if stage.crossing else 0
        start = y.shape[1] - (len(dense) - first)
        for a in range(stage.size):
            dense[first:, first:] -= y[a, start:] @ y[a, start:].T
        if stage.crossing is not None:
            _subtract_crossing(stage.crossing, works[-1], dense, q)
    return _eliminate_tail(products, factors, works, log_det, dense)


def factor_levels(t: Array, c: Array, right: Array) -> tuple[Array, Array, float]:
    """f with K = f'f, y = f right and the sum of log|I + T'CT|, a cacheful of units at a time."""
    f, y = np.empty_like(c), np.empty_like(right)

    def factor(units: slice) -> float:
        low = batched.cholesky(_plus_identity(_sandwich(t, c[..., units])))
        f[..., units] = batched.solve_lower_constant(low, t.T)
        batched.multiply(f[..., units], right[..., units], out=y[..., units])
        return 2.0 * float(sum(np.log(low[a, a]).sum() for a in range(len(t))))

    return f, y, sum(at_once(factor, batched.chunks(c.shape[2])))


def _subtract_crossing(crossing: Crossing, work: StageWork, dense: Array, q: int) -> None:
    k = work.k
    crossing.subtract_gram(dense, work.c, k)
    change = crossing.cross(work.right, work.c, k)
    dense[:q, q:] -= change
    dense[q:, :q] -= change.T


def _sandwich(t: Array, c: Array) -> Array:
    """T' C T per unit."""
    half = batched.constant_times(t.T, c)
    return batched.constant_times(t.T, half.transpose(1, 0, 2))


def _plus_identity(a: Array) -> Array:
    for i in range(len(a)):
        a[i, i] += 1.0
    return a


def _eliminate_tail(
    products: CrossProducts, factors: list[Array], works: list[StageWork], log_det: float, dense: Array
) -> Eliminated:
    q = products.q
    if q == 0:
        return Eliminated(products, works, None, log_det, dense)
    s, right = dense[:q, :q], dense[:q, q:]
    a = _times_factors(products, factors, s.copy())
    a = _times_factors(products, factors, a.T).T
    a[np.diag_indices(q)] += 1.0
    log_a, k = _inverse(a)
    blocks = {t.unit: _summed_blocks(k, t) for t in products.tails}
    k = _times_factors(products, [t.T for t in factors], k)
    k = _times_factors(products, [t.T for t in factors], k.T).T
    w = dense[q:, q:] - right.T @ (k @ right)
    return Eliminated(products, works, TailWork(factors, s, right, k, blocks), log_det + log_a, (w + w.T) / 2)


def _summed_blocks(m: Array, t: Tail) -> Array:
    """Sum over levels of the diagonal blocks (k, k) of a tail unit in m (q, q)."""
    own = m[t.columns, t.columns].reshape(t.size, t.levels, t.size, t.levels)
    return np.einsum("ajbj->ab", own)


def _times_factors(products: CrossProducts, factors: list[Array], m: Array) -> Array:
    """Lambda' m, in place where it can be: Lambda is T (x) I for each tail unit, m (q, c)."""
    for t in products.tails:
        factor, rows = factors[t.unit], m[t.columns]
        if t.size == 1:
            rows *= factor[0, 0]
        else:
            rows[:] = np.tensordot(factor.T, rows.reshape(t.size, t.levels, -1), axes=1).reshape(rows.shape)
    return m


def _inverse(a: Array) -> tuple[float, Array]:
    """log|a| and the inverse of a positive definite (q, q) matrix."""
    if len(a) <= NUMPY_INVERSE:
        low = np.linalg.cholesky(a)
        return 2.0 * float(np.log(np.diag(low)).sum()), np.linalg.inv(a)
    from scipy.linalg import lapack

    low, info = lapack.dpotrf(a if a.flags.f_contiguous else a.T, lower=1, clean=0, overwrite_a=1)
    if info:
        raise np.linalg.LinAlgError("the tail is not positive definite")
    log_a = 2.0 * float(np.log(np.diag(low)).sum())
    inverse, _ = lapack.dpotri(low, lower=1, overwrite_c=1)
    for at in range(0, len(a), 256):
        rows = slice(at, min(at + 256, len(a)))
        own = inverse[rows, rows]
        inverse[rows, rows] = np.tril(own) + np.tril(own, -1).T
        inverse[rows, rows.stop :] = inverse[rows.stop :, rows].T
    return log_a, inverse


@dataclass
class Backward:
    """Reverse pass for ``f = log|H| + g(W)`` with adjoint ``dg/dW`` given.

    ``slope[f]`` (k, k) is df/dGamma_f; ``inverse[f]`` (k, k, J) the adjoint of each level's C, which for
    g = log|X'H^-1X| is the prediction error variance of the level's effects over sigma^2.
    """

    slope: dict[int, Array]
    inverse: dict[int, Array]
    rights: dict[int, Array]
    dense: Array

    def inner(self, products: CrossProducts) -> float:
        """The change of f when all products change by ``products``."""
        total = float(np.vdot(self.dense, products.dense))
        for i, stage in enumerate(products.stages):
            total += float(np.vdot(self.inverse[stage.unit], stage.c))
            total += 2.0 * float(np.vdot(self.rights[i], stage.right))
        return total


def backward(e: Eliminated, w_bar: Array, inverses: bool = False) -> Backward:
    """Differentiate through the elimination; ``w_bar`` (p+1, p+1) is symmetric.

    Without ``inverses`` the adjoints of the finest unit, which nothing else needs, are left out.
    """
    slope: dict[int, Array] = {}
    inverse: dict[int, Array] = {}
    dense_bar = _tail_backward(e, w_bar, slope, inverse)
    c_bars: dict[int, Array] = {}
    right_bars: dict[int, Array] = {}
    for i in range(len(e.works) - 1, -1, -1):
        work = e.works[i]
        if not (i or inverses or work.stage.slices or work.stage.crossing):
            slope[work.stage.unit] = _slope_alone(work, dense_bar)
            break
        k = work.k
        keep = _plus_identity(-batched.multiply(work.c, k))
        slope[work.stage.unit] = batched.total(keep, work.c)
        if work.stage.crossing is not None:
            q = _crossing_backward(work, dense_bar, keep, slope, inverses)
        else:
            gr = _apply(work, work.right, dense_bar, c_bars, right_bars)
            q = batched.multiply_transposed(work.right, gr)
            if i or inverses:
                right_bars[i] = -batched.multiply(k, gr)
        slope[work.stage.unit] -= batched.total(batched.multiply(keep, q), keep.transpose(1, 0, 2))
        if i or inverses:
            if work.stage.crossing is not None:
                q += work.stage.crossing.per_level(dense_bar)
            c_bars[i] = k + batched.multiply(batched.multiply(k, q), k)
            inverse[work.stage.unit] = c_bars[i]
    return Backward(slope, inverse, right_bars, dense_bar)


def _slope_alone(work: StageWork, dense_bar: Array) -> Array:
    """The slope of a unit that has no parent in the chain, when nothing else is asked: a cacheful at a time."""

    def slope(units: slice) -> Array:
        c, right = work.c[..., units], work.right[..., units]
        keep = _plus_identity(-batched.multiply(c, batched.gram(work.f[..., units])))
        gr = np.stack([dense_bar @ rows for rows in right])
        q = batched.multiply_transposed(right, gr)
        return batched.total(keep, c) - batched.total(batched.multiply(keep, q), keep.transpose(1, 0, 2))

    return np.sum(at_once(slope, batched.chunks(work.stage.levels)), axis=0)


def _crossing_backward(
    work: StageWork, dense_bar: Array, keep: Array, slope: dict[int, Array], inverses: bool
) -> Array:
    """Takes the part of the cells off the slope; returns R bar R' per level without that part, (k, k, J)."""
    crossing = work.stage.crossing
    assert crossing is not None
    q = crossing.q
    slope[work.stage.unit] -= crossing.quadratic(dense_bar, keep, work.c)
    own = np.stack([dense_bar[q:, q:] @ rows for rows in work.right])
    rest = batched.multiply_transposed(work.right, own)
    shared = None if inverses else crossing.cross_total(dense_bar[:q, q:], keep, work.right, work.c)
    if shared is not None:
        slope[work.stage.unit] -= 2.0 * shared
        return rest
    mixed = batched.multiply_transposed(crossing.times(dense_bar[:q, q:]), work.right)
    return rest + mixed + mixed.transpose(1, 0, 2)


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
    q = e.products.q
    bar = np.empty((q + len(w_bar), q + len(w_bar)))
    s_bar = bar[:q, :q]
    np.matmul(kr @ w_bar, kr.T, out=s_bar)
    s_bar += t.k
    bar[:q, q:] = -kr @ w_bar
    bar[q:, :q] = bar[:q, q:].T
    bar[q:, q:] = w_bar
    keep_right = t.right - t.s @ kr
    blocks = _kept_blocks(e)
    for unit in e.products.tails:
        mine = keep_right[unit.columns].reshape(unit.size, unit.levels, -1)
        slope[unit.unit] = blocks[unit.unit] - np.einsum("ajv,vw,bjw->ab", mine, w_bar, mine, optimize=True)
        own = s_bar[unit.columns, unit.columns].reshape(unit.size, unit.levels, unit.size, unit.levels)
        inverse[unit.unit] = np.einsum("ajbj->abj", own)
    return bar


def _kept_blocks(e: Eliminated) -> dict[int, Array]:
    """Per tail unit, the blocks of S - S K S summed over levels, (k, k).

    S - S K S = T^-T (I - A^-1) T^-1 costs nothing more when T is safely invertible; near the boundary the
    product is formed.
    """
    t = e.tail
    assert t is not None
    out = {}
    product: Array | None = None
    for unit in e.products.tails:
        factor = t.factors[unit.unit]
        typical = float(np.diag(t.s)[unit.columns].mean())
        smallest = float(np.linalg.svd(factor, compute_uv=False)[-1]) ** 2 * typical
        if len(t.s) > SMALL_TAIL and smallest > SAFE:
            summed = unit.levels * np.eye(unit.size) - t.inverse[unit.unit]
            back = np.linalg.inv(factor)
            out[unit.unit] = back.T @ summed @ back
        else:
            if product is None:
                product = t.s - t.s @ t.k @ t.s
            out[unit.unit] = _summed_blocks(product, unit)
    return out
