"""The posterior of a gaussian model with coefficients and effects integrated out: only the covariance parameters are sampled.

With A = X'H^-1X / sigma^2, c = X'H^-1y / sigma^2 and normal priors N(m, P^-1) of the coefficients, the log density of y is, up to
constants, -1/2 [n log sigma^2 + log|H| + log|A + P| + q + m'Pm - h'(A + P)^-1 h], h = c + Pm (Lindley & Smith 1972). Its gradient is
carried back through the elimination, and no row is touched. Coefficients under other laws are sampled too.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Backward, Eliminated, backward, eliminate
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.inference.summary import residual_variance
from bold_orchard.likelihood.conditional import drawn_effects
from bold_orchard.sampling.covariances import block_factor
from bold_orchard.sampling.gaussian_layout import GaussianLayout
from bold_orchard.sampling.gaussian_small import SmallGaussian
from bold_orchard.sampling.nuts import WANTED, Metric

Array = NDArray[Any]
NOWHERE = -1e300
FEW_LEVELS, LONG = 10, 0.65  # levels of a unit below which its variance has long tails; acceptance of longer steps
MOST_SMALL = 3000  # levels up to which products level by level are quicker than the general elimination


@dataclass(frozen=True)
class Here:
    """What one position knows beside its density: the elimination, sigma^2, what coefficients are given it, SDs and the like."""

    eliminated: Eliminated
    sigma2: float
    mean: Array
    root: Array
    contrast: Array
    alpha: Array
    factors: list[Array]


class GaussianTarget(GaussianLayout):
    """The log density over the coordinates of the layout, and draws of what is integrated out."""

    @property
    def wanted(self) -> float:
        """Acceptance: few coordinates, nearly normal, lose nothing by longer steps; few levels leave long tails."""
        levels = (u.levels for u in self.c.products.units)
        return LONG if min(levels, default=FEW_LEVELS) >= FEW_LEVELS else WANTED

    # -- the density

    def __call__(self, z: Array) -> tuple[float, Array]:
        with np.errstate(all="ignore"):
            try:
                value, gradient = self.evaluate(z)[:2] if self.small is None else self.small.density(z)
            except (np.linalg.LinAlgError, OverflowError, ValueError):
                return NOWHERE, np.zeros(self.size)
        if not (np.isfinite(value) and np.isfinite(gradient).all()):
            return NOWHERE, np.zeros(self.size)
        return value, gradient

    @cached_property
    def small(self) -> SmallGaussian | None:
        """A model with one unit of few levels, for which a few small products serve better than the general road."""
        stages = self.c.products.stages
        if (
            not self.c.linear
            or self.c.known
            or self.c.products.q
            or len(stages) != 1
            or stages[0].levels > MOST_SMALL
            or self.free
        ):
            return None
        return SmallGaussian(self)

    def evaluate(self, z: Array, slopes: bool = True) -> tuple[float, Array, Here]:
        """The log density, its gradient, and what else is known there."""
        phi, log_sigma2, d_phi, d_sigma, prior, gradient = self.residual(z)
        sigma = float(np.exp(0.5 * log_sigma2))
        made = [covariance.at(z[at]) for covariance, at in zip(self.priors.covariances, self.places)]
        for (_, _, value, slope), at in zip(made, self.places):
            prior += value
            gradient[at] += slope
        alpha, d_alpha = self.working_alpha(z[self.alpha])
        prior += self._prior_of_own(z, gradient)
        products, log_det = self._products(phi, alpha)
        lows = self._lows(made, alpha)
        factors = [self.c.products.z_to_work[f] @ low / sigma for f, low in enumerate(lows)]
        e = eliminate(products, factors)
        value, mean, root, w_bar, d_log_sigma2, d_free, contrast = self._of_w(e.w, z[self.coefficients], sigma**2)
        n, log_weights = self.c.products.n, self.c.products.log_weights
        value = -0.5 * (value + n * (np.log(2 * np.pi) + log_sigma2) + e.log_det + log_det - log_weights)
        here = Here(e, sigma**2, mean, root, contrast, alpha, factors)
        if not slopes:
            return value + prior, gradient, here
        gradient[self.coefficients] -= 0.5 * d_free
        back = backward(e, w_bar, inverses=not self.c.linear)
        d_log_sigma2 += n + self._of_effects(gradient, made, lows, factors, back, sigma, alpha, d_alpha)
        self._of_rows(gradient, products, back, phi, d_phi, alpha, d_alpha)
        gradient -= 0.5 * d_log_sigma2 * d_sigma
        return value + prior, gradient, here

    def _prior_of_own(self, z: Array, gradient: Array) -> float:
        """Log priors of alpha and of coefficients that are sampled; their slopes join the gradient."""
        total = 0.0
        for parameter, at in zip(self.varied, range(self.alpha.start, self.alpha.stop)):
            value, slope = self.priors.own[parameter].density(float(z[at]))
            total, gradient[at] = total + value, gradient[at] + slope
        for k, i in enumerate(self.free):
            at = self.coefficients.start + k
            value, slope = self.priors.fixed[i].density(float(z[at] + self.e.b[i]))
            total, gradient[at] = total + value, gradient[at] + slope
        return total

    def _products(self, phi: Array, alpha: Array) -> tuple[CrossProducts, float]:
        """The products of all columns in the metric of the residuals, and log|R|."""
        products, log_det = self.c.products, 0.0
        if self.c.correlated is not None:
            bands, products = self.c.correlated.at(phi)
            log_det = bands.log_det
        return (products if self.c.vary is None else self.c.vary.at(products, alpha)), log_det

    def _lows(self, made: list[Any], alpha: Array) -> list[Array]:
        """A factor of every block's covariance on the user's scale, where SDs vary at the criterion's own origin."""
        out = []
        for f, unit in enumerate(self.c.products.units):
            parts = [(x.columns, m[0]) for x, m in zip(self.design.clauses, made) if x.block == f]
            out.append(block_factor(parts, unit.size) * self.c.grown(alpha, f)[:, None])
        return out

    def _of_effects(
        self, gradient: Array, made: list[Any], lows: list[Array], factors: list[Array], back: Backward, sigma: float, alpha: Array, d_alpha: Array
    ) -> float:  # fmt: skip
        """Carry the slopes of all covariances to their coordinates; returns what they owe to log sigma^2."""
        c, total = self.c, 0.0
        for f, low in enumerate(lows):
            pulled = 2.0 * back.slope[f] @ factors[f]
            total -= 0.5 * float(np.vdot(pulled, factors[f]))
            d_low = c.products.z_to_work[f].T @ pulled / sigma
            by_row = d_low * c.grown(alpha, f)[:, None]
            for i, clause in enumerate(self.design.clauses):
                if clause.block == f:
                    own = by_row[clause.columns, clause.columns]
                    gradient[self.places[i]] -= 0.5 * np.einsum("aij,ij->a", made[i][1], own)
            for part, at in () if c.vary is None else zip(c.vary.parts, c.vary.slices()):
                if part.unit == f:
                    moved = part.shift / part.sd * (d_low * low).sum(axis=1)[part.columns].sum()
                    gradient[self.alpha][at] -= 0.5 * moved * d_alpha[at]
        return total

    def _of_rows(
        self, gradient: Array, products: CrossProducts, back: Backward, phi: Array, d_phi: Array, alpha: Array, d_alpha: Array
    ) -> None:  # fmt: skip
        """Slopes in what the residuals and the SDs of effects depend on."""
        if self.c.vary is not None:
            gradient[self.alpha] -= 0.5 * self.c.vary.slope(products, back) * d_alpha
            back = self.c.vary.unscaled(products, alpha, back) if self.c.correlated is not None else back
        if self.c.correlated is not None:
            gradient -= 0.5 * self.c.correlated.slope(phi, back) @ d_phi

    def _of_w(self, w: Array, free: Array, sigma2: float) -> Any:
        """The part of -2 log density that [X y]'H^-1 [X y] = ``w`` decides, with its adjoint, mean and root of the coefficients.

        Coefficients stand as differences from the fit's, so that nothing large cancels.
        """
        standard = self.c.products.standard
        k, t = len(self.closed), self.to_work
        turn = np.zeros((len(w), k + 1))
        turn[:-1, :k] = t[:, self.closed]
        turn[:-1, k] = standard.b0 - t @ self.e.b - t[:, self.free] @ free
        turn[-1, k] = 1.0
        m = turn.T @ w @ turn / sigma2
        a = m[:k, :k] + np.diag(self.precision)
        h = m[:k, k] + self.precision * self.prior_mean
        scale = 1.0 / np.sqrt(np.diag(a)) if k else np.zeros(0)
        low = np.linalg.cholesky(a * np.outer(scale, scale)) if k else np.zeros((0, 0))
        inverse = np.linalg.inv(a * np.outer(scale, scale)) * np.outer(scale, scale) if k else np.zeros((0, 0))
        mean = inverse @ h
        value = float(m[k, k] + self.precision @ self.prior_mean**2 - h @ mean)
        if k:
            value += 2.0 * float(np.log(np.diag(low)).sum() - np.log(scale).sum())
        contrast = np.append(-mean, 1.0)
        bar = np.outer(contrast, contrast)
        bar[:k, :k] += inverse
        d_log_sigma2 = -float(np.vdot(bar, m))
        w_bar = turn @ bar @ turn.T / sigma2
        d_free = np.zeros(len(self.free))
        if len(self.free):
            pulled = 2.0 * (w @ turn @ bar)[:-1, k] / sigma2
            d_free = -t[:, self.free].T @ pulled
        root = scale[:, None] * np.linalg.inv(low).T if k else low
        return value, mean, root, w_bar, d_log_sigma2, d_free, turn

    # -- starts and draws

    def start(self) -> Array:
        """Coordinates of the fit's estimates."""
        z, e, c, design = np.zeros(self.size), self.e, self.c, self.design
        typical = 2.0 * float(np.std(design.outcome_values))
        for covariance, clause, at in zip(self.priors.covariances, design.clauses, self.places):
            g = e.covariance(clause.block)[clause.columns, clause.columns]
            size = np.array([np.sqrt(np.mean(v**2)) for v in clause.part.values])
            z[at] = covariance.start(g, typical / size)
        phi = e.theta[c.phi]
        if self.priors.residual is not None:
            assert c.correlated is not None
            made = np.array(c.correlated.rows.parameters(phi, e.sigma2)["covariance"])
            z[self.rows] = self.priors.residual.start(made, np.sqrt(np.diag(made)))
        else:
            inner = self.n_phi - self.n_spread
            walled = c.nonnegative[c.phi.start : c.phi.start + inner]
            z[self.rows] = np.where(walled, np.log(np.maximum(phi[:inner], 1e-2)), np.clip(phi[:inner], -4, 4))
            if design.residual.spread is not None:
                z[self.spread] = phi[inner:] / np.array([v.std() for v in design.residual.spread.values])
            if self.sd_at is not None:
                z[self.sd_at] = 0.5 * np.log(residual_variance(design, c, phi, e.sigma2))
        if c.vary is not None:
            z[self.alpha] = e.theta[c.alpha] / np.concatenate([p.sd for p in c.vary.parts])
        return z

    def metric(self, z: Array) -> Metric:
        """The inverse mass matrix from the curvature at ``z``, by differences of the gradient."""
        return Metric(curvature_inverse(self, z), np.zeros(0))

    @property
    def dense(self) -> int:
        return self.size

    def complete(self, z: Array, rng: np.random.Generator) -> tuple[Array, list[Array]]:
        """Coefficients (p',) and effects of each block (levels, k) drawn given a position, from their exact law."""
        if self.small is not None:
            return self.small.complete(z, rng)
        with np.errstate(all="ignore"):
            here = self.evaluate(z, slopes=False)[2]
        b = self.e.b.copy()
        b[self.free] += z[self.coefficients]
        drawn = here.mean + here.root @ rng.standard_normal(len(here.mean))
        b[self.closed] += drawn
        contrast = here.contrast @ np.append(
            drawn, 1.0
        )  # y - X b in working columns, for turn holds -X b0 and -X b free
        contrast[:-1] = self.c.products.standard.b0 - self.to_work @ b
        effects = drawn_effects(here.eliminated, contrast, float(np.sqrt(here.sigma2)), rng)
        out = []
        for f, unit in enumerate(self.c.products.units):
            u = np.linalg.solve(self.c.products.z_to_work[f], effects[f])
            if self.c.vary is not None:
                u = u * self.c.vary.scales(here.alpha, f, unit.size, unit.levels)
            out.append(u.T)
        return b, out


def curvature_inverse(target: Any, z: Array, m: int | None = None) -> Array:
    """The inverse of the negative Hessian over the first ``m`` coordinates, by differences of the gradient; positive by force."""
    m = len(z) if m is None else m
    h = 1e-4
    hessian = np.zeros((m, m))
    for i in range(m):
        step = np.zeros(len(z))
        step[i] = h
        hessian[i] = -(target(z + step)[1] - target(z - step)[1])[:m] / (2 * h)
    hessian = (hessian + hessian.T) / 2
    if not np.isfinite(hessian).all():
        return np.eye(m)
    values, vectors = np.linalg.eigh(hessian)
    values = np.clip(np.abs(values), 0.05, 1e8)  # a direction the rows do not bend in is the prior's
    return np.asarray(vectors / values @ vectors.T)
