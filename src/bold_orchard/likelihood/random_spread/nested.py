"""Units with a spread that are nested in others with ordinary effects: the effects of a level above are integrated around the integrals
of its units.

With v = T_p xi the effects of a level above, the rows of its units are independent given xi, and each unit's integral is the one of
``nodes`` with the sums g - C'v and q - 2 g_p'v + v'Dv in the place of g and q, C = Z_p'HZ, D = Z_p'HZ_p, g_p = Z_p'Hr. The density of xi
is met by a product of Gauss-Hermite rules around its mean, scaled by a root of its covariance there (Naylor & Smith 1982), and the
gradient stays the posterior mean of the complete data's score (Fisher's identity; Louis 1982).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.hermite import rule
from bold_orchard.likelihood.random_spread.criterion import RandomSpread, SpreadPoint
from bold_orchard.likelihood.random_spread.nodes import Nodes, adapted

Array = NDArray[Any]
FEWEST = 5  # nodes along an axis
STEPS, HALVINGS, CLOSE = 20, 6, 1e-7  # of Newton's method for the modes of xi
BLUR = 1e-9  # parts of a log density by which its values and its slope may disagree
APART = 1e-4  # differences of the exact slope, in xi
LONGEST = 3.0


def nodes_above(points: int, size: int) -> int:
    """Nodes along each of ``size`` axes: a level with units of its own is told well, and its density is nearly normal."""
    return max(FEWEST, {1: (points + 1) // 2, 2: (points + 2) // 3}.get(size, (points + 3) // 4))


@dataclass(frozen=True)
class Units:
    """Every unit's integral at nodes ``xi`` (k_p, M, levels) of the level above it, unit by unit in each node, M * J in all.

    ``v`` (k_p, M, J) are the effects above each unit, ``g`` (k, M * J) and ``gp`` (k_p, M, J) the sums with them taken out.
    """

    v: Array
    g: Array
    gp: Array
    nodes: Nodes


class NestedPoint(SpreadPoint):
    """Everything at one point of a model with a unit above."""

    def __init__(self, criterion: RandomSpread, theta: Array, near: NestedPoint | None = None) -> None:
        super().__init__(criterion, theta, None)
        self.start = (None, None) if near is None else (near.modes[0], near.modes[2])
        above = criterion.rows.above
        assert above is not None
        self.above, self.k = above, len(criterion.rows.others)
        self.t = self.factors[above.block]

    # -- the integrals of units at given effects above

    def _units(self, xi: Array, start: Array | None = None) -> Units:
        a, g, q = self.sums
        k, m = self.k, xi.shape[1]
        v = np.einsum("ab,bmp->amp", self.t, xi)[:, :, self.above.of]
        across, within = a[k:, :k], a[k:, k:]
        pulled = np.einsum("abj,bmj->amj", within, v)
        own_g = (g[:k, None] - np.einsum("abj,amj->bmj", across, v)).reshape(k, m * len(q))
        own_q = (q - np.einsum("amj,amj->mj", v, 2.0 * g[k:, None] - pulled)).ravel()
        nodes = adapted(self.integrand.moved(own_g, own_q, m), self.criterion.points, start)
        return Units(v, own_g, g[k:, None] - pulled, nodes)

    def _score(self, units: Units) -> Array:
        """d sum of log integrals / d v at every node, (k_p, M, levels)."""
        a0, a1, _ = self._weighted(units)
        k, across = self.k, self.sums[0][self.k :, : self.k]
        made = a0 * units.gp - np.einsum("abj,bmj->amj", across, a1.reshape(k, *a0.shape))
        return self.above.sums(made)

    @staticmethod
    def _weighted(units: Units) -> tuple[Array, Array, Array]:
        """E[phi] (M, J), E[phi u] (k, M * J) and E[phi u u'] (k, k, M * J) at every node."""
        a0, a1, a2 = units.nodes.weighted_moments()
        return a0.reshape(units.v.shape[1:]), a1, a2

    # -- the density of xi

    @cached_property
    def modes(self) -> tuple[Array, Array, Array]:
        """Where each level's density of xi is largest, (k_p, levels), minus its Hessian there, (k_p, k_p, levels), and the modes of the
        units around it, from which later ones begin.
        """
        kp, levels = self.above.size, len(self.above.starts)
        xi = np.zeros((kp, levels)) if self.start[0] is None else self.start[0].copy()
        value, slope, hessian, inner = self._around(xi, self.start[1])
        for _ in range(STEPS):
            step = np.linalg.solve(hessian.transpose(2, 0, 1), slope.T[..., None])[..., 0].T
            step = step * np.minimum(1.0, LONGEST / np.maximum(np.sqrt((step**2).sum(axis=0)), 1e-300))
            if np.abs(step).max(initial=0.0) < CLOSE:
                break
            for _ in range(HALVINGS):
                after = self._around(xi + step, inner)
                worse = ~(after[0] >= value - BLUR * (1.0 + np.abs(value)))
                if not worse.any():
                    break
                step = np.where(worse, 0.5 * step, step)
            else:
                break  # few nodes of the units blur the density: near enough to place the nodes
            xi = xi + step
            value, slope, hessian, inner = after
        return xi, hessian, inner

    def _around(self, xi: Array, start: Array | None) -> tuple[Array, Array, Array, Array]:
        """log density of xi (levels,), its slope (k_p, levels), minus its Hessian by differences, made positive, and the units' modes."""
        kp = len(xi)
        moves = np.concatenate([np.zeros((kp, 1)), *(APART * s * np.eye(kp) for s in (1, -1))], axis=1)
        at = xi[:, None] + moves[:, :, None]
        units = self._units(at, start)
        value = self._log_density(at, units)[0]
        slopes = np.einsum("ab,amp->bmp", self.t, self._score(units)) - at
        hessian = -(slopes[:, 1 : kp + 1] - slopes[:, kp + 1 :]) / (2.0 * APART)
        hessian = 0.5 * (hessian + hessian.transpose(1, 0, 2))
        values, vectors = np.linalg.eigh(hessian.transpose(2, 0, 1))
        positive = np.einsum("pab,pb,pcb->acp", vectors, np.maximum(np.abs(values), 0.5), vectors)
        return value, slopes[:, 0], positive, units.nodes.mode

    def _log_density(self, xi: Array, units: Units) -> Array:
        own = units.nodes.log_integral.reshape(xi.shape[1], -1)
        return np.asarray(self.above.sums(own) - 0.5 * (xi**2).sum(axis=0))

    @cached_property
    def outer(self) -> tuple[Array, Array, Array, Units]:
        """Nodes xi (k_p, M, levels), their shares (M, levels), the logs of the integrals (levels,) and the units there."""
        mode, hessian, inner = self.modes
        root = np.linalg.cholesky(np.linalg.inv(hessian.transpose(2, 0, 1)))
        xi, share, _, units = self._placed(mode, root, inner[: len(self.above.of)])
        mean = np.einsum("mp,amp->ap", share, xi)
        away = xi - mean[:, None]
        covariance = np.einsum("mp,amp,bmp->pab", share, away, away, optimize=True)
        return self._placed(mean, np.linalg.cholesky(covariance), units.nodes.mode)

    def _placed(self, centre: Array, root: Array, start: Array) -> tuple[Array, Array, Array, Units]:
        """``start`` are modes of the units, in every node (M * J,) or the same in all (J,)."""
        kp = len(centre)
        grid, log_w = rule(FEWEST if self.criterion.rough else nodes_above(self.criterion.points, kp), kp)
        xi = centre[:, None] + np.sqrt(2.0) * np.einsum("pab,bm->amp", root, grid)
        units = self._units(xi, np.resize(start, xi.shape[1] * len(self.above.of)))
        terms = self._log_density(xi, units) + log_w[:, None]
        top = terms.max(axis=0)
        shares = np.exp(terms - top)
        total = shares.sum(axis=0)
        size = np.log(np.einsum("paa->pa", root)).sum(axis=1)
        return xi, shares / total, top + np.log(total) + size - 0.5 * kp * np.log(np.pi), units

    # -- what the base asks for

    @property
    def log_integral(self) -> float:
        return float(self.outer[2].sum())

    @cached_property
    def weights(self) -> Array:
        """The share of each node above every unit, (M, J)."""
        return np.asarray(self.outer[1][:, self.above.of])

    def _average(self, values: Array) -> Array:
        """The mean over the nodes above of values (..., M * J) of units, (..., J)."""
        m, j = self.weights.shape
        return np.einsum("...mj,mj->...j", values.reshape(*values.shape[:-1], m, j), self.weights)

    @cached_property
    def moments(self) -> tuple[Array, Array, Array]:
        """E[phi], E[phi u] and E[phi u u'] over the unit's effects and then those above."""
        units, k = self.outer[3], self.k
        a0, a1, a2 = self._weighted(units)
        a1 = np.concatenate([a1.reshape(k, *a0.shape), a0 * units.v])
        square = np.empty((len(a1), *a1.shape))
        square[:k, :k] = a2.reshape(k, k, *a0.shape)
        square[k:] = units.v[:, None] * a1
        square[:k, k:] = square[k:, :k].swapaxes(0, 1)
        w = self.weights
        return np.einsum("mj,mj->j", a0, w), np.einsum("amj,mj->aj", a1, w), np.einsum("abmj,mj->abj", square, w)

    @cached_property
    def factor_scores(self) -> list[Array]:
        xi, share, _, units = self.outer
        k, m = self.k, xi.shape[1]
        own = units.nodes.effect_scores(np.tile(self.sums[0][:k, :k], m), units.g)
        out = [np.zeros(0)] * 2
        out[self.criterion.rows.block] = self.turned(*(self._average(s) for s in own))
        out[self.above.block] = np.einsum("amp,bmp,mp->abp", self._score(units), xi, share, optimize=True)
        return out

    @cached_property
    def means(self) -> list[Array]:
        xi, share, _, units = self.outer
        out, f = [np.zeros(0)] * 2, self.criterion.rows.block
        out[f] = self.factors[f] @ (self.rotation[0] @ self._average(units.nodes.means))
        out[self.above.block] = self.t @ np.einsum("mp,amp->ap", share, xi)
        return out

    def posterior_covariance(self, f: int) -> Array:
        xi, share, _, units = self.outer
        if f == self.above.block:
            away = xi - np.einsum("mp,amp->ap", share, xi)[:, None]
            t, covariance = self.t, np.einsum("mp,amp,bmp->abp", share, away, away, optimize=True)
        else:
            t, means = self.factors[f] @ self.rotation[0], units.nodes.means
            square = self._average(units.nodes.covariances + np.einsum("aj,bj->abj", means, means))
            mean = self._average(means)
            covariance = square - np.einsum("aj,bj->abj", mean, mean)
        return np.einsum("ab,bcj,dc->adj", t, covariance, t, optimize=True)
