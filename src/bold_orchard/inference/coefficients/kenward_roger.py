"""Kenward and Roger's adjustment (1997): small-sample covariance of the coefficients, df and a scale of F."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.inference.coefficients.precision import Residual
from bold_orchard.likelihood.expected_information import MOST_EFFECTS, Moments, linear_moments, widest
from bold_orchard.likelihood.gaussian import Criterion

Array = NDArray[Any]
EXACT = 1e-7  # of A1 = q A2 (in one row, in balanced designs): rounding leaves some ten digits


class KenwardRoger(Residual):
    """Kenward & Roger (1997): b's covariance adjusted, df and a scale of F from the expected information.

    The parameters are the elements of each covariance of effects and the residual variance, in which V is linear, so
    second derivatives vanish. Components on their boundary stay parameters: the df are those of the design.
    """

    @cached_property
    def moments(self) -> Moments:
        return linear_moments(self.e)

    @cached_property
    def variances(self) -> Array:
        """W, the covariance of the parameters, (m, m)."""
        information = self.moments.information
        d = np.sqrt(np.maximum(np.diag(information), 1e-300))
        return np.asarray(np.linalg.pinv(information / np.outer(d, d), rcond=1e-12, hermitian=True) / np.outer(d, d))

    @cached_property
    def _adjusted(self) -> Array:
        """Phi + 2 Phi {sum W_ij (Q_ij - P_i Phi P_j)} Phi on the working scale."""
        m, w = self.moments, self.variances
        inner = np.einsum("ij,ijpq->pq", w, m.second)
        inner -= np.einsum("ij,ipq,qr,jrs->ps", w, m.first, m.phi, m.first, optimize=True)
        inner = (inner + inner.T) / 2
        return np.asarray(m.phi + 2.0 * m.phi @ inner @ m.phi)

    @cached_property
    def back(self) -> Array:
        return np.linalg.inv(self.e.criterion.products.standard.to_work)

    @property
    def covariance(self) -> Array:
        return np.asarray(self.back @ self._adjusted @ self.back.T)

    def df(self, rows: Array) -> float | None:
        return self.test(rows)[0]

    def test(self, rows: Array) -> tuple[float | None, float]:
        """(m, lambda) with lambda F referred to F(q, m); their equations for A1, A2, B, E*, V*."""
        m, w, q = self.moments, self.variances, len(rows)
        work = rows @ self.back
        theta = work.T @ np.linalg.solve(work @ m.phi @ work.T, work)
        each = np.array([theta @ m.phi @ p @ m.phi for p in m.first])
        a1 = float(np.einsum("ij,ipp,jqq->", w, each, each, optimize=True))
        a2 = float(np.einsum("ij,ipq,jqp->", w, each, each, optimize=True))
        if not a2 > 0:
            return self.nothing_estimated, 1.0
        if abs(a1 - q * a2) <= EXACT * q * a2:  # one row, balanced designs: F(q, 2 q / A2) itself, however few its df
            return min(2.0 * q / a2, 1e12), 1.0
        b = (a1 + 6.0 * a2) / (2.0 * q)
        g = ((q + 1) * a1 - (q + 4) * a2) / ((q + 2) * a2)
        under = 3.0 * q + 2.0 * (1.0 - g)
        c1, c2, c3 = g / under, (q - g) / under, (q + 2 - g) / under
        if 1.0 - a2 / q <= EXACT:  # so few units that F has no mean
            return 2.0 * q / a2, 1.0
        mean = 1.0 / (1.0 - a2 / q)
        with np.errstate(all="ignore"):
            variance = 2.0 / q * (1.0 + c1 * b) / (np.float64(1.0 - c2 * b) ** 2 * (1.0 - c3 * b))
            ratio = variance / (2.0 * mean**2)
            df = float(4.0 + (q + 2.0) / (q * ratio - 1.0))
        if not (np.isfinite(df) and df > 2.0):  # nor a second moment
            return 2.0 * q / a2, 1.0
        return df, df / (mean * (df - 2.0))


def check_reach(criterion: Criterion) -> None:
    """Raise UsageError when the method is asked of a fit that it cannot serve."""
    if not criterion.reml:
        raise UsageError("--df kenward-roger rests on REML; fit with --method reml, or use --df satterthwaite")
    if not criterion.linear:
        return
    width = widest(criterion.products)
    if width > MOST_EFFECTS:
        raise UsageError(
            f"--df kenward-roger holds all effects that hang together at once, at most {MOST_EFFECTS:,}; here there are "
            f"{width:,}; use --df satterthwaite, from which it will hardly differ"
        )
