"""The posterior of a gaussian model of one unit with few levels, by a few small products: where a position costs microseconds, every
call of a library counts.
"""

from __future__ import annotations

import math
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.linalg.lapack import dpotrf, dpotri

from bold_orchard.sampling.covariances import block_factor

Array = NDArray[Any]
LOG_2PI = math.log(2.0 * math.pi)


class Solved(NamedTuple):
    """What one position needs: laws of the covariances as ``made``, the residual SD, T / sd (k, k), the ``gain`` of each level (k, k, J),
    its product ``moved`` (k, J, p + 1) with the right sides, M = [X r]'H^-1[X r] / sd^2 (p + 1, p + 1), and the coefficients' law.
    """

    made: list[Any]
    sd: float
    t: Array
    gain: Array
    log_det: float
    moved: Array
    m: Array
    inverse: Array
    log_a: float
    mean: Array


class SmallGaussian:
    """``c`` (k, k, J) is Z'Z of each level, ``right`` (k, J, p + 1) Z' [X, y - X b^], ``dense`` (p + 1, p + 1) the products of these.

    ``target`` is the general density, with the same layout of coordinates and the same priors.
    """

    def __init__(self, target: Any) -> None:
        self.target, products = target, target.c.products
        (stage,) = products.stages
        k, standard = len(target.closed), products.standard
        turn = np.zeros((len(products.dense), k + 1))
        turn[:-1, :k] = target.to_work
        turn[:-1, k] = standard.b0 - target.to_work @ target.e.b
        turn[-1, k] = 1.0
        self.order, self.c = stage.order, np.ascontiguousarray(stage.c)
        self.right = np.ascontiguousarray(np.einsum("arj,rs->ajs", stage.right, turn))
        self.flat, self.whole, self.dense = (
            self.right.reshape(-1, k + 1),
            self.c.sum(axis=2),
            turn.T @ products.dense @ turn,
        )
        self.precision, self.pull = np.diag(target.precision), target.precision * target.prior_mean
        self.square = float(target.precision @ target.prior_mean**2)
        self.back, self.p = products.z_to_work[0], k
        self._last: tuple[Array, Solved] | None = None

    def solve(self, z: Array) -> Solved:
        """The elimination at a position; the last one is kept, for a kept draw asks three times."""
        if self._last is None or self._last[0] is not z:
            self._last = z, self._solved(z)
        return self._last[1]

    def _solved(self, z: Array) -> Solved:
        target, k = self.target, self.p
        sd = math.exp(float(z[target.sd_at]))
        made = [covariance.at(z[at]) for covariance, at in zip(target.priors.covariances, target.places)]
        parts = [(x.columns, m[0]) for x, m in zip(target.design.clauses, made)]
        low = parts[0][1] if len(parts) == 1 else block_factor(parts, len(self.c))
        t = self.back @ low / sd
        gain, log_det = _gain(self.c, t)
        moved = (gain[..., None] * self.right).sum(axis=1)
        m = (self.dense - self.flat.T @ moved.reshape(-1, k + 1)) / sd**2
        inverse, log_a = _inverse(m[:k, :k] + self.precision)
        return Solved(made, sd, t, gain, log_det, moved, m, inverse, log_a, inverse @ (m[:k, k] + self.pull))

    def density(self, z: Array) -> tuple[float, Array]:
        """The log density and its gradient; raises LinAlgError or OverflowError where there is none."""
        here, target, k = self.solve(z), self.target, self.p
        gradient, sd_at, sd, t, m, mean = np.zeros(target.size), target.sd_at, here.sd, here.t, here.m, here.mean
        prior, slope = target.priors.own[target.fit.catalogue.residual_sd].density(sd)
        prior += math.log(sd)
        gradient[sd_at] = slope * sd + 1.0
        products = target.c.products
        value = (
            float(m[k, k])
            + self.square
            - float((m[:k, k] + self.pull) @ mean)
            + here.log_a
            + here.log_det
            - products.log_weights
        )
        value = -0.5 * (value + products.n * (LOG_2PI + 2.0 * math.log(sd)))
        contrast = np.empty(k + 1)
        contrast[:k], contrast[k] = -mean, 1.0
        bar = contrast[:, None] * contrast
        bar[:k, :k] += here.inverse
        keep = self.right - (self.c[..., None] * here.moved).sum(axis=1)
        across = (keep.reshape(-1, k + 1) @ (bar / sd**2)).reshape(len(t), -1) @ keep.reshape(len(t), -1).T
        solved = (self.c[:, :, None] * here.gain).sum(axis=1)
        told = self.whole - solved.reshape(len(t), -1) @ self.c.reshape(len(t), -1).T
        d_t = 2.0 * (told - across) @ t
        d_low = self.back.T @ d_t / sd
        for part, at, clause in zip(here.made, target.places, target.design.clauses):
            own = d_low[clause.columns, clause.columns].ravel()
            prior += part[2]
            gradient[at] += part[3] - 0.5 * (part[1].reshape(len(part[1]), len(own)) @ own)
        gradient[sd_at] -= products.n - float(np.vdot(bar, m)) - 0.5 * float(np.vdot(d_t, t))
        return value + prior, gradient

    def complete(self, z: Array, rng: np.random.Generator) -> tuple[Array, list[Array]]:
        """Coefficients (p,) and effects (levels, k) drawn given a position, from their exact law."""
        here = self.solve(z)
        drawn = here.mean + np.linalg.cholesky(here.inverse) @ rng.standard_normal(self.p)
        inner = _between(self.c, here.t.T).transpose(2, 0, 1) + np.eye(len(here.t))
        root = here.t @ np.linalg.inv(np.linalg.cholesky(inner)).transpose(0, 2, 1)
        noise = rng.standard_normal((*self.c.shape[2:], len(here.t), 1))
        made = (here.moved @ np.append(-drawn, 1.0)).T + here.sd * (root @ noise)[..., 0]
        effects = np.empty_like(made)
        effects[self.order] = np.linalg.solve(self.back, made.T).T
        return self.target.e.b + drawn, [effects]

    @cached_property
    def rows(self) -> tuple[Array, Array, Array, Array]:
        """X (n, p), working columns of the effects (k, n), levels in the order of the products (n,) and weights (n,) of all rows."""
        design = self.target.design
        x = np.column_stack([design.fixed.values[i] for i in self.target.model.kept] or [np.zeros((len(design.y), 0))])
        columns = np.array([v for c in design.clauses for v in c.part.values])
        rank = np.empty_like(self.order)
        rank[self.order] = np.arange(len(rank))
        weights = np.ones(len(design.y)) if design.weights is None else design.weights
        return x, np.linalg.solve(self.back.T, columns), rank[design.blocks[0].unit.codes], weights

    def without_row(self, z: Array, b: Array) -> Array:
        """log p(y_i | all other rows, b, variances), (n,): the residual over 1 - h_i, h_i what the row's own effects owe to it."""
        here, (x, work, level, weights) = self.solve(z), self.rows
        u = here.moved @ np.append(self.target.e.b - b, 1.0)
        gain = here.gain[:, :, level]
        h = weights * (work * (gain * work).sum(axis=1)).sum(axis=0)
        left = np.maximum(1.0 - h, 1e-12)
        rest = self.target.design.y - x @ b - (work * u[:, level]).sum(axis=0)
        variance = here.sd**2 / (weights * left)
        return np.asarray(-0.5 * (LOG_2PI + np.log(variance) + (rest / left) ** 2 / variance))


