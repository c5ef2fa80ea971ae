"""How sure pooled coefficients are: Rubin's rules for every combination of them, and for several at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.model import FittedModel
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.coefficients.rubin import joint_test, pooled
from bold_orchard.likelihood.gaussian import GaussianPoint
from bold_orchard.likelihood.laplace.point import LaplacePoint

Array = NDArray[Any]
NORMAL = 1e6  # degrees of freedom from which a statistic that is normal in complete data is normal


@dataclass(frozen=True)
class Pooling:
    """Coefficients ``b`` (m, p') of the completed tables, the pooled covariance of all ``parameters`` of a search (robust where that was asked, and by the
    model), and pooled ``effects`` of every block: (levels, k) with the covariances of their errors."""

    b: Array
    parameters: Array
    model_parameters: Array
    effects: list[tuple[Array, Array]]


class PooledCoefficients(CoefficientInference):
    """``parts`` are the inferences of the completed tables, by the method that is pooled."""

    def __init__(self, model: FittedModel[Any, Any], parts: Sequence[CoefficientInference], pooling: Pooling) -> None:
        super().__init__(model)
        self.parts, self.pooling = list(parts), pooling

    @cached_property
    def covariances(self) -> Array:
        """Of the coefficients of each completed table, (m, p', p')."""
        return np.array([p.covariance for p in self.parts])

    @cached_property
    def _pooled(self) -> Array:
        return pooled(self.pooling.b, self.covariances, np.full(self.pooling.b.shape[1], np.inf)).covariance

    @property
    def covariance(self) -> Array:
        return self._pooled

    @cached_property
    def complete_df(self) -> Array:
        """Degrees of freedom of each coefficient in complete data, (p',)."""
        return np.array([self._complete(row[None]) or np.inf for row in np.eye(self.pooling.b.shape[1])])

    @property
    def parameter_covariance(self) -> Array:
        return self.pooling.parameters

    @property
    def model_parameter_covariance(self) -> Array:
        return self.pooling.model_parameters

    def _complete(self, rows: Array) -> float | None:
        """The mean of the completed tables' degrees of freedom; None where they are normal."""
        dfs = [p.df(rows) for p in self.parts]
        known = [d for d in dfs if d is not None]
        return float(np.mean(known)) if known else None

    def df(self, rows: Array) -> float | None:
        if len(rows) > 1:
            return self.test(rows)[0]
        b, row = self.pooling.b @ rows[0], rows[0]
        errors = np.einsum("a,mab,b->m", row, self.covariances, row)
        complete = self._complete(rows)
        made = pooled(b[:, None], errors[:, None, None], np.array([np.inf if complete is None else complete]))
        df = float(made.df[0])
        return None if complete is None and df > NORMAL else df

    def test(self, rows: Array) -> tuple[float | None, float]:
        """Denominator df, and the factor that makes the F of the pooled covariance that of Li, Raghunathan & Rubin (1991)."""
        if len(rows) == 1:
            return self.df(rows), 1.0
        b = self.pooling.b @ rows.T
        errors = np.einsum("qa,mab,rb->mqr", rows, self.covariances, rows)
        complete = self._complete(rows)
        value, df = joint_test(b, errors, complete)
        middle = b.mean(axis=0)
        plain = float(middle @ np.linalg.solve(rows @ self.covariance @ rows.T, middle)) / len(rows)
        factor = value / plain if plain > 0 else 1.0
        return (None if complete is None and df > NORMAL else df), factor


class PooledLikelihood(PooledCoefficients, MaximumLikelihood):
    """The same of models whose parameters are all sought together, thresholds and dispersions among them."""

    def __init__(self, model: FittedModel[Any, Any], parts: Sequence[CoefficientInference], pooling: Pooling) -> None:
        PooledCoefficients.__init__(self, model, parts, pooling)
        self.found = model.found

    @property
    def covariance(self) -> Array:
        return self._pooled


class PooledPoint:
    """What a point says of coefficients and effects, where they are pooled."""

    pooling: Pooling

    @property
    def b(self) -> Array:
        return np.asarray(self.pooling.b.mean(axis=0))

    def effects(self, f: int) -> tuple[Array, Array]:
        return self.pooling.effects[f]


class PooledGaussian(PooledPoint, GaussianPoint):
    """A point of a gaussian likelihood."""


class PooledLaplace(PooledPoint, LaplacePoint):
    """The same of a generalized model, whose coefficients are among the parameters."""


def pooled_point(criterion: Any, psi: Array, pooling: Pooling) -> GaussianPoint | LaplacePoint:
    """The point of a likelihood at pooled parameters ``psi``."""
    made: PooledGaussian | PooledLaplace
    if criterion.profiled:
        at = criterion.at_psi(psi)
        made = PooledGaussian(criterion, at.theta, at.eliminated, at.log_det_r, None, float(at.sigma2))
    else:
        at = criterion.at(psi)
        made = PooledLaplace(criterion, at.theta, at.mode)
    made.pooling = pooling
    return made
