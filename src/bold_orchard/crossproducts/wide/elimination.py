"""Elimination where the tail is sparse: the stage exactly, the tail by conjugate gradients.

As in ``crossproducts.elimination``: H = I + sum Z Gamma Z', Gamma = T T'. After the stage the tail's products are
S = Z'Z - R' K R, and K = T A^-1 T' with A = I + T'S T. Equations in A are solved as M = L^-1 A L^-T, where L L' are A's own blocks, level by
level (block Jacobi): M has blocks of 1 on its diagonal, and in crossings of many rows little beside.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts import batched
from bold_orchard.crossproducts.elimination import factor_levels
from bold_orchard.crossproducts.wide.krylov import solved
from bold_orchard.crossproducts.wide.products import Run, WideProducts, WideTail
from bold_orchard.threads import at_once

Array = NDArray[Any]
SMALL = 50_000  # cells of a run below which threads cost more than they bring
EXACT = 1e-11  # of a right-hand side: what is left of equations whose solutions are reported


class Blocks:
    """Small matrices of every level of the tail, by unit (levels, k, k), as one operator on vectors (q, w)."""

    def __init__(self, tails: list[WideTail], parts: list[Array]) -> None:
        self.tails, self.parts = tails, parts

    def __call__(self, v: Array) -> Array:
        out = np.empty_like(v)
        for t, m in zip(self.tails, self.parts):
            own = v[t.at].reshape(t.levels, t.size, -1)
            if t.size == 1:
                np.multiply(m[:, 0], own[:, 0], out=out[t.at])
            else:
                out[t.at] = (m @ own).reshape(-1, v.shape[1])
        return out

    def turned(self) -> Blocks:
        return Blocks(self.tails, [m.transpose(0, 2, 1) for m in self.parts])


class WideEliminated:
    """One elimination; ``factors[f]`` is T of unit f, (k_f, k_f). ``w`` (p+1, p+1) = [X y]' H^-1 [X y]."""

    def __init__(self, products: WideProducts, factors: list[Array]) -> None:
        self.products, self.factors = products, factors
        self.held: dict[int, Any] = {}  # what signs told, by their number
        stage = products.stage
        self.f, y, self.stage_log_det = factor_levels(factors[stage.unit], stage.c, stage.right)
        self.k = batched.gram(self.f)
        self.keep = -batched.multiply(stage.c, self.k)
        self.keep[np.arange(stage.size), np.arange(stage.size)] += 1.0
        self.right = products.right - self.transposed(batched.multiply(self.k, stage.right).transpose(0, 2, 1))
        w = products.dense.copy()
        for a in range(stage.size):
            w -= y[a] @ y[a].T
        self._set_blocks()
        self.g = self.solve(self.right, EXACT)
        w -= self.right.T @ self.g
        self.w = (w + w.T) / 2

    def _set_blocks(self) -> None:
        """The blocks of S, and everything made of them alone."""
        tails = self.products.wide
        self.own = [t.own - self._taken(t, self.k) for t in tails]
        t_of = [self.factors[t.unit] for t in tails]
        plain = [np.eye(t.size) + f.T @ s @ f for t, f, s in zip(tails, t_of, self.own)]
        lows = [np.linalg.cholesky(d) for d in plain]
        backs = [np.linalg.inv(low) for low in lows]
        self.block_log_det = 2.0 * sum(float(np.log(np.einsum("jaa->ja", low)).sum()) for low in lows)
        self.lows = Blocks(tails, lows)
        self.diagonal = Blocks(tails, self.own)
        self.identity = Blocks(tails, [b @ b.transpose(0, 2, 1) for b in backs])
        self.out_of = Blocks(tails, [f @ b.transpose(0, 2, 1) for f, b in zip(t_of, backs)])
        self.into = self.out_of.turned()
        self.own_k = [p @ p.transpose(0, 2, 1) for p in self.out_of.parts]

    def _taken(self, t: WideTail, k: Array) -> Array:
        """Diagonal blocks of R'K R of one tail unit, (levels, k, k)."""
        out = np.empty((t.levels, t.size, t.size))
        for c in range(t.size):
            for d in range(c + 1):
                weight = np.zeros(len(t.first))
                for a in range(len(k)):
                    for b in range(len(k)):
                        weight += t.cells[a, c] * k[a, b][t.first] * t.cells[b, d]
                out[:, c, d] = out[:, d, c] = np.bincount(t.second, weight, t.levels)
        return out

    # -- products with the cells

    def times(self, v: Array) -> Array:
        """R v: (q, w) -> (k, J, w)."""
        stage = self.products.stage
        out = np.empty((stage.size, stage.levels, v.shape[1]))

        def one(run: Run) -> None:
            for a, m in enumerate(run.matrices):
                out[a, run.levels] = m @ v

        _everywhere(one, self.products.runs)
        return out

    def transposed(self, left: Array) -> Array:
        """R' left: (k, J, w) -> (q, w)."""

        def one(run: Run) -> Array:
            return np.asarray(sum(m.T @ left[a, run.levels] for a, m in enumerate(run.matrices)))

        return np.asarray(sum(_everywhere(one, self.products.runs)))

    def s(self, v: Array) -> Array:
        """S v, (q, w)."""

        def one(run: Run) -> Array:
            rows = [m @ v for m in run.matrices]
            k = self.k[:, :, run.levels]
            kept = [sum(k[a, b][:, None] * rows[b] for b in range(len(rows))) for a in range(len(rows))]
            return np.asarray(sum(m.T @ own for m, own in zip(run.matrices, kept)))

        out = Blocks(self.products.wide, [t.own for t in self.products.wide])(v)
        if self.products.between is not None:
            out += self.products.between @ v
        for part in _everywhere(one, self.products.runs):
            out -= part
        return out

    def s_beside(self, v: Array) -> Array:
        """S v without the blocks of S."""
        return self.s(v) - self.diagonal(v)

    def m(self, v: Array) -> Array:
        """M v, (q, w)."""
        return self.identity(v) + self.into(self.s(self.out_of(v)))

    def solve(self, right: Array, tolerance: float) -> Array:
        """K right, (q, w)."""
        return self.out_of(solved(self.m, self.into(right), tolerance)[0])

    # -- Z'H^-1 of columns

    @cached_property
    def projected(self) -> dict[int, Array]:
        """Z_f'H^-1 [X y] of every unit, (k, J, w)."""
        stage = self.products.stage
        rest = stage.right.transpose(0, 2, 1) - self.times(self.g)
        made = {stage.unit: np.einsum("abj,bjw->ajw", self.keep, rest)}
        tail = self.right - self.s(self.g)
        return made | {t.unit: self.of_unit(t.unit, rest, tail) for t in self.products.wide}

    def of_unit(self, f: int, first: Array, tail: Array) -> Array:
        """One unit's part of vectors over all units, (k_f, J_f, m)."""
        if f == self.products.stage.unit:
            return first
        t = next(t for t in self.products.wide if t.unit == f)
        return tail[t.at].reshape(t.levels, t.size, -1).transpose(1, 0, 2)

    def all_of(self, first: Array, tail: Array, tolerance: float) -> tuple[Array, Array]:
        """K over all units together times (``first`` (k, J, m), ``tail`` (q, m))."""
        kz = np.einsum("abj,bjm->ajm", self.k, first)
        u = self.solve(tail - self.transposed(kz), tolerance)
        return kz - np.einsum("abj,bjm->ajm", self.k, self.times(u)), u

    def with_effects(self, f: int, w: Array) -> tuple[Array, Array, Array]:
        """Products of Z_f w, w (k_f, J_f, m), with the stage (k, J, m), the tail (q, m) and [X y] (p+1, m)."""
        products, stage = self.products, self.products.stage
        if f == stage.unit:
            first = np.einsum("abj,bjm->ajm", stage.c, w)
            return first, self.transposed(w), np.einsum("arj,ajm->rm", stage.right, w)
        t = next(t for t in products.wide if t.unit == f)
        v = np.zeros((products.q, w.shape[2]))
        v[t.at] = w.transpose(1, 0, 2).reshape(-1, w.shape[2])
        tail = Blocks(products.wide, [x.own for x in products.wide])(v)
        if products.between is not None:
            tail += products.between @ v
        return self.times(v), tail, t.right.T @ v[t.at]


def _everywhere(work: Callable[[Run], Any], runs: list[Run]) -> list[Any]:
    return [work(run) for run in runs] if runs[-1].matrices[0].nnz < SMALL else at_once(work, runs)
