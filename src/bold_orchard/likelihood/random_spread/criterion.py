"""The likelihood of a model with a random spread, and everything at one point of it.

Given a unit's s = tau eta all else is Gaussian, so that only eta is integrated, by adaptive Gauss-Hermite quadrature in one
dimension for all units at once. With Q an orthonormal matrix whose first column is along the spread's row of T, xi = Q (eta, zeta),
u = a eta + B zeta, and with phi = exp(-2 s), sums A = Z'HZ, g = Z'Hr, q = r'Hr over the unit's rows,

    -2 log p(y | eta) = n log 2 pi - sum log h + 2 n s + phi (q - 2 eta g'a + eta^2 a'Aa) - v'M^-1 v + log|M|,

v = phi B'(g - eta A a), M = I + phi B'AB, whose eigenvectors do not depend on phi. The gradient is the posterior mean of the
complete data's score (Fisher's identity; Louis 1982).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Eliminated, eliminate
from bold_orchard.crossproducts.stages import CrossProducts, Stage
from bold_orchard.likelihood.outer import OuterPoint
from bold_orchard.likelihood.random_spread.layout import SpreadLayout
from bold_orchard.likelihood.random_spread.nodes import Integrand, Nodes, adapted

Array = NDArray[Any]
MANY_UNITS = 2  # units a parameter from which the spread of their scores tells the curvature well enough to steer by
STEP = 1e-4  # of what is large of a parameter: differences of the exact gradient


@dataclass(frozen=True)
class RandomSpread(SpreadLayout):
    """parameters -> ``SpreadPoint``, or another ``kind`` of it."""

    kind: Any = None

    def at(self, parameters: Array, near: SpreadPoint | None = None) -> SpreadPoint:
        """Nodes are placed anew, from the modes of a point ``near``."""
        with np.errstate(all="ignore"):
            made: SpreadPoint = (self.kind or SpreadPoint)(self, np.asarray(parameters, dtype=float), near)
        return made


class SpreadPoint(OuterPoint):
    """Everything at one point; the costly parts are made when first asked for."""

    def __init__(self, criterion: RandomSpread, theta: Array, near: SpreadPoint | None = None) -> None:
        self.criterion, self.theta = criterion, theta
        self._start = None if near is None else near.nodes.mode

    @cached_property
    def factors(self) -> list[Array]:
        return self.criterion.factors(self.theta)

    @cached_property
    def residual(self) -> Array:
        """y - X b, (n,)."""
        c, standard = self.criterion, self.criterion.rows.standard
        return np.asarray(c.rows.y - (self.theta[: c.p] - standard.b0) @ c.rows.x)

    @cached_property
    def precision(self) -> Array:
        """h (n,): one over the residual variance of each row at s = 0."""
        c = self.criterion
        h = np.exp(-2.0 * (self.theta[c.phi] @ c.rows.w) - self.theta[-1])
        return np.asarray(h if c.rows.weights is None else h * c.rows.weights)

    @cached_property
    def rotation(self) -> tuple[Array, float]:
        """Q (K, K), its first column along the spread's row of T, and tau."""
        row = self.factors[self.criterion.rows.block][self.criterion.rows.spread]
        tau = float(np.linalg.norm(row))
        first = row / tau if tau > 0 else np.eye(len(row))[self.criterion.rows.spread]
        q, r = np.linalg.qr(np.column_stack([first, np.eye(len(row))]))
        return q * np.sign(r[0, 0]), tau

    @cached_property
    def sums(self) -> tuple[Array, Array, Array]:
        """A (k, k, J), g (k, J) and q (J,) over all columns of effects, those of the unit above last."""
        rows, h, r = self.criterion.rows, self.precision, self.residual
        k = len(rows.z)
        a, g = np.empty((k, k, len(rows.starts))), np.empty((k, len(rows.starts)))
        for i in range(k):
            weighted = rows.z[i] * h
            g[i] = rows.by_unit(weighted * r)
            for j in range(i + 1):
                a[i, j] = a[j, i] = rows.by_unit(weighted * rows.z[j])
        return a, g, rows.by_unit(h * r * r)

    @cached_property
    def integrand(self) -> Integrand:
        rows, k = self.criterion.rows, len(self.criterion.rows.others)
        a, g, q = self.sums
        turn, tau = self.rotation
        moved = self.factors[rows.block][rows.others] @ turn
        return Integrand.of(a[:k, :k], g[:k], q, rows.counts, moved[:, 0], moved[:, 1:], tau)

    @cached_property
    def nodes(self) -> Nodes:
        with np.errstate(all="ignore"):
            return adapted(self.integrand, self.criterion.points, self._start)

    @cached_property
    def deviance(self) -> float:
        log_h = float(np.log(self.precision).sum())
        value = self.criterion.rows.frame.n * np.log(2 * np.pi) - log_h - 2.0 * self.log_integral
        return float(value) if np.isfinite(value) else np.inf

    @property
    def log_integral(self) -> float:
        """The sum of all integrals' logs."""
        return float(self.nodes.log_integral.sum())

    @cached_property
    def moments(self) -> tuple[Array, Array, Array]:
        """E[phi], E[phi u] (k, J) and E[phi u u'] (k, k, J) given the rows."""
        return self.nodes.weighted_moments()

    @cached_property
    def scores(self) -> tuple[Array, Array]:
        """Scores of the log-likelihood by row in X b, and by row in the row's log residual SD, each (n,)."""
        rows, h, r = self.criterion.rows, self.precision, self.residual
        a0, a1, a2 = self.moments
        code = np.repeat(np.arange(len(rows.starts)), rows.counts.astype(np.intp))
        linear = a0[code] * r
        square = linear * r
        for i, z in enumerate(rows.z):
            one = z * a1[i][code]
            linear = linear - one
            square = square - 2.0 * r * one
            for j in range(i + 1):
                square = square + (1.0 if i == j else 2.0) * z * rows.z[j] * a2[i, j][code]
        return h * linear, h * square - 1.0

    @cached_property
    def factor_scores(self) -> list[Array]:
        """Scores of every block's T, (K, K, levels)."""
        return [self.turned(*self.nodes.effect_scores(self.sums[0], self.sums[1]))]

    def turned(self, of_u: Array, of_s: Array) -> Array:
        """Scores of the unit's T from those in the axes of the integral, (K, K, J)."""
        rows, turn = self.criterion.rows, self.rotation[0]
        k = len(rows.others) + 1
        out = np.empty((k, k, of_s.shape[1]))
        out[rows.others] = np.einsum("imj,lm->ilj", of_u, turn)
        out[rows.spread] = turn @ of_s
        return out

    @cached_property
    def gradient(self) -> Array:
        """d deviance / d parameters."""
        c = self.criterion
        with np.errstate(all="ignore"):
            linear, log_sd = self.scores
            theta = [
                np.einsum("aij,ij->a", s.basis, score.sum(axis=2)) for s, score in zip(c.structures, self.factor_scores)
            ]
            own = np.append(c.rows.w @ log_sd, 0.5 * log_sd.sum())
            return -2.0 * np.concatenate([c.rows.x @ linear, *theta, own])

    @cached_property
    def curvature(self) -> Array:
        """An approximate Hessian: of many units from the spread of their scores, else by differences of the gradient."""
        c, m = self.criterion, len(self.theta)
        rows = c.rows
        if len(rows.starts if rows.above is None else rows.above.starts) > MANY_UNITS * m:
            linear, log_sd = self.scores
            parts = [rows.independent(rows.by_unit(rows.x * linear))]
            for f, (s, score) in enumerate(zip(c.structures, self.factor_scores)):
                made = np.einsum("aij,ijl->al", s.basis, score)
                parts.append(rows.independent(made) if f == rows.block else made)
            parts.append(rows.independent(rows.by_unit(np.vstack([rows.w * log_sd, 0.5 * log_sd]))))
            scores = np.concatenate(parts)
            return 2.0 * scores @ scores.T
        out = np.empty((m, m))
        for i in range(m):
            h = STEP * max(abs(float(self.theta[i])), 0.1 * float(c.scale[i]))
            moved = self.along(i)
            out[i] = (moved(h).gradient - moved(-h).gradient) / (2 * h)
        return (out + out.T) / 2

    def along(self, i: int) -> Callable[[float], SpreadPoint]:
        """h -> the point with parameter i moved by h."""

        def moved(h: float) -> SpreadPoint:
            theta = self.theta.copy()
            theta[i] += h
            return self.criterion.at(theta, self)

        return moved

    # -- results on the user's scale

    @property
    def row_variance(self) -> float:
        """Residual variance at s = 0 and the mean of the spread's columns."""
        return float(np.exp(self.theta[-1]))

    @property
    def b(self) -> Array:
        c = self.criterion
        return np.asarray(np.linalg.solve(c.products.standard.to_work, self.theta[: c.p]))

    @cached_property
    def joint(self) -> Eliminated:
        """The linear model with each unit's spread held at its predicted value, X included, effects eliminated."""
        rows = self.criterion.rows
        turn, _ = self.rotation
        factors = [t.copy() for t in self.factors]
        factors[rows.block] = factors[rows.block] @ turn
        factors[rows.block][:, 0] = 0.0
        factors[rows.block][rows.spread] = 0.0
        return eliminate(self.held_products(), factors)

    def held_products(self) -> CrossProducts:
        """The products of [Z, X, y - X b] with each unit's spread held at its predicted value."""
        rows = self.criterion.rows
        scale = np.exp(-2.0 * self.means[rows.block][rows.spread])
        weight = self.precision * np.repeat(scale, rows.counts.astype(np.intp))
        size, k, above = len(rows.others) + 1, len(rows.others), rows.above
        tail = np.vstack([rows.x, self.residual])
        both = tail if above is None else np.vstack([rows.z[k:], tail])
        right, own = np.zeros((size, len(both), len(rows.starts))), np.zeros((size, size, len(rows.starts)))
        own[np.ix_(rows.others, rows.others)] = self.sums[0][:k, :k] * scale
        for place, z in zip(rows.others, rows.z):
            right[place] = rows.by_unit(both * (z * weight))
        dense = (tail * weight) @ tail.T
        stages = [Stage(rows.block, len(rows.starts), size, own, right, {}, {}, np.arange(len(rows.starts)))]
        if above is not None:
            first, kp = stages[0], above.size
            stages[0] = replace(first, c=own[..., above.order], right=right[..., above.order], slices={1: slice(0, kp)},
                                starts={1: above.starts}, order=above.order)  # fmt: skip
            across = np.array([rows.by_unit(tail * (z * weight)) for z in rows.z[k:]])
            stages.append(
                Stage(above.block, len(above.starts), kp, above.sums(self.sums[0][k:, k:] * scale), above.sums(across), {}, {},
                      np.arange(len(above.starts)))
            )  # fmt: skip
        return replace(self.criterion.products, stages=stages, dense=dense)

    @cached_property
    def means(self) -> list[Array]:
        """Posterior means of every block's effects, (K, levels), on the working scale."""
        turn, _ = self.rotation
        return [np.asarray(self.factors[0] @ (turn @ self.nodes.means))]

    def posterior_covariance(self, f: int) -> Array:
        """Covariances of the effects of block f given the rows and all parameters, (K, K, levels), on the working scale."""
        t = self.factors[f] @ self.rotation[0]
        return np.einsum("ab,bcj,dc->adj", t, self.nodes.covariances, t, optimize=True)

    def scales(self, f: int) -> Array:
        """Effects of all levels have one covariance, (K, levels) of ones."""
        unit = self.criterion.products.units[f]
        return np.ones((unit.size, unit.levels))

    def effects(self, f: int) -> tuple[Array, Array]:
        """Posterior means (J, K) and covariances (J, K, K) of the effects, with what the coefficients' error adds."""
        c = self.criterion
        back = np.linalg.inv(c.products.z_to_work[f])
        covariance = np.einsum("ab,bcj,dc->jad", back, self.posterior_covariance(f), back, optimize=True)
        if c.p:
            root = np.linalg.cholesky(np.linalg.inv(self.joint.w[: c.p, : c.p]))
            for direction in root.T:  # one standard error of b along each of its axes
                theta = self.theta.copy()
                theta[: c.p] += 0.1 * direction
                change = (back @ (c.at(theta, self).means[f] - self.means[f])).T / 0.1
                covariance = covariance + np.einsum("ja,jb->jab", change, change)
        return (back @ self.means[f]).T, covariance
