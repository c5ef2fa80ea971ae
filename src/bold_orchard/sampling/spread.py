"""The posterior of gaussian rows whose residual SD is each unit's own."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood
from bold_orchard.inference.fit import Fit
from bold_orchard.likelihood.random_spread.criterion import SpreadPoint
from bold_orchard.sampling.full import FullTarget
from bold_orchard.sampling.nuts import Metric
from bold_orchard.sampling.priors import Priors
from bold_orchard.sampling.whitening import ByElimination, ByLevel, Whitening

Array = NDArray[Any]


class SpreadTarget(FullTarget):
    """Gaussian rows whose residual SD is each unit's own: own parameters are those of the spread clause, then log SD at the baseline."""

    def __init__(self, fit: Fit, priors: Priors) -> None:
        super().__init__(fit, priors)
        assert isinstance(fit.model, SpreadModel)
        self.rows = self.c.rows
        self.x = self.rows.x
        self.w = np.array(self._columns()).reshape(-1, self.rows.frame.n)
        self.own_size = len(self.w) + 1

    def _columns(self) -> list[Array]:
        spread = self.design.residual.spread
        return [] if spread is None else [v[self.rows.order] for v in spread.values]

    def own_start(self) -> Array:
        gamma = self.e.theta[self.c.phi] / self.rows.centres[:, 1]
        return np.append(gamma, 0.5 * self.e.theta[-1] - gamma @ self.rows.centres[:, 0])

    def _typical(self) -> float:
        return 2.0 * float(np.std(self.design.outcome_values))

    def own_prior(self, own: Array, b: Array) -> tuple[float, Array, Array]:
        slope, value = np.zeros(len(own)), 0.0
        *laws, law_of_sd = self.priors.own.values()
        for k, law in enumerate(laws):
            more, slope[k] = law.density(float(own[k]))
            value += more
        sd = float(np.exp(own[-1]))
        more, d = law_of_sd.density(sd)
        slope[-1] = d * sd + 1.0
        return value + more + float(own[-1]), slope, np.zeros(len(b))

    def rows_density(self, b_work: Array, own: Array, effects: list[Array]) -> tuple[float, Array, Array, list[Array]]:
        rows, u, above = self.rows, effects[self.rows.block], self.rows.above
        s = u[rows.spread][rows.codes]
        log_sd = own[:-1] @ self.w + own[-1] + s
        if rows.weights is not None:
            log_sd = log_sd - 0.5 * np.log(rows.weights)
        r = rows.y - (b_work - rows.standard.b0) @ self.x
        for place, z in zip(rows.others, rows.z):
            r = r - z * u[place][rows.codes]
        for place, z in enumerate(rows.z[len(rows.others) :]):
            assert above is not None
            r = r - z * effects[above.block][place][above.of][rows.codes]
        h = np.exp(-2.0 * log_sd)
        square = h * r * r
        value = -0.5 * float(len(r) * np.log(2 * np.pi) + 2.0 * log_sd.sum() + square.sum())
        first, d_log = h * r, square - 1.0
        pulled = [np.empty_like(v) for v in effects]
        for place, z in zip(rows.others, rows.z):
            pulled[rows.block][place] = rows.by_unit(z * first)
        pulled[rows.block][rows.spread] = rows.by_unit(d_log)
        if above is not None:
            pulled[above.block] = above.sums(rows.by_unit(rows.z[len(rows.others) :] * first))
        return value, self.x @ first, np.append(self.w @ d_log, d_log.sum()), pulled

    def whitened(self) -> Whitening:
        """Posterior means and covariances of xi at the estimates, covariances that stand at an edge moved inside."""
        lows = self.start_lows()
        factors, theta = self._factors(lows), self.e.theta.copy()
        for low, structure, at in zip(factors, self.c.structures, self.c.slices):
            theta[at] = structure.of_covariance(low @ low.T)
        there = self.c.at(theta, self.e)
        drift = [np.empty((self.p, *m.shape)) for m in there.means]
        size = np.sqrt(np.maximum(np.diag(MaximumLikelihood(self.model).parameter_covariance), 1e-12))
        for i in range(self.p):
            h = 0.1 * size[i] * np.eye(len(theta))[i]
            up, down = (self.c.at(theta + side * h, there).means for side in (1, -1))
            for f, made in enumerate(drift):
                made[i] = (up[f] - down[f]) / (0.2 * size[i])
        at_b, sizes = np.asarray(theta[: self.p]), [np.diag(low).copy() for low in lows]
        if self.rows.above is not None:
            return ByElimination(there.means, drift, at_b, self._told(there), factors, sizes)
        back = np.linalg.inv(factors[0])
        covariance = np.einsum("ab,bcj,dc->jad", back, there.posterior_covariance(0), back, optimize=True)
        root = np.linalg.cholesky(covariance + 1e-9 * np.eye(len(back)))
        return ByLevel([back @ there.means[0]], [back @ drift[0]], at_b, [root], sizes)

    def _told(self, there: SpreadPoint) -> CrossProducts:
        """The products with each unit's spread at its mean, and what its rows tell of a log SD: 2 each."""
        products, rows = there.held_products(), self.rows
        stage = products.stages[0]
        c = stage.c.copy()
        c[rows.spread, rows.spread] += 2.0 * rows.counts[stage.order]
        return replace(products, stages=[replace(stage, c=c), *products.stages[1:]])

    def metric(self, z: Array) -> Metric:
        made = super().metric(z)
        made.cov[self.own, self.own] = np.diag(np.clip(np.diag(made.cov[self.own, self.own]), 1e-4, 0.2))
        return Metric(made.cov, made.var)

    def own_values(self, own: Array) -> list[float]:
        return [*own[:-1].tolist(), float(np.exp(own[-1]))]
