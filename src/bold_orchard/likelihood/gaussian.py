"""The profiled Gaussian criterion, its gradient and its average information.

``deviance = -2 log-likelihood`` (ML) or ``-2`` restricted log-likelihood (REML; Harville 1977), with b and sigma^2
at their closed forms for given theta.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance import Stacked, Structure
from bold_orchard.likelihood.crossproducts import CrossProducts
from bold_orchard.likelihood.elimination import (
    Backward,
    Eliminated,
    backward,
    eliminate,
    scores,
)
from bold_orchard.likelihood.information import quadratic_forms

Array = NDArray[Any]


@dataclass(frozen=True)
class Criterion:
    """theta -> Evaluation; ``structures[f]`` is the joint structure of unit f's effects."""

    products: CrossProducts
    reml: bool

    @cached_property
    def structures(self) -> list[Structure]:
        out: list[Structure] = []
        for unit in self.products.units:
            parts = tuple(b.structure for b in unit.blocks)
            out.append(parts[0] if len(parts) == 1 else Stacked(sum(p.size for p in parts), parts))
        return out

    @cached_property
    def slices(self) -> list[slice]:
        """Where each unit's parameters stand in theta."""
        ends = np.cumsum([0, *(s.n_theta for s in self.structures)])
        return [slice(int(a), int(b)) for a, b in itertools.pairwise(ends)]

    @property
    def bounded(self) -> NDArray[np.bool_]:
        parts = [s.bounded for s in self.structures]
        return np.concatenate(parts) if parts else np.zeros(0, dtype=bool)

    @property
    def dof(self) -> int:
        """Divisor of the residual variance."""
        return self.products.n - (self.products.p if self.reml else 0)

    def factors(self, theta: Array) -> list[Array]:
        return [s.factor(theta[at]) for s, at in zip(self.structures, self.slices)]

    def at(self, theta: Array) -> Evaluation:
        return Evaluation(self, np.asarray(theta, dtype=float), eliminate(self.products, self.factors(theta)))

    def start(self) -> Array:
        """theta by method of moments, unit by unit and column by column."""
        parts = [np.zeros(0)]
        sums = moments(self.products)
        for f, structure in enumerate(self.structures):
            parts.append(structure.start(sums[f]))
        return np.concatenate(parts)


def moments(products: CrossProducts) -> dict[int, Array]:
    """Rough variance ratios per unit and effect, (k,), from sums and sums of squares of each level."""
    rss = products.dense[-1, -1]
    out = {}
    each = [(s.unit, np.einsum("aaj->aj", s.c), s.right[:, -1]) for s in products.stages]
    for t in products.tails:
        c = np.diag(products.dense)[t.columns].reshape(t.size, t.levels)
        each.append((t.unit, c, products.dense[t.columns, -1].reshape(t.size, t.levels)))
    for unit, c, v in each:
        explained = (v**2 / np.where(c > 0, c, np.inf)).sum(axis=1)
        within = np.maximum(rss - explained, 0.01 * rss) / max(products.n - c.shape[1], 0.1 * products.n, 1)
        ratio = ((v**2).sum(axis=1) - within * c.sum(axis=1)) / ((c**2).sum(axis=1) * within)
        typical = c.sum(axis=1) / (c > 0).sum(axis=1)
        out[unit] = np.clip(ratio, 0.05 / typical, 1e6)
    return out


