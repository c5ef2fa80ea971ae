"""Power by formula: noncentral F, from the information that the design is expected to hold."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import stats

from bold_orchard.estimation.assumed import Assumed, assumed_of, model_at
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.coefficients.kenward_roger import KenwardRoger
from bold_orchard.inference.coefficients.methods import METHODS
from bold_orchard.inference.variances.information import at_bound, full_hessian
from bold_orchard.likelihood.expected_information import MOST_EFFECTS, widest

Array = NDArray[Any]
NOTHING = 1e-9  # noncentrality that changes no digit of a power
DRAWN = 12  # outcomes over which an information without closed form is averaged


def power_of(rows: Array, b: Array, covariance: Array, den: float | None, scale: float, alpha: float) -> float:
    """P(the test of rows @ b = 0 finds), lambda = (L b)' (L C L')^-1 L b; chi-squared where ``den`` is None."""
    away = rows @ b
    noncentral = float(away @ np.linalg.solve(rows @ covariance @ rows.T, away))
    q = len(rows)
    if noncentral < NOTHING:  # where the noncentral laws of the library are not to be had
        return alpha
    if den is None:
        return float(stats.ncx2.sf(stats.chi2.isf(alpha, q), q, noncentral))
    critical = float(stats.f.isf(alpha, q, den)) / scale
    return float(stats.ncf.sf(critical, q, den, noncentral))


class Expected:
    """C and the denominators of a model at its parameters, outcomes averaged out."""

    def __init__(self, model: Any, method: str, rng: np.random.Generator, drawn: int = DRAWN) -> None:
        self.model, self.method, self.rng, self.drawn = model, method, rng, drawn

    @cached_property
    def covariance(self) -> Array:
        """(X'V^-1 X)^-1, (p', p'); of generalized models the inverse of the mean information over outcomes drawn."""
        if isinstance(self.model, GaussianModel):
            return np.asarray(self.model.evaluation.b_covariance)
        from bold_orchard.optimize.newton import difference_hessian

        total: Array = np.zeros(())
        assumed = assumed_of(self.model)
        for _ in range(self.drawn):
            made = model_at(self.model.design, self.model.options, assumed, self.rng)
            total = total + difference_hessian(made.criterion.at, made.evaluation)
        c, e = self.model.criterion, self.model.evaluation
        free = ~(c.bounded & (e.theta <= 0))
        inner = np.zeros_like(total)
        inner[np.ix_(free, free)] = 2.0 * np.linalg.pinv(total[np.ix_(free, free)] / self.drawn, hermitian=True)
        back = np.linalg.inv(c.products.standard.to_work)
        return np.asarray(back @ inner[: c.p, : c.p] @ back.T)

    def test(self, rows: Array) -> tuple[float | None, float]:
        """Denominator df and the factor of F of a joint hypothesis, (q, p')."""
        if not isinstance(self.model, GaussianModel) or self.method == "normal":
            return None, 1.0
        if self.method == "satterthwaite":
            return self._several(rows), 1.0
        return METHODS[self.method](self.model).test(rows)

    @cached_property
    def _parts(self) -> tuple[Array, Array]:
        """The covariance of the parameters from the expected information, and dC / dpsi."""
        c = self.model.criterion
        if c.linear and not c.absolute and widest(c.products) <= MOST_EFFECTS:
            known = KenwardRoger(self.model)
            m, back = known.moments, known.back
            return known.variances, np.array([back @ m.phi @ p @ m.phi @ back.T for p in m.first])
        return self._averaged()

    def _averaged(self) -> tuple[Array, Array]:
        """The same with the observed information averaged over outcomes, where V is not linear in its parameters."""
        from bold_orchard.inference.coefficients.satterthwaite import Satterthwaite

        e, assumed = self.model.evaluation, assumed_of(self.model)
        total: Array = np.zeros(())
        for _ in range(self.drawn):
            y = self.model.simulate(self.rng)
            other = _with_outcome(self.model, y, assumed)
            total = total + full_hessian(other)
        free = np.append(~at_bound(e), True)[: len(total)]
        out = np.zeros_like(total)
        out[np.ix_(free, free)] = 2.0 * np.linalg.pinv(total[np.ix_(free, free)] / self.drawn, hermitian=True)
        return out, Satterthwaite(e).parts[1]

    def _one(self, row: Array) -> float:
        a, changes = self._parts
        f = float(row @ self.covariance @ row)
        g = np.einsum("a,iab,b->i", row, changes, row)
        spread = float(g @ a @ g)
        return min(2.0 * f**2 / spread, 1e12) if f > 0 and spread > 0 else float(self._residual)

    @property
    def _residual(self) -> int:
        products = self.model.criterion.products
        return int(products.n - products.p)

    def _several(self, rows: Array) -> float:
        """Fai & Cornelius (1996), as the tests themselves."""
        values, vectors = np.linalg.eigh(rows @ self.covariance @ rows.T)
        dfs = [self._one(v @ rows) for v, size in zip(vectors.T, values) if size > 1e-12 * values[-1]]
        if len(dfs) == 1:
            return dfs[0]
        expected = sum(d / (d - 2.0) for d in dfs if d > 2.0)
        return 2.0 * expected / (expected - len(dfs)) if expected > len(dfs) else float(self._residual)


def _with_outcome(model: GaussianModel, y: Array, assumed: Assumed) -> Any:
    """The point of the same parameters on another outcome."""
    from dataclasses import replace

    from bold_orchard.estimation.gaussian_search import make_criterion

    criterion = make_criterion(replace(model.design, y=y), model.criterion.reml)
    there = criterion.at(model.evaluation.theta)
    return there if not criterion.concentrated else there.with_sigma2(model.evaluation.sigma2)
