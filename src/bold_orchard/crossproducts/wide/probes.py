"""Traces and log-determinants of a sparse tail by random signs (Hutchinson 1990), with their Monte-Carlo error.

What the blocks of S alone say is exact; signs estimate the rest only. With G = (I + S_d Gamma)^-1 over the blocks S_d, K_d = Gamma G and
S_o = S - S_d:

    Z'H^-1 Z = G S_d + G S_o G' - G S_o K S_o G',    K = K_d - K_d S_o K_d + K_d S_o K S_o K_d.

The first correction has no diagonal blocks, so that the second, smaller by S_o twice, is all that a slope's error comes from. The
log-determinant is Lanczos' (Ubaru, Chen & Saad 2017) less the first terms of its series, whose traces are known, and with the directions
in which M is nearly singular (a constant over all levels) taken out and summed exactly (as in Meyer et al. 2021).
"""

from __future__ import annotations

from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts import batched
from bold_orchard.crossproducts.wide.elimination import Blocks, WideEliminated
from bold_orchard.crossproducts.wide.krylov import form_of_log, solved
from bold_orchard.threads import at_once

Array = NDArray[Any]
SLOPE = 1e-8  # of a right-hand side: what is left of equations of signs, far below their own error
LOG = 1e-6  # the same for the log-determinant, whose error is the square of it
MOST_PAIRS = 3_000_000_000  # pairs of cells of one level up to which the series' second term is summed exactly
PAIRS_AT_ONCE = 20_000_000
TOGETHER = 8  # vectors of signs taken to the stage's many levels at the same time
SEED = 20_260_101


def signs(q: int, count: int, kind: int) -> Array:
    """Random signs (q, count), the same at every call."""
    drawn = np.random.default_rng((SEED, kind)).integers(0, 2, (q, count), dtype=np.int8)
    return 2.0 * drawn - 1.0


class Slopes:
    """d log|H| / d Gamma_f of every unit, (k, k), by ``count`` vectors of signs; ``each[f]`` (count, k, k) by every one of them."""

    def __init__(self, e: WideEliminated, count: int) -> None:
        self.e = e
        products, tails = e.products, e.products.wide
        gamma = [e.factors[t.unit] @ e.factors[t.unit].T for t in tails]
        g = Blocks(tails, [np.linalg.inv(np.eye(t.size) + s @ c) for t, s, c in zip(tails, e.own, gamma)])
        base = _constants(e)
        z = signs(products.q, count, 1)
        z = self.z = np.concatenate([base, z - base @ (base.T @ z)], axis=1)
        self.known = base.shape[1]  # of z: directions that are summed exactly
        self.weight = np.repeat([1.0, 1.0 / count], [self.known, count])
        self.s = e.s_beside(g.turned()(z))
        self.w = e.s_beside(e.solve(self.s, SLOPE))
        gw = g(self.w)
        self.each: dict[int, Array] = {}
        for t, s, blocks in zip(tails, e.own, g.parts):
            exact = np.einsum("jab,jbc->ac", blocks, s)
            mine, sign = (v[t.at].reshape(t.levels, t.size, -1) for v in (gw, z))
            self.each[t.unit] = self._with(exact, np.einsum("jam,jbm->mab", mine, sign))
        self.gamma = Blocks(tails, [np.broadcast_to(c, (t.levels, t.size, t.size)) for t, c in zip(tails, gamma)])
        self._stage()

    def _with(self, exact: Array, more: Array) -> Array:
        """``exact`` less what the known directions add, and what every vector of signs does, (count, k, k)."""
        made = exact - more[: self.known].sum(axis=0) - more[self.known :]
        return _symmetric(made)

    @cached_property
    def moved(self) -> Array:
        """(K - K_d) Gamma^-1 z, (q, count)."""
        return -Blocks(self.e.products.wide, self.e.own_k)(self.s - self.w)

    def _stage(self) -> None:
        e, stage = self.e, self.e.products.stage
        exact = batched.total(e.keep, stage.c) - self._own_pairs()
        ahead, behind = (np.einsum("abj,bjm->ajm", e.keep, e.times(v)) for v in (self.moved, self.gamma(self.z)))
        self.each[stage.unit] = self._with(exact, np.einsum("ajm,bjm->mab", ahead, behind))

    def _own_pairs(self) -> Array:
        """sum over cells of keep cell K_d cell' keep', (k, k)."""
        e = self.e
        size = e.products.stage.size
        out = np.zeros((size, size))
        for t, k in zip(e.products.wide, e.own_k):
            cells = np.einsum("abn,bcn->acn", e.keep[:, :, t.first], t.cells)
            out += np.einsum("acn,ncd,bdn->ab", cells, k[t.second], cells, optimize=True)
        return out

    @cached_property
    def slope(self) -> dict[int, Array]:
        """The means over all signs."""
        return {f: own.mean(axis=0) for f, own in self.each.items()}

    # -- covariances of single levels

    def inverses(self, f: int) -> Array:
        """Diagonal blocks of every level of K over all units together, (J, k, k): Gamma - Gamma Z'H^-1 Z Gamma of that level."""
        e, products = self.e, self.e.products
        if f != products.stage.unit:
            place, t = next((i, t) for i, t in enumerate(products.wide) if t.unit == f)
            own = e.own_k[place]
            ahead, behind = (
                v[t.at].reshape(t.levels, t.size, -1)
                for v in (Blocks(products.wide, e.own_k)(self.w), self.gamma(self.z))
            )
            return np.asarray(own + _symmetric(np.einsum("jam,jbm,m->jab", ahead, behind, self.weight)))
        inner, gamma_z = self.inner, self.gamma(self.z)
        for start in range(0, self.z.shape[1], TOGETHER):
            at = slice(start, start + TOGETHER)
            ahead, behind = (e.times(v[:, at]) for v in (self.moved, gamma_z))
            inner = inner + _symmetric(np.einsum("ajm,bjm,m->jab", ahead, behind, self.weight[at]))
        return np.asarray(e.k.transpose(2, 0, 1) + np.einsum("abj,jbc,cdj->jad", e.k, inner, e.k, optimize=True))

    @cached_property
    def inner(self) -> Array:
        """R K_d R' of every level of the stage, (J, k, k)."""
        e, levels, k = self.e, self.e.products.stage.levels, len(self.e.k)
        out = np.zeros((levels, k, k))
        for t, own in zip(e.products.wide, e.own_k):
            pairs = np.einsum("acn,ncd,bdn->nab", t.cells, own[t.second], t.cells, optimize=True)
            for a in range(k):
                for b in range(k):
                    out[:, a, b] += np.bincount(t.first, pairs[:, a, b], levels)
        return out


