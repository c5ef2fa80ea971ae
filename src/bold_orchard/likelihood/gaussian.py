"""The profiled Gaussian criterion, its gradient and its average information.

``deviance = -2 log-likelihood`` (ML) or ``-2`` restricted log-likelihood (REML; Harville 1977), with b and sigma^2
at their closed forms for given theta. Parameters: theta of all units, then phi of the residual covariance, then alpha on
which SDs of effects depend, then log sigma^2 when some covariance is given whole and sigma^2 can no longer be profiled out.
Where the errors' SDs are known sigma^2 is 1, and rows are weighted by the inverse of their variances.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.covariance.effects.given import Given
from bold_orchard.covariance.effects.stacked import Stacked
from bold_orchard.crossproducts.correlated import Correlated
from bold_orchard.crossproducts.elimination import Backward, Eliminated, backward, eliminate
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.substitution import scores
from bold_orchard.crossproducts.varying import Varying
from bold_orchard.likelihood.average_information import quadratic_forms
from bold_orchard.likelihood.moments import OFF_EDGE, moments, together

Array = NDArray[Any]


@dataclass(frozen=True)
class Criterion:
    """parameters -> GaussianPoint; ``products`` are those at the start of phi when ``correlated`` is there."""

    products: CrossProducts
    reml: bool
    correlated: Correlated | None = None
    vary: Varying | None = None
    known: bool = False
    profiled: ClassVar[bool] = True

    @cached_property
    def structures(self) -> list[Structure]:
        """The joint structure of each unit's effects."""
        out: list[Structure] = []
        for unit in self.products.units:
            parts = tuple(b.structure for b in unit.blocks)
            out.append(parts[0] if len(parts) == 1 else Stacked(sum(p.size for p in parts), parts))
        return out

    @cached_property
    def slices(self) -> list[slice]:
        """Where each unit's parameters stand."""
        ends = np.cumsum([0, *(s.n_theta for s in self.structures)])
        return [slice(int(a), int(b)) for a, b in itertools.pairwise(ends)]

    @cached_property
    def n_theta(self) -> int:
        return sum(s.n_theta for s in self.structures)

    @cached_property
    def phi(self) -> slice:
        """Where the parameters of the residual covariance stand."""
        n_phi = 0 if self.correlated is None else len(self.correlated.rows.start)
        return slice(self.n_theta, self.n_theta + n_phi)

    @cached_property
    def alpha(self) -> slice:
        """Where the parameters on which SDs of effects depend stand."""
        return slice(self.phi.stop, self.phi.stop + (0 if self.vary is None else self.vary.size))

    @property
    def linear(self) -> bool:
        """Whether V is linear in variances and covariances: independent residuals of one spread, effects of one SD."""
        return self.correlated is None and self.vary is None

    @cached_property
    def absolute(self) -> bool:
        """Whether log sigma^2 is a parameter of its own, the last."""
        return not self.known and any(isinstance(b.structure, Given) for u in self.products.units for b in u.blocks)

    @property
    def concentrated(self) -> bool:
        """Whether sigma^2 stands at its closed form, so that psi has log sigma^2 after the parameters."""
        return not (self.absolute or self.known)

    def split(self, psi: Array) -> tuple[Array, float]:
        """The parameters of a search and sigma^2, out of all covariance parameters."""
        return (psi[:-1] if self.concentrated else psi), 1.0 if self.known else float(np.exp(psi[-1]))

    def at_psi(self, psi: Array) -> GaussianPoint:
        """The point at all covariance parameters, sigma^2 as they say."""
        parameters, sigma2 = self.split(psi)
        return self.at(parameters).with_sigma2(sigma2) if self.concentrated else self.at(parameters)

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        parts = [s.bounded for s in self.structures]
        if self.correlated is not None:
            parts.append(self.correlated.rows.bounded)
        parts.append(np.zeros(self.alpha.stop - self.alpha.start, dtype=bool))
        return np.concatenate([*parts, np.zeros(int(self.absolute), dtype=bool)]).astype(bool)

    @cached_property
    def nonnegative(self) -> NDArray[np.bool_]:
        """Parameters that cannot be negative at all (those of T can: T and -T are the same model)."""
        nonnegative = np.zeros(len(self.bounded), dtype=bool)
        nonnegative[self.phi] = self.bounded[self.phi]
        return nonnegative

    def lost(self, parameters: Array) -> NDArray[np.bool_]:
        """Parameters of the residual covariance that stand at an edge of it."""
        out = np.zeros(len(parameters), dtype=bool)
        if self.correlated is not None:
            out[self.phi] = self.correlated.rows.lost(parameters[self.phi])
        return out

    def edges(self, parameters: Array) -> list[Array]:
        """The parameters with one of the residual covariance put at an edge near by."""
        if self.correlated is None:
            return []
        out = []
        for phi in self.correlated.rows.edges(parameters[self.phi]):
            moved = parameters.copy()
            moved[self.phi] = phi
            out.append(moved)
        return out

    def signs(self, parameters: Array) -> Array:
        """Factors +-1 that bring the parameters to the form in which they are reported."""
        signs = np.ones(len(parameters))
        for structure, at in zip(self.structures, self.slices):
            signs[at] = structure.signs(parameters[at])
        return signs

    @property
    def dof(self) -> int:
        """Divisor of the residual variance."""
        return self.products.n - (self.products.p if self.reml else 0)

    @property
    def n_covariance(self) -> int:
        """Free covariance parameters, the residual variance included."""
        return len(self.bounded) + int(self.concentrated)

    def grown(self, alpha: Array, f: int) -> Array:
        """By what SDs of effects at the means of the columns on which they depend exceed those at zero, (k,)."""
        size = self.products.units[f].size
        return np.ones(size) if self.vary is None else 1.0 / self.vary.to_zero(alpha, f, size)

    def factors(self, parameters: Array) -> list[Array]:
        scale = float(np.exp(-0.5 * parameters[-1])) if self.absolute else 1.0
        return [s.factor(parameters[at], scale) for s, at in zip(self.structures, self.slices)]

    def at(self, parameters: Array, near: GaussianPoint | None = None) -> GaussianPoint:
        """Nothing is sought inside, so no point ``near`` helps."""
        parameters = np.asarray(parameters, dtype=float)
        products, log_det = self.products, 0.0
        with np.errstate(all="ignore"):
            if self.correlated is not None:
                bands, products = self.correlated.at(parameters[self.phi])
                log_det = bands.log_det
            if self.vary is not None:
                products = self.vary.at(products, parameters[self.alpha])
            return GaussianPoint(self, parameters, eliminate(products, self.factors(parameters)), log_det)

    def start(self) -> Array:
        """Where a search begins."""
        return self._moments.copy()

    @cached_property
    def _moments(self) -> Array:
        """theta by method of moments: unit by unit and column by column, of many levels of one unit all columns together."""
        parts = [np.zeros(0)]
        gamma = together(self.products) if self.linear and self.concentrated else None
        if gamma is None:
            sums = moments(self.products)
            parts += [structure.start(sums[f]) for f, structure in enumerate(self.structures)]
        else:
            bounded, theta = self.structures[0].bounded, self.structures[0].of_covariance(gamma)
            parts.append(np.where(bounded, np.maximum(theta, OFF_EDGE), theta))
        if self.correlated is not None:
            parts.append(self.correlated.rows.start)
        parts.append(np.zeros(self.alpha.stop - self.alpha.start))
        if self.absolute:
            parts.append(np.array([np.log(self.products.dense[-1, -1] / self.dof)]))
        return np.concatenate(parts)


