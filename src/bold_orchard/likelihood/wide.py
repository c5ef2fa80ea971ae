"""The Gaussian criterion of crossings too large for a dense factor: exact coefficients and effects, slopes and determinant by signs.

Every point uses the same signs, so that slopes change smoothly from point to point. The search follows slopes alone; the log-determinant
is made where a deviance is asked for.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Backward
from bold_orchard.crossproducts.wide.elimination import WideEliminated
from bold_orchard.crossproducts.wide.probes import Slopes, log_det, slopes
from bold_orchard.crossproducts.wide.products import WideProducts
from bold_orchard.crossproducts.wide.rows import IN_LEVELS
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint
from bold_orchard.likelihood.moments import moment

Array = NDArray[Any]
IN_SLOPES, IN_DEVIANCE = 8, 32  # vectors of signs
FORMS = 1e-8  # of a right-hand side: what is left of equations whose solutions only shape the search's steps


class WideCriterion(Criterion):
    """As ``Criterion``, over ``WideProducts``: independent residuals of one spread, effects of one SD."""

    products: WideProducts

    def at(self, parameters: Array, near: GaussianPoint | None = None) -> WidePoint:
        parameters = np.asarray(parameters, dtype=float)
        with np.errstate(all="ignore"):
            eliminated: Any = WideEliminated(self.products, self.factors(parameters))
            return WidePoint(self, parameters, eliminated, 0.0)

    def start(self) -> Array:
        """theta by method of moments, unit by unit and column by column."""
        stage, rss = self.products.stage, self.products.dense[-1, -1]
        sums = {stage.unit: (np.einsum("aaj->aj", stage.c), stage.right[:, -1])}
        for t in self.products.wide:
            sums[t.unit] = np.einsum("jaa->aj", t.own), t.right[:, -1].reshape(t.levels, t.size).T
        made = {f: moment(c, v, rss, self.products.n) for f, (c, v) in sums.items()}
        return np.concatenate([s.start(made[f]) for f, s in enumerate(self.structures)])


class WidePoint(GaussianPoint):
    """One point; ``eliminated`` is a ``WideEliminated``."""

    @cached_property
    def work(self) -> WideEliminated:
        made: Any = self.eliminated
        return made

    @cached_property
    def _determinant(self) -> tuple[float, float]:
        return log_det(self.work, IN_DEVIANCE)

    @cached_property
    def deviance(self) -> float:
        c = self.criterion
        if not self.rss > 0:
            return np.inf
        value = c.dof * np.log(2 * np.pi * self.sigma2) + self.rss / self.sigma2 + self._determinant[0]
        return float(value - c.products.log_weights + (self.log_det_x if c.reml else 0.0))

    @property
    def deviance_error(self) -> float:
        """Monte-Carlo standard error of the deviance."""
        return self._determinant[1]

    @cached_property
    def signs(self) -> Slopes:
        """What random signs tell of traces."""
        return slopes(self.work, IN_SLOPES)

    @cached_property
    def reverse(self) -> Backward:
        w_bar = self._w_bar
        slope = {
            f: self.signs.slope[f] - np.einsum("ajw,wv,bjv->ab", own, w_bar, own, optimize=True)
            for f, own in self.work.projected.items()
        }
        return Backward(slope, {}, {}, w_bar)

    @cached_property
    def gradient_error(self) -> Array:
        """Covariance of the Monte-Carlo errors of the gradient, (m, m)."""
        c = self.criterion
        each = np.zeros((IN_SLOPES, len(self.theta)))
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            slopes = 2.0 * self.signs.each[f] @ self.factors[f]
            each[:, at] = np.einsum("aij,mij->ma", structure.basis, slopes)
        return np.asarray(np.atleast_2d(np.cov(each, rowvar=False)) / IN_SLOPES)

    @cached_property
    def scores(self) -> tuple[dict[int, Array], dict[int, Array]]:
        v = {f: own @ self._contrast for f, own in self.work.projected.items()}
        return v, {f: self.factors[f] @ (self.factors[f].T @ own) for f, own in v.items()}

    def _forms(self, directions: list[tuple[int, Array]]) -> Array:
        """q_a' P q_b for q_a = Z_f w_a, sigma^2 = 1."""
        e, stage, p = self.work, self.work.products.stage, len(self.xx)
        made = [e.with_effects(f, w[:, :, None]) for f, w in directions]
        first, tail, with_w = (np.concatenate([m[i] for m in made], axis=-1) for i in range(3))
        u_first, u_tail = e.all_of(first, tail, FORMS)
        both = -np.einsum("ajm,ajn->mn", first, u_first) - tail.T @ u_tail
        for i, (f, w) in enumerate(directions):
            both[i] += np.einsum("aj,ajn->n", w, e.of_unit(f, first, tail))
        if not p:
            return both
        x = with_w - np.einsum("arj,ajn->rn", stage.right, u_first) - e.products.right.T @ u_tail
        return np.asarray(both - x[:p].T @ self.xx_inverse @ x[:p])

    def effects(self, f: int) -> tuple[Array, Array]:
        p = len(self.xx)
        errors = slopes(self.work, IN_LEVELS).inverses(f)
        if p:
            gamma = self.factors[f] @ self.factors[f].T
            lost = np.einsum("ab,bjw->ajw", gamma, self.work.projected[f][:, :, :p])
            errors = errors + np.einsum("ajw,wv,bjv->jab", lost, self.xx_inverse, lost, optimize=True)
        back = np.linalg.inv(self.criterion.products.z_to_work[f])
        effects = (back @ self.scores[1][f]).T
        return effects, self.sigma2 * np.einsum("ab,jbc,dc->jad", back, errors, back)
