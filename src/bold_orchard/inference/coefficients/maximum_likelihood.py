"""Coefficients of models whose parameters are all sought together: the observed information over all parameters together."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.model import FittedModel
from bold_orchard.families.ordinal import Ordinal
from bold_orchard.inference.coefficients.precision import CoefficientInference

Array = NDArray[Any]


class MaximumLikelihood(CoefficientInference):
    """Covariance of everything from the inverse of the observed information over all parameters; z throughout."""

    def __init__(self, model: FittedModel[Any, Any]) -> None:
        super().__init__(model)
        self.found = model.found

    @cached_property
    def parameter_covariance(self) -> Array:
        """Covariance of the search's parameters (working b, theta, extras), zero where held at an edge."""
        c, hessian = self.found.point.criterion, self.found.hessian
        free = ~(c.bounded & (self.found.point.theta <= 0)) & ~c.lost(self.found.point.theta)
        out = np.zeros_like(hessian)
        inner = hessian[np.ix_(free, free)]
        d = np.sqrt(np.maximum(np.abs(np.diag(inner)), 1e-300))
        out[np.ix_(free, free)] = (
            2.0 * np.linalg.pinv(inner / np.outer(d, d), rcond=1e-12, hermitian=True) / np.outer(d, d)
        )
        return out

    @cached_property
    def to_user(self) -> Array:
        """Working coefficients -> the user's, (p, p)."""
        return np.linalg.inv(self.found.point.criterion.products.standard.to_work)

    @property
    def covariance(self) -> Array:
        p = self.found.point.criterion.p
        return np.asarray(self.to_user @ self.parameter_covariance[:p, :p] @ self.to_user.T)


def thresholds(known: MaximumLikelihood) -> tuple[Array, Array]:
    """Thresholds on the user's scale and the joint covariance of (thresholds, b); columns were centred for the search."""
    model = known.model
    point, c, family, design = model.evaluation, model.criterion, model.criterion.family, model.design
    assert isinstance(family, Ordinal)
    kept = model.kept
    means = np.array([design.fixed.values[k].mean() for k in kept])
    values = family.thresholds(point.extra) + float(means @ point.b)
    m = len(values)
    turn = np.zeros((m + c.p, len(point.theta)))
    turn[:m, c.extra] = family.thresholds_slope(point.extra)
    turn[:m, : c.p] = means @ known.to_user
    turn[m:, : c.p] = known.to_user
    return values, turn @ known.parameter_covariance @ turn.T
