"""How sure the covariance parameters are, and the degrees of freedom that follow from it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.gaussian import Evaluation
from bold_orchard.optimize.newton import Found

Array = NDArray[Any]
LARGE = 20_000
LARGE_TAIL = 400


def parameter_covariance(e: Evaluation, profiled: Array | None = None) -> Array:
    """Covariance of (theta, phi, log sigma^2), (m + 1, m + 1), from the observed information.

    The Hessian of the deviance in all parameters together, sigma^2 not profiled out, by central differences of the
    exact gradient. Parameters at their bound are held there and have covariance zero. For a large model without
    correlated residuals the search's own ``profiled`` Hessian (m, m) serves, completed in closed form.
    """
    c = e.criterion
    if profiled is not None and is_large(e) and c.correlated is None and not c.absolute:
        return _completed(e, profiled)
    hessian = full_hessian(e)
    size = len(hessian)
    free = np.append(~_held(e), True)[:size]
    out = np.zeros((size, size))
    out[np.ix_(free, free)] = 2.0 * np.linalg.pinv(hessian[np.ix_(free, free)], rcond=1e-12, hermitian=True)
    return out


def full_hessian(e: Evaluation) -> Array:
    """Hessian of the deviance in (theta, phi, log sigma^2), sigma^2 not profiled out, (m + 1, m + 1)."""
    here = e.theta if e.criterion.absolute else np.append(e.theta, np.log(e.sigma2))
    hessian = np.empty((len(here), len(here)))
    for i in range(len(here)):
        h = 1e-4 * max(abs(here[i]), 1e-2)
        up, down = here.copy(), here.copy()
        up[i] += h
        down[i] -= h
        hessian[i] = (_gradient(e, up) - _gradient(e, down)) / (2 * h)
    return (hessian + hessian.T) / 2


def is_large(e: Evaluation) -> bool:
    """Whether an evaluation costs so much that the search's own figures must serve."""
    products = e.criterion.products
    return products.q > LARGE_TAIL or sum(u.levels * u.size**2 for u in products.units) > LARGE


def _held(e: Evaluation) -> Array:
    return np.asarray(e.criterion.bounded & (e.theta <= 0))


def _completed(e: Evaluation, profiled: Array) -> Array:
    """The joint covariance from the profiled Hessian: D_ss = dof, D_theta,s = -d rss / sigma^2 (Schur complement)."""
    c, m = e.criterion, len(e.theta)
    v, _ = e.scores
    pull = np.zeros(m)
    for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
        for a, basis in zip(range(at.start, at.stop), structure.basis):
            pull[a] = 2.0 * np.einsum("kj,kj->", v[f], basis @ (e.factors[f].T @ v[f])) / e.sigma2
    free = ~_held(e)
    inner = np.zeros((m, m))
    inner[np.ix_(free, free)] = 2.0 * np.linalg.pinv(profiled[np.ix_(free, free)], rcond=1e-12, hermitian=True)
    out = np.zeros((m + 1, m + 1))
    out[:m, :m] = inner
    out[:m, m] = out[m, :m] = -inner @ pull / c.dof
    out[m, m] = 2.0 / c.dof + pull @ inner @ pull / c.dof**2
    return out


def _gradient(e: Evaluation, point: Array) -> Array:
    c = e.criterion
    if c.absolute:
        return c.at(point).gradient
    there = c.at(point[:-1])
    there.sigma2 = float(np.exp(point[-1]))
    return full_gradient(there)


def full_gradient(e: Evaluation) -> Array:
    """Gradient of the deviance in (theta, phi, log sigma^2) at an evaluation whose sigma^2 may be any."""
    return e.gradient if e.criterion.absolute else np.append(e.gradient, e.criterion.dof - e.rss / e.sigma2)


@dataclass(frozen=True)
class Satterthwaite:
    """Degrees of freedom from the observed information (Satterthwaite 1946; several rows: Fai & Cornelius 1996).

    With f(psi) = l' C(psi) l over all covariance parameters psi, df = 2 f^2 / (g' A g), g = df/dpsi and A their covariance.
    """

    e: Evaluation
    found: Found[Evaluation] | None = None

    @cached_property
    def covariance(self) -> Array:
        """C (p', p')."""
        return self.e.b_covariance

    @cached_property
    def _parts(self) -> tuple[Array, Array]:
        """A, and the derivatives of C in each parameter (m + 1, p', p')."""
        e = self.e
        profiled = self.found.hessian if self.found is not None and self.found.hessian.size else None
        a = parameter_covariance(e, profiled)
        changes = [self._change(i) for i in range(len(e.theta))]
        if not e.criterion.absolute:
            changes.append(self.covariance)
        return a, np.array(changes)

    def _change(self, i: int) -> Array:
        """dC / d psi_i at fixed sigma^2, by differences of the elimination alone."""
        e, c = self.e, self.e.criterion
        if _held(e)[i]:
            return np.zeros_like(self.covariance)
        if self.found is not None and self.found.near and is_large(e) and c.correlated is None and not c.absolute:
            step, base, there = self.found.near[i]
            return e.sigma2 * (there.b_covariance / there.sigma2 - base.b_covariance / base.sigma2) / step
        h = 1e-4 * max(abs(e.theta[i]), 1e-2)
        ends = []
        for side in (h, -h):
            moved = e.theta.copy()
            moved[i] += side
            there = c.at(moved)
            if not c.absolute:
                there.sigma2 = e.sigma2
            ends.append(there.b_covariance)
        return (ends[0] - ends[1]) / (2 * h)

    def one(self, row: Array) -> float | None:
        """df of the combination ``row`` @ b, (p',)."""
        a, changes = self._parts
        f = float(row @ self.covariance @ row)
        g = np.einsum("a,iab,b->i", row, changes, row)
        spread = float(g @ a @ g)
        if not (f > 0 and spread > 0):
            return None
        return 2.0 * f**2 / spread

    def several(self, rows: Array) -> float | None:
        """Denominator df of the joint hypothesis ``rows`` @ b = 0, (q, p')."""
        values, vectors = np.linalg.eigh(rows @ self.covariance @ rows.T)
        dfs = [self.one(v @ rows) for v, size in zip(vectors.T, values) if size > 1e-12 * values[-1]]
        if len(dfs) == 1:
            return dfs[0]
        if any(d is None for d in dfs):
            return None
        expected = sum(d / (d - 2.0) for d in dfs if d is not None and d > 2.0)
        return 2.0 * expected / (expected - len(dfs)) if expected > len(dfs) else None
