"""Degrees of freedom from the observed information."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.column_space import ColumnSpace
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.coefficients.precision import Residual
from bold_orchard.inference.variances.information import at_bound, is_large, parameter_covariance
from bold_orchard.likelihood.gaussian import GaussianPoint
from bold_orchard.optimize.newton import nudge
from bold_orchard.optimize.protocol import OptimizeResult

Array = NDArray[Any]


@dataclass(frozen=True)
class Satterthwaite:
    """Degrees of freedom from the observed information (Satterthwaite 1946; several rows: Fai & Cornelius 1996).

    With f(psi) = l' C(psi) l over all covariance parameters psi, df = 2 f^2 / (g' A g), g = df/dpsi and A their covariance.
    """

    e: GaussianPoint
    found: OptimizeResult[GaussianPoint] | None = None

    @cached_property
    def covariance(self) -> Array:
        """C (p', p')."""
        return self.e.b_covariance

    @cached_property
    def parts(self) -> tuple[Array, Array]:
        """A, and the derivatives of C in each parameter (m + 1, p', p')."""
        e = self.e
        a = parameter_covariance(e, self._profiled)
        changes = [self._change(i) for i in range(len(e.theta))]
        if e.criterion.concentrated:
            changes.append(self.covariance)
        return a, np.array(changes).reshape(len(changes), *self.covariance.shape)

    @property
    def _profiled(self) -> Array | None:
        """The search's own Hessian, where it is known."""
        return self.found.hessian if self.found is not None and self.found.hessian.size else None

    def _moved(self, i: int) -> tuple[float, GaussianPoint, GaussianPoint]:
        """Parameter i moved a little: its step, the point it was moved from, and the point; made anew for a fit taken up again."""
        if self.found is not None and self.found.moves:
            return self.found.moves[i]
        theta, step = self.e.theta.copy(), nudge(self.e.theta[i])
        theta[i] += step
        return step, self.e, self.e.criterion.at(theta)

    def _change(self, i: int) -> Array:
        """dC / d psi_i at fixed sigma^2, by differences of the elimination alone."""
        e, c = self.e, self.e.criterion
        if at_bound(e)[i]:
            return np.zeros_like(self.covariance)
        if self._profiled is not None and is_large(e) and c.linear and c.concentrated:
            step, base, there = self._moved(i)
            return e.sigma2 * (there.b_covariance / there.sigma2 - base.b_covariance / base.sigma2) / step
        h = 1e-4 * max(abs(e.theta[i]), 1e-2)
        ends = []
        for side in (h, -h):
            moved = e.theta.copy()
            moved[i] += side
            there = c.at(moved)
            ends.append((there.with_sigma2(e.sigma2) if c.concentrated else there).b_covariance)
        return (ends[0] - ends[1]) / (2 * h)

    def one(self, row: Array) -> float | None:
        """df of the combination ``row`` @ b, (p',); None at the end of what the likelihood is defined for."""
        try:
            a, changes = self.parts
        except np.linalg.LinAlgError:
            return None
        f = float(row @ self.covariance @ row)
        g = np.einsum("a,iab,b->i", row, changes, row)
        spread = float(g @ a @ g)
        if not (f > 0 and spread > 0):
            return None
        return 2.0 * f**2 / spread

    def several(self, rows: Array, space: ColumnSpace) -> float | None:
        """Denominator df of the joint hypothesis ``rows`` @ b = 0, (q, p'), independent.

        Fai & Cornelius (1996) on the generalized eigenvectors of L C L' against L (X'X)^-1 L', which no coding of L or X
        changes. Where a direction's df leave its F no mean (2 or fewer), the smallest df are the answer: their limit.
        """
        basis = space.rows(space.directions(rows))  # L (X'X)^-1 L' = I
        _, vectors = np.linalg.eigh(basis @ self.covariance @ basis.T)
        dfs = [self.one(v @ basis) for v in vectors.T]
        known = [d for d in dfs if d is not None]
        if len(known) < len(dfs):
            return None
        if min(known) <= 2.0:
            return min(known)
        expected = sum(d / (d - 2.0) for d in known)
        return 2.0 * expected / (expected - len(known))


class ObservedInformation(Residual):
    """Satterthwaite (1946); several rows: Fai & Cornelius (1996). Residual df where nothing varies."""

    def __init__(self, model: GaussianModel) -> None:
        super().__init__(model)
        self.method = Satterthwaite(model.evaluation, model.found)

    def df(self, rows: Array) -> float | None:
        with np.errstate(all="ignore"):
            df = self.method.one(rows[0]) if len(rows) == 1 else self.method.several(rows, self.model.column_space)
        return self.nothing_estimated if df is None or not np.isfinite(df) else min(float(df), 1e12)
