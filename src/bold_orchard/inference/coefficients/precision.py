"""How sure the fixed effects are: their covariance, and the degrees of freedom of any hypothesis about them."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.model import FittedModel
from bold_orchard.inference.variances.information import parameter_covariance
from bold_orchard.results.fit import ErrorsUsed

Array = NDArray[Any]


class CoefficientInference:
    """The covariance of b (p', p'), and for rows (q, p') of a hypothesis its denominator df (None: the normal).

    ``test`` adds the factor by which the F statistic is multiplied before it is looked up.
    """

    def __init__(self, model: FittedModel[Any, Any]) -> None:
        self.model, self.e = model, model.evaluation

    @property
    def b(self) -> Array:
        """The coefficients that its rows combine, (p',)."""
        return np.asarray(self.e.b)

    @property
    def covariance(self) -> Array:
        return np.asarray(self.e.b_covariance)

    @property
    def called(self) -> str:
        """What a document calls its degrees of freedom, where they are not those of a method by name."""
        return ""

    @property
    def errors_used(self) -> ErrorsUsed | None:
        """What a document says of errors that are not the model's own."""
        return None

    @cached_property
    def parameter_covariance(self) -> Array:
        """Covariance of psi, all estimated parameters of the likelihood (m', m'), zero where held at an edge."""
        return parameter_covariance(self.e)

    @property
    def model_parameter_covariance(self) -> Array:
        """The same by the model itself, where ``parameter_covariance`` is robust."""
        return self.parameter_covariance

    def test(self, rows: Array) -> tuple[float | None, float]:
        return self.df(rows), 1.0

    def df(self, rows: Array) -> float | None:
        return None

    def se(self, row: Array) -> float:
        """Standard error of row @ b."""
        return float(np.sqrt(max(float(row @ self.covariance @ row), 0.0)))


class Residual(CoefficientInference):
    """Rows less the rank of X."""

    def df(self, rows: Array) -> float | None:
        return self.residual_df

    @property
    def nothing_estimated(self) -> float | None:
        """Where no variance is estimated with an error: those of the residual variance, none (the normal) where errors are known."""
        return None if self.e.criterion.known else self.residual_df

    @property
    def residual_df(self) -> float:
        return float(self.e.criterion.products.n - self.e.criterion.products.p)