def _gain(c: Array, t: Array) -> tuple[Array, float]:
    """T (I + T'C_j T)^-1 T' of every level (k, k, J), and the sum of the logs of the determinants; one and two in closed form."""
    k = len(t)
    inner = _between(c, t.T)
    if k > 2:
        whole = inner.transpose(2, 0, 1) + np.eye(k)
        return _between(np.linalg.inv(whole).transpose(1, 2, 0), t), float(np.linalg.slogdet(whole)[1].sum())
    if k == 1:
        det = inner[0, 0] + 1.0
        inner[0, 0] = 1.0 / det
    else:
        a, b, d = inner[0, 0] + 1.0, inner[0, 1].copy(), inner[1, 1] + 1.0
        det = a * d - b * b
        inner[0, 0], inner[1, 1], inner[0, 1] = d / det, a / det, -b / det
        inner[1, 0] = inner[0, 1]
    return _between(inner, t), float(np.log(det).sum())


def _between(c: Array, t: Array) -> Array:
    """T C_j T' of every level of symmetric C (k, k, J)."""
    k, once = len(t), (t @ c.reshape(len(t), -1)).reshape(c.shape)
    return np.asarray((t @ once.transpose(1, 0, 2).reshape(k, -1)).reshape(c.shape))


def _inverse(a: Array) -> tuple[Array, float]:
    """The inverse and the log determinant of a positive matrix, (k, k); raises LinAlgError for others."""
    if not len(a):
        return a, 0.0
    scale = 1.0 / np.sqrt(a.diagonal())
    low, failed = dpotrf(a * (scale[:, None] * scale), lower=1)
    if failed:
        raise np.linalg.LinAlgError("not positive")
    log_det = 2.0 * float(np.log(low.diagonal() / scale).sum())
    back = dpotri(low, lower=1)[0]
    back = back + back.T
    back.flat[:: len(a) + 1] *= 0.5
    return back * (scale[:, None] * scale), log_det
