"""Adaptive Gauss-Hermite quadrature for one unit with up to three terms (Pinheiro & Bates 1995), with its exact gradient.

Nodes stand around each level's mode v^, scaled by S = L'^-1 with A = L L' the curvature there: v_k = v^ + sqrt(2) S x_k. For each level

    log integral = log sum_k w_k exp(|x_k|^2) exp(g(v_k)) + k/2 log 2 - 1/2 log|A| - k/2 log 2 pi,  g the log of the joint density.

The gradient follows the nodes: d v_k = d v^ + dS x_k, v^ by implicit differentiation, S through the Cholesky factor (Murray 2016).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.hermite import rule
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.mode import Mode, ModeFinder
from bold_orchard.likelihood.laplace.point import LaplacePoint

Array = NDArray[Any]
MOST_TERMS = 3  # terms of a unit: with 15 points each 3,375 nodes a level
AT_ONCE = 60_000  # rows times nodes together: near the processor
KEPT = 1_000_000  # rows times nodes of which the linear predictor is kept from the value to the slope (8 MB)
CLOSER = 1e-6  # nodes stand about the mode, so it is sought more closely than Laplace needs


@dataclass(frozen=True)
class NodeFinder(ModeFinder):
    """The layout with ``points`` nodes per term."""

    points: int = 1

    @cached_property
    def nodes(self) -> tuple[Array, Array]:
        """x (k, K^k) and the logarithms of w exp(|x|^2) (K^k,)."""
        return rule(self.points, self.rows.units[0].size)


class QuadraturePoint(LaplacePoint):
    """The Laplace point with the integral of every level taken numerically."""

    criterion: NodeFinder

    @cached_property
    def low(self) -> Array:
        """Lower Cholesky factors of A per level, (J, k, k)."""
        c = self.mode.products.stages[0].c
        t = self.factors[0]
        a = np.einsum("ca,cdj,db->jab", t, c, t, optimize=True)
        a[:, np.arange(len(t)), np.arange(len(t))] += 1.0
        return np.linalg.cholesky(a)

    @cached_property
    def scale(self) -> Array:
        """S = L'^-1, (J, k, k)."""
        return np.linalg.inv(self.low).transpose(0, 2, 1)

    @cached_property
    def _placed(self) -> tuple[Array, Array]:
        """Nodes v (nodes, k, J) and log-weights (nodes,)."""
        x, logs = self.criterion.nodes
        moved = np.sqrt(2.0) * np.einsum("jab,bn->naj", self.scale, x)
        return self.mode.v[0][None] + moved, logs

    def _each_node(self) -> Iterable[tuple[slice, Array]]:
        """(nodes, eta (nodes, n)), some at a time."""
        few = len(self.criterion.nodes[1]) * self.criterion.rows.frame.n <= KEPT
        return self._kept_nodes if few else self._made_nodes()

    @cached_property
    def _kept_nodes(self) -> list[tuple[slice, Array]]:
        return list(self._made_nodes())

    def _made_nodes(self) -> Iterator[tuple[slice, Array]]:
        c = self.criterion
        v, _ = self._placed
        fixed = c.linear(self.theta)
        step = max(AT_ONCE // max(c.rows.frame.n, 1), 1)
        for start in range(0, len(v), step):
            at = slice(start, start + step)
            u = np.einsum("ab,nbj->naj", self.factors[0], v[at])
            yield at, c.rows.at_nodes(fixed, u)

    @cached_property
    def log_joint(self) -> Array:
        """log of joint density at every node up to (2 pi)^(-k/2), (nodes, J)."""
        c = self.criterion
        v, _ = self._placed
        out = np.empty((len(v), v.shape[2]))
        for at, eta in self._each_node():
            out[at] = c.rows.by_level(c.family.value(eta, self.theta[c.extra]))
        return out - 0.5 * (v**2).sum(axis=1)

    @cached_property
    def shares(self) -> tuple[Array, Array]:
        """log of each level's sum over nodes (J,), and each node's share of it (nodes, J)."""
        terms = self.log_joint + self._placed[1][:, None]
        top = terms.max(axis=0)
        weights = np.exp(terms - top)
        total = weights.sum(axis=0)
        return top + np.log(total), weights / total

    @cached_property
    def deviance(self) -> float:
        k = len(self.factors[0])
        log_det = 2.0 * float(np.log(np.einsum("jaa->ja", self.low)).sum())
        value = float(self.shares[0].sum()) - 0.5 * log_det - 0.5 * k * len(self.low) * np.log(np.pi)
        return -2.0 * value if np.isfinite(value) else np.inf

    def _gradient(self) -> Array:
        """Adjoints of f = -log integral: of the nodes directly, of S and so of A, of the mode."""
        c, mode, rows = self.criterion, self.mode, self.criterion.rows
        family, extra = c.family, self.theta[c.extra]
        t, (x, _) = self.factors[0], c.nodes
        v, share = self._placed[0], self.shares[1]
        out = np.zeros(len(self.theta))
        k = len(t)
        d1 = rows.zeros()
        slope_t, mode_bar = np.zeros((k, k)), np.zeros((k, v.shape[2]))
        scale_bar = np.zeros((v.shape[2], k, k))
        for at, eta in self._each_node():
            first = family.slopes(eta, extra)[0]
            d1 += (rows.of_level(share[at]) * first).sum(axis=-2)
            pulled = np.stack([rows.by_level(column) for column in rows.by_effect(first)], axis=1)
            slope_t -= np.einsum("nj,naj,nbj->ab", share[at], pulled, v[at], optimize=True)
            toward = share[at][:, None] * (v[at] - np.einsum("ba,nbj->naj", t, pulled))
            mode_bar += toward.sum(axis=0)
            scale_bar += np.sqrt(2.0) * np.einsum("naj,bn->jab", toward, x[:, at])
            for i, (value, _, _) in enumerate(family.extras(eta, extra)):
                out[c.extra.start + i] -= float((rows.of_level(share[at]) * value).sum())
        a_bar = self._curvature_adjoint(scale_bar)
        return self._chained(out, d1, slope_t, mode_bar, a_bar, mode)

    def _curvature_adjoint(self, scale_bar: Array) -> Array:
        """d f / dA per level (J, k, k), from the adjoint of S and from log|S|."""
        low, s = self.low, self.scale
        back = np.linalg.inv(s).transpose(0, 2, 1)
        low_bar = np.tril(-(s @ (scale_bar - back).transpose(0, 2, 1) @ s))
        inner = np.tril(low.transpose(0, 2, 1) @ low_bar)
        inner[:, np.arange(len(self.factors[0])), np.arange(len(self.factors[0]))] *= 0.5
        return 0.5 * s @ (inner + inner.transpose(0, 2, 1)) @ s.transpose(0, 2, 1)

    def _chained(self, out: Array, d1: Array, slope_t: Array, mode_bar: Array, a_bar: Array, mode: Mode) -> Array:
        """Put the direct part together with what comes through A and through the mode."""
        c, rows = self.criterion, self.criterion.rows
        t, v = self.factors[0], self.mode.v[0]
        _, d1_mode, d2, d3 = mode.rows
        spread = np.einsum("ac,jcd,bd->abj", t, a_bar, t, optimize=True)
        h = rows.of_pairs(spread)
        s = -c.turn(d3, h)
        total_bar = mode_bar + t.T @ rows.pull(s)[0]
        low_inverse = np.linalg.inv(self.low)
        a = np.einsum("jba,jbc,cj->aj", low_inverse, low_inverse, total_bar, optimize=True)
        across = rows.spread({0: t @ a})
        bent = c.bend(d2, across)
        out[: c.p] = rows.into_x(s - d1 + bent)
        products = self.mode.products.stages[0].c
        through_a = 2.0 * np.einsum("abj,bc,jcd->ad", products, t, a_bar, optimize=True)
        through_mode = rows.pull(s + bent)[0] @ v.T + rows.pull(d1_mode)[0] @ a.T
        structure, at = c.structures[0], c.slices[0]
        out[at] = np.einsum("aij,ij->a", structure.basis, slope_t + through_a + through_mode)
        for i, (_, first, second) in enumerate(c.family.extras(mode.eta, self.theta[c.extra])):
            out[c.extra.start + i] += float(np.vdot(across, first)) - float(np.vdot(h, second))
        return 2.0 * out


@dataclass(frozen=True)
class Quadrature(NodeFinder, Laplace):
    """parameters -> ``QuadraturePoint``."""

    made: ClassVar[type[LaplacePoint]] = QuadraturePoint
    close: ClassVar[float] = CLOSER

    @staticmethod
    def of(laplace: Laplace, points: int) -> Quadrature:
        return Quadrature(laplace.rows, laplace.family, laplace.offset, points)