def slopes(e: WideEliminated, count: int) -> Slopes:
    """The same, made once."""
    held: dict[int, Slopes] = e.held
    if count not in held:
        held[count] = Slopes(e, count)
    return held[count]


def _symmetric(m: Array) -> Array:
    return (m + m.transpose(0, 2, 1)) / 2


def log_det(e: WideEliminated, count: int) -> tuple[float, float]:
    """log|H| and its Monte-Carlo standard error, by ``count`` vectors of signs."""
    base = _near_singular(e)
    away = e.m(base) - base
    known = e.stage_log_det + e.block_log_det + float(form_of_log(base, solved(e.m, base, LOG)[1]).sum())
    known -= float(np.vdot(base, away))  # tr(M - I) is 0: beside the base it is less the base's
    z = signs(e.products.q, count, 2)
    z -= base @ (base.T @ z)
    moved = e.m(z) - z
    each = form_of_log(z, solved(e.m, z, LOG)[1]) - np.einsum("qc,qc->c", z, moved)
    square = _squares(e)
    if square is not None:
        each += 0.5 * np.einsum("qc,qc->c", moved, moved)
        known -= 0.5 * (square - float(np.vdot(away, away)))
    return known + float(each.mean()), float(each.std(ddof=1) / np.sqrt(count))


def _near_singular(e: WideEliminated) -> Array:
    """Orthonormal directions (q, r) in which M is small."""
    return np.linalg.qr(e.lows.turned()(_constants(e)))[0]


def _constants(e: WideEliminated) -> Array:
    """The same effect at all levels of a unit, orthonormal (q, r): what the fixed part and other units say as well."""
    out = np.zeros((e.products.q, sum(t.size for t in e.products.wide)))
    at = 0
    for t in e.products.wide:
        for a in range(t.size):
            out[t.at.start + a : t.at.stop : t.size, at] = 1.0 / np.sqrt(t.levels)
            at += 1
    return out


def _squares(e: WideEliminated) -> float | None:
    """|M - I|^2 summed over all entries; None where there are too many pairs of cells for that."""
    from scipy import sparse

    products, stage = e.products, e.products.stage
    out_of = sparse.block_diag(
        [sparse.bsr_array((p, np.arange(len(p)), np.arange(len(p) + 1))) for p in e.out_of.parts]
    ).tocsr()
    raw = products.cells
    rows = sum(np.diff(m.indptr).astype(float) for m in raw)
    if float((rows**2).sum()) > MOST_PAIRS:
        return None
    made = [sum(sparse.diags_array(e.f[a, b]) @ raw[b] for b in range(stage.size)) @ out_of for a in range(stage.size)]
    turned = [sparse.csr_array(m.T) for m in made]
    work = np.concatenate([[0.0], np.cumsum(sum(_pairs_of_rows(t, m) for t, m in zip(turned, made)))])
    edges = np.unique(
        np.searchsorted(work, np.arange(0.0, work[-1] + PAIRS_AT_ONCE, PAIRS_AT_ONCE)).clip(0, products.q)
    )
    edges = np.unique(np.concatenate([[0], edges, [products.q]]))
    between = None if products.between is None else sparse.csr_array(out_of.T @ products.between @ out_of)
    units = np.concatenate([t.at.start + np.repeat(np.arange(t.levels), t.size) * t.size for t in products.wide])

    def one(rows: slice) -> float:
        block = -sum(t[rows] @ m for t, m in zip(turned, made))
        if between is not None:
            block = block + between[rows]
        block = block.tocoo()
        beside = units[rows][block.row] != units[block.col]
        return float(block.data[beside] @ block.data[beside])

    return float(sum(at_once(one, [slice(int(a), int(b)) for a, b in pairwise(edges)])))


def _pairs_of_rows(turned: Any, made: Any) -> Array:
    """Products that a row of turned @ made takes, (q,)."""
    counts = np.diff(made.indptr)[turned.indices]
    sums = np.concatenate([[0], np.cumsum(counts)])
    return np.asarray(sums[turned.indptr[1:]] - sums[turned.indptr[:-1]], dtype=float)