class Evaluation:
    """Everything at one theta; the costly parts are made when first asked for."""

    def __init__(self, criterion: Criterion, theta: Array, eliminated: Eliminated) -> None:
        self.criterion, self.theta, self.eliminated = criterion, theta, eliminated
        w = eliminated.w
        p = len(w) - 1
        self.xx, xy = w[:p, :p], w[:p, p]
        self.b_work = np.linalg.solve(self.xx, xy) if p else np.zeros(0)
        self.rss = float(w[p, p] - xy @ self.b_work)
        self.sigma2 = self.rss / criterion.dof

    @property
    def log_det_x(self) -> float:
        """log|X'H^-1X| on the user's scale."""
        if not len(self.xx):
            return 0.0
        return float(np.linalg.slogdet(self.xx)[1]) + self.criterion.products.standard.log_det

    @cached_property
    def deviance(self) -> float:
        c = self.criterion
        if not self.rss > 0:
            return np.inf
        value = c.dof * (np.log(2 * np.pi * self.sigma2) + 1.0)
        value += self.eliminated.log_det - c.products.log_weights
        return float(value + (self.log_det_x if c.reml else 0.0))

    @cached_property
    def _contrast(self) -> Array:
        """c with residual = [X y] c."""
        return np.append(-self.b_work, 1.0)

    @cached_property
    def reverse(self) -> Backward:
        c = self._contrast
        w_bar = np.outer(c, c) / self.sigma2
        if self.criterion.reml and len(self.xx):
            w_bar[:-1, :-1] += np.linalg.inv(self.xx)
        return backward(self.eliminated, w_bar)

    @cached_property
    def scores(self) -> tuple[dict[int, Array], dict[int, Array]]:
        return scores(self.eliminated, self._contrast)

    @cached_property
    def gradient(self) -> Array:
        """d deviance / d theta."""
        out = np.zeros(len(self.theta))
        for f, (structure, at) in enumerate(zip(self.criterion.structures, self.criterion.slices)):
            slope_t = 2.0 * self.reverse.slope[f] @ structure.factor(self.theta[at])
            out[at] = np.einsum("aij,ij->a", structure.basis, slope_t)
        return out

    @cached_property
    def curvature(self) -> Array:
        """Average information in theta plus the exact curvature of Gamma(theta)."""
        c = self.criterion
        n = len(self.theta)
        hessian = np.zeros((n, n))
        directions, pulls = [], []
        v, _ = self.scores
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            t = structure.factor(self.theta[at])
            changes = structure.basis @ t.T
            changes = changes + changes.transpose(0, 2, 1)
            directions += [(f, d @ v[f]) for d in changes]
            pulls += [float(np.einsum("kj,kj->", v[f], d @ v[f])) for d in changes]
            slope_basis = np.einsum("ij,ajk->aik", self.reverse.slope[f], structure.basis)
            hessian[at, at] = 2.0 * np.einsum("aik,bik->ab", slope_basis, structure.basis)
        forms = quadratic_forms(self.eliminated, directions)
        pull = np.array(pulls)
        return hessian + forms / self.sigma2 - np.outer(pull, pull) / (c.dof * self.sigma2**2)

    # -- results on the user's scale

    @property
    def b(self) -> Array:
        return self.criterion.products.standard.to_user(self.b_work)

    @property
    def b_covariance(self) -> Array:
        """(p', p') covariance of the kept coefficients."""
        inverse = np.linalg.inv(self.criterion.products.standard.to_work)
        return self.sigma2 * inverse @ np.linalg.inv(self.xx) @ inverse.T

    def covariance(self, f: int) -> Array:
        """Covariance of the effects of unit f, (k, k)."""
        c = self.criterion
        back = np.linalg.inv(c.products.z_to_work[f])
        t = back @ c.structures[f].factor(self.theta[c.slices[f]])
        return self.sigma2 * t @ t.T

    def effects(self, f: int) -> tuple[Array, Array]:
        """Predicted effects (J, k) and the covariance of their errors (J, k, k), user's levels and scale."""
        p = len(self.xx)
        w_bar = np.zeros((p + 1, p + 1))
        if p:
            w_bar[:p, :p] = np.linalg.inv(self.xx)
        products = self.criterion.products
        _, u = self.scores
        errors = backward(self.eliminated, w_bar, inverses=True).inverse[f]
        orders = {s.unit: s.order for s in products.stages} | {t.unit: t.order for t in products.tails}
        order = orders[f]
        back = np.linalg.inv(products.z_to_work[f])
        effects, covariance = np.empty_like(u[f].T), np.empty(errors.transpose(2, 0, 1).shape)
        effects[order] = (back @ u[f]).T
        covariance[order] = self.sigma2 * np.einsum("ab,bcj,dc->jad", back, errors, back)
        return effects, covariance
