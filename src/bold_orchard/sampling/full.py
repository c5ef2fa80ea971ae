"""The posterior over everything: coefficients, covariances, what a family estimates of its own, and every unit's effects.

Effects are sampled whitened at their conditional mode (Laplace's approximation as the map, not as the answer): u = T v, v an affine
function of independent coordinates w and of the coefficients, so that the Jacobian is a constant; see ``whitening``.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood
from bold_orchard.inference.fit import Fit
from bold_orchard.sampling.covariances import block_factor, consecutive, reported
from bold_orchard.sampling.gaussian import NOWHERE
from bold_orchard.sampling.nuts import WANTED, Metric
from bold_orchard.sampling.priors import Priors
from bold_orchard.sampling.whitening import Whitening

Array = NDArray[Any]
CLEAR, LONG = 5.0, 0.6  # standard errors of an SD from zero; acceptance of longer steps


class FullTarget:
    """Coordinates: working coefficients, the family's own, every clause's covariance, then w of every block (k, levels).

    Subclasses say what the rows' log density is: ``own_size``, ``own_prior``, ``rows_density``.
    """

    def __init__(self, fit: Fit, priors: Priors) -> None:
        self.fit, self.priors, self.model, self.design = fit, priors, fit.model, fit.design
        self.c, self.e = fit.criterion, fit.evaluation
        self.units = self.c.products.units
        self.to_work = self.c.products.standard.to_work
        self.to_user = np.linalg.inv(self.to_work)
        self.p = self.c.p

    @property
    def wanted(self) -> float:
        """Acceptance: SDs far from zero leave a posterior that is nearly normal; others have a neck that longer steps miss."""
        sds = self.e.theta[self.c.bounded]
        with np.errstate(invalid="ignore"):
            errors = np.sqrt(np.diag(self.errors)[self.c.bounded])
        return LONG if (sds > CLEAR * errors).all() else WANTED

    @cached_property
    def errors(self) -> Array:
        """The covariance of the estimates of all parameters."""
        return MaximumLikelihood(self.model).parameter_covariance

    # -- what subclasses say

    own_size = 0
    x: Array

    def own_start(self) -> Array:
        raise NotImplementedError

    def own_prior(self, own: Array, b: Array) -> tuple[float, Array, Array]:
        """Log prior of the own parameters, its gradient in them and in the user's coefficients."""
        raise NotImplementedError

    def rows_density(self, b_work: Array, own: Array, effects: list[Array]) -> tuple[float, Array, Array, list[Array]]:
        """Log density of the rows; its gradient in b, own and every block's working effects (k, levels)."""
        raise NotImplementedError

    def whitened(self) -> Whitening:
        """The map from w to the effects at the estimates."""
        raise NotImplementedError

    # -- the layout

    @property
    def own(self) -> slice:
        return slice(self.p, self.p + self.own_size)

    @cached_property
    def places(self) -> list[slice]:
        return consecutive((covariance.size for covariance in self.priors.covariances), self.own.stop)

    @property
    def dense(self) -> int:
        """Coordinates whose covariance is learned whole: all but the effects."""
        return self.places[-1].stop if self.places else self.own.stop

    @cached_property
    def blocks(self) -> list[slice]:
        return consecutive((unit.size * unit.levels for unit in self.units), self.dense)

    @property
    def size(self) -> int:
        return self.blocks[-1].stop if self.blocks else self.dense

    @cached_property
    def whitening(self) -> Whitening:
        return self.whitened()

    # -- the density

    def __call__(self, z: Array) -> tuple[float, Array]:
        with np.errstate(all="ignore"):
            try:
                value, gradient = self._evaluate(z)
            except (np.linalg.LinAlgError, OverflowError, ValueError):
                return NOWHERE, np.zeros(self.size)
        if not (np.isfinite(value) and np.isfinite(gradient).all()):
            return NOWHERE, np.zeros(self.size)
        return value, gradient

    def _lows(self, made: list[Any]) -> list[Array]:
        """Factors of the covariances of every block on the user's scale, (k, k)."""
        return [
            block_factor([(x.columns, m[0]) for x, m in zip(self.design.clauses, made) if x.block == f], unit.size)
            for f, unit in enumerate(self.units)
        ]

    def _factors(self, lows: list[Array]) -> list[Array]:
        return [self.c.products.z_to_work[f] @ low for f, low in enumerate(lows)]

    def _effects(self, lows: list[Array], z: Array) -> tuple[list[Array], list[Array], float, Any]:
        """v and working effects of every block, (k, levels) each, the log Jacobian and what its gradient needs."""
        w = [z[at].reshape(u.size, u.levels) for at, u in zip(self.blocks, self.units)]
        vs, log, kept = self.whitening.effects(w, z[: self.p], [np.diag(low) for low in lows])
        us = []
        for f, (unit, t) in enumerate(zip(self.units, self._factors(lows))):
            u = t @ vs[f]
            us.append(u if unit.relationship_factor is None else u @ unit.relationship_factor.T)
        return vs, us, log, kept

    def _evaluate(self, z: Array) -> tuple[float, Array]:
        gradient = np.zeros(self.size)
        b = self.to_user @ z[: self.p]
        d_user = np.zeros(self.p)
        value = 0.0
        for k, law in enumerate(self.priors.fixed):
            more, d_user[k] = law.density(float(b[k]))
            value += more
        more, gradient[self.own], d_own = self.own_prior(z[self.own], b)
        value, d_user = value + more, d_user + d_own
        made = [covariance.at(z[at]) for covariance, at in zip(self.priors.covariances, self.places)]
        for (_, _, more, slope), at in zip(made, self.places):
            value += more
            gradient[at] += slope
        lows = self._lows(made)
        factors = self._factors(lows)
        vs, us, log, kept = self._effects(lows, z)
        value += log
        more, d_b, d_rows, pulled = self.rows_density(z[: self.p], z[self.own], us)
        value += more
        gradient[: self.p] += d_b + self.to_user.T @ d_user
        gradient[self.own] += d_rows
        mixed = [
            x if unit.relationship_factor is None else x @ unit.relationship_factor
            for x, unit in zip(pulled, self.units)
        ]
        d_vs = [t.T @ x - v for t, x, v in zip(factors, mixed, vs)]
        value -= 0.5 * sum(float(np.vdot(v, v)) for v in vs)
        if not self.units:
            return value, gradient
        d_ws, moved, d_sizes = self.whitening.back(d_vs, kept)
        gradient[: self.p] += moved
        for f, at in enumerate(self.blocks):
            gradient[at] = d_ws[f].ravel()
            d_low = self.c.products.z_to_work[f].T @ (mixed[f] @ vs[f].T) + np.diag(d_sizes[f])
            for i, clause in enumerate(self.design.clauses):
                if clause.block == f:
                    own = d_low[clause.columns, clause.columns]
                    gradient[self.places[i]] += np.einsum("aij,ij->a", made[i][1], own)
        return value, gradient

    # -- starts and draws

    def start(self) -> Array:
        z = np.zeros(self.size)
        z[: self.p] = self.e.theta[: self.p]
        z[self.own] = self.own_start()
        for covariance, clause, at in zip(self.priors.covariances, self.design.clauses, self.places):
            g = self.e.covariance(clause.block)[clause.columns, clause.columns]
            size = np.array([max(float(np.sqrt(np.mean(v**2))), 1e-300) for v in clause.part.values])
            typical = np.where(np.array(clause.part.names) == "spread", 1.0, self._typical() / size)
            z[at] = covariance.start(g, typical)
        return z

    def _typical(self) -> float:
        return 1.0

    def start_lows(self) -> list[Array]:
        """Factors of the covariances where the chains start around, SDs at an edge moved inside."""
        z = self.start()
        return self._lows([covariance.at(z[at]) for covariance, at in zip(self.priors.covariances, self.places)])

    def metric(self, z: Array) -> Metric:
        """Errors of the coefficients from the fit's information; effects are whitened already."""
        m = self.dense
        cov = 0.1 * np.eye(m)
        known = self.errors
        cov[: self.p, : self.p] = known[: self.p, : self.p] + 1e-12 * np.eye(self.p)
        if self.own_size:
            own = np.diag(known)[self.c.extra]
            cov[self.own, self.own] = np.diag(np.clip(np.where(own > 0, own, 0.1), 1e-6, 1.0))
        return Metric(cov, np.ones(self.size - m))

    def complete(self, z: Array, rng: np.random.Generator) -> tuple[Array, list[Array]]:
        """Coefficients (p',) and effects of each block (levels, k) of a position; nothing is left to draw."""
        made = [covariance.at(z[at]) for covariance, at in zip(self.priors.covariances, self.places)]
        us = self._effects(self._lows(made), z)[1]
        b = self.to_user @ z[: self.p]
        return b, [np.linalg.solve(self.c.products.z_to_work[f], u).T for f, u in enumerate(us)]

    def values(self, z: Array) -> Array:
        out: list[float] = []
        for covariance, at in zip(self.priors.covariances, self.places):
            out += reported(covariance, z[at])
        return np.array([*out, *self.own_values(z[self.own])])

    def own_values(self, own: Array) -> list[float]:
        raise NotImplementedError