@dataclass(frozen=True)
class Brief:
    """What is kept of a point once its matrices are gone."""

    b_covariance: Array
    sigma2: float


class GaussianPoint:
    """Everything at one point of the parameters; the costly parts are made when first asked for."""

    def __init__(
        self, criterion: Criterion, theta: Array, eliminated: Eliminated, log_det_r: float,
        held: tuple[int, float] | None = None, sigma2: float | None = None,
    ) -> None:  # fmt: skip
        self.criterion, self.theta, self.eliminated, self.log_det_r = criterion, theta, eliminated, log_det_r
        self.held = held
        w = eliminated.w
        p = len(w) - 1
        self.xx, xy = w[:p, :p], w[:p, p]
        self.b_work = np.linalg.solve(self.xx, xy) if p else np.zeros(0)
        self.rss = np.float64(w[p, p] - xy @ self.b_work)
        if held is not None:
            self._hold(*held)
        best = np.float64(criterion.split(theta)[1]) if not criterion.concentrated else self.rss / criterion.dof
        self.sigma2 = best if sigma2 is None else np.float64(sigma2)

    @property
    def log_det_x(self) -> float:
        """log|X'H^-1X| on the user's scale."""
        if not len(self.xx):
            return 0.0
        return float(np.linalg.slogdet(self.xx)[1]) + self.criterion.products.standard.log_det

    @cached_property
    def xx_inverse(self) -> Array:
        """(X'H^-1X)^-1 on the working scale, (p, p)."""
        return np.linalg.inv(self.xx)

    def hold(self, column: int, value: float) -> GaussianPoint:
        """The same point with one of the user's coefficients (place among the kept ones) held at ``value``."""
        return type(self)(self.criterion, self.theta, self.eliminated, self.log_det_r, held=(column, value))

    def with_sigma2(self, sigma2: float) -> GaussianPoint:
        """The same point with a residual variance that need not be the best one there."""
        return type(self)(self.criterion, self.theta, self.eliminated, self.log_det_r, self.held, sigma2)

    def _hold(self, column: int, value: float) -> None:
        standard = self.criterion.products.standard
        weights = np.linalg.inv(standard.to_work)[column]
        across = self.xx_inverse @ weights
        miss, width = value - float(weights @ (standard.b0 + self.b_work)), float(weights @ across)
        self.b_work = self.b_work + across * (miss / width)
        self.rss += miss**2 / width
        self.xx_inverse = self.xx_inverse - np.outer(across, across) / width

    @cached_property
    def deviance(self) -> float:
        c = self.criterion
        if not (self.rss > 0 and np.isfinite(self.eliminated.log_det + self.log_det_r)):
            return np.inf
        value = c.dof * np.log(2 * np.pi * self.sigma2) + self.rss / self.sigma2
        value += self.eliminated.log_det + self.log_det_r - c.products.log_weights
        return float(value + (self.log_det_x if c.reml else 0.0))

    @cached_property
    def _contrast(self) -> Array:
        """c with residual = [X y] c."""
        return np.append(-self.b_work, 1.0)

    @property
    def _w_bar(self) -> Array:
        """d deviance / d W, W = [X y]'H^-1[X y], (p+1, p+1)."""
        c = self._contrast
        w_bar = np.outer(c, c) / self.sigma2
        if self.criterion.reml and len(self.xx):
            w_bar[:-1, :-1] += self.xx_inverse
        return w_bar

    @cached_property
    def reverse(self) -> Backward:
        return backward(self.eliminated, self._w_bar, inverses=not self.criterion.linear)

    @cached_property
    def scores(self) -> tuple[dict[int, Array], dict[int, Array]]:
        return scores(self.eliminated, self._contrast)

    @cached_property
    def factors(self) -> list[Array]:
        return self.criterion.factors(self.theta)

    @cached_property
    def gradient(self) -> Array:
        """d deviance / d parameters."""
        c = self.criterion
        out = np.zeros(len(self.theta))
        log_sigma = c.dof - self.rss / self.sigma2
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            slope_t = 2.0 * self.reverse.slope[f] @ self.factors[f]
            out[at] = np.einsum("aij,ij->a", structure.basis, slope_t)
            if c.absolute:
                scaled = structure.fixed * np.exp(-0.5 * self.theta[-1])
                log_sigma -= 0.5 * float(np.vdot(scaled, slope_t))
        if c.vary is not None:
            out[c.alpha] = c.vary.slope(self.eliminated.products, self.reverse)
        if c.correlated is not None:
            back = self.reverse
            if c.vary is not None:
                back = c.vary.unscaled(self.eliminated.products, self.theta[c.alpha], back)
            out[c.phi] = c.correlated.slope(self.theta[c.phi], back)
        if c.absolute:
            out[-1] = log_sigma
        return out

    @cached_property
    def curvature(self) -> Array:
        """An approximate Hessian: average information in theta plus the exact curvature of Gamma(theta).

        Rows of phi and log sigma^2 come from differences of the exact gradient.
        """
        c = self.criterion
        hessian = np.zeros((len(self.theta), len(self.theta)))
        directions, pulls = [], []
        v, _ = self.scores
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            changes = structure.basis @ self.factors[f].T
            changes = changes + changes.transpose(0, 2, 1)
            directions += [(f, d @ v[f]) for d in changes]
            pulls += [float(np.einsum("kj,kj->", v[f], d @ v[f])) for d in changes]
            slope_basis = np.einsum("ij,ajk->aik", self.reverse.slope[f], structure.basis)
            hessian[at, at] = 2.0 * np.einsum("aik,bik->ab", slope_basis, structure.basis)
        m = c.n_theta
        if m:
            forms = self._forms(directions)
            pull = np.array(pulls)
            hessian[:m, :m] += forms / self.sigma2
            if c.concentrated:
                hessian[:m, :m] -= np.outer(pull, pull) / (c.dof * self.sigma2**2)
        for i in range(m, len(self.theta)):
            h = 1e-5 * max(abs(self.theta[i]), 0.1)
            moved = self.theta.copy()
            moved[i] += h
            there = c.at(moved) if self.held is None else c.at(moved).hold(*self.held)
            hessian[i] = (there.gradient - self.gradient) / h
            hessian[:m, i] = hessian[i, :m]
        hessian[m:, m:] = (hessian[m:, m:] + hessian[m:, m:].T) / 2
        return hessian

    def _forms(self, directions: list[tuple[int, Array]]) -> Array:
        return quadratic_forms(self.eliminated, directions, self.xx_inverse)

    # -- results on the user's scale

    @property
    def row_variance(self) -> float:
        """Residual variance, where it differs between rows at the mean of what it depends on."""
        return float(self.sigma2)

    @property
    def psi(self) -> Array:
        """All covariance parameters, (m + 1,): log sigma^2 stands last where it is not a parameter already."""
        return np.append(self.theta, np.log(self.sigma2)) if self.criterion.concentrated else self.theta

    @property
    def psi_slope(self) -> Array:
        """Gradient of the deviance in psi at a point whose sigma^2 may be any."""
        c = self.criterion
        return np.append(self.gradient, c.dof - self.rss / self.sigma2) if c.concentrated else self.gradient

    @property
    def joint(self) -> Eliminated:
        return self.eliminated

    @property
    def b(self) -> Array:
        return self.criterion.products.standard.to_user(self.b_work)

    @property
    def b_covariance(self) -> Array:
        """(p', p') covariance of the kept coefficients."""
        inverse = np.linalg.inv(self.criterion.products.standard.to_work)
        return self.sigma2 * inverse @ self.xx_inverse @ inverse.T

    def brief(self) -> Brief:
        return Brief(self.b_covariance, self.sigma2)

    def covariance(self, f: int) -> Array:
        """Covariance of the effects of unit f, (k, k), where SDs vary that at zero; between levels it is multiplied by ``mix mix'``."""
        c = self.criterion
        t = np.linalg.solve(c.products.z_to_work[f], self.factors[f])
        if c.vary is not None:
            t = t * c.vary.to_zero(self.theta[c.alpha], f, len(t))[:, None]
        return self.sigma2 * t @ t.T

    def scales(self, f: int) -> Array:
        """By what each level's effects exceed those that ``factors[f]`` makes, (k, J), user's numbering."""
        c, unit = self.criterion, self.criterion.products.units[f]
        if c.vary is None:
            return np.ones((unit.size, unit.levels))
        return c.vary.scales(self.theta[c.alpha], f, unit.size, unit.levels)

    def effects(self, f: int) -> tuple[Array, Array]:
        """Predicted effects (J, k) and the covariance of their errors (J, k, k), user's levels and scale."""
        p = len(self.xx)
        w_bar = np.zeros((p + 1, p + 1))
        if p:
            w_bar[:p, :p] = self.xx_inverse
        products = self.criterion.products
        _, u = self.scores
        made = backward(self.eliminated, w_bar, inverses=True)
        errors, mine = made.inverse[f], u[f]
        mix = products.units[f].relationship_factor
        if mix is not None:
            tail = next(t for t in products.tails if t.unit == f)
            own = made.dense[tail.columns, tail.columns].reshape(tail.size, tail.levels, tail.size, tail.levels)
            errors = np.einsum("jl,albm,jm->abj", mix, own, mix, optimize=True)
            mine = mine @ mix.T
        orders = {s.unit: s.order for s in products.stages} | {t.unit: t.order for t in products.tails}
        back = np.linalg.inv(products.z_to_work[f])
        effects, covariance = np.empty_like(mine.T), np.empty(errors.transpose(2, 0, 1).shape)
        effects[orders[f]] = (back @ mine).T
        covariance[orders[f]] = self.sigma2 * np.einsum("ab,bcj,dc->jad", back, errors, back)
        own = self.scales(f).T
        if (own != 1.0).any():
            effects, covariance = effects * own, covariance * own[:, :, None] * own[:, None]
        return effects, covariance
