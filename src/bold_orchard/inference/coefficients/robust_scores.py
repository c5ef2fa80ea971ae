"""Cluster-robust errors of generalized fits: the sandwich of the clusters' scores at the estimates, times m / (m - 1) for m clusters."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.subset import some_rows
from bold_orchard.estimation.apart import RowsApart
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood
from bold_orchard.inference.coefficients.robust import OverClusters, cluster_unit

Array = NDArray[Any]
STEP = 1e-4  # of a parameter of the search, in central differences of a cluster's log-likelihood


class RobustScores(OverClusters, MaximumLikelihood):
    """The observed information between the crossed products of the clusters' scores; z throughout."""

    def __init__(self, model: GeneralizedModel, unit: str | None) -> None:
        super().__init__(model)
        self.clusters = cluster_unit(model.design, unit)

    @cached_property
    def model_parameter_covariance(self) -> Array:
        return super().parameter_covariance

    @cached_property
    def parameter_covariance(self) -> Array:
        bread, m = self.model_parameter_covariance, self.clusters.size
        scores = self.scores
        return np.asarray(bread @ (scores.T @ scores) @ bread * (m / (m - 1.0)))

    @cached_property
    def scores(self) -> Array:
        """Slopes of each cluster's log-likelihood in the parameters of the search, (clusters, parameters)."""
        theta = np.asarray(self.e.theta)
        out = np.zeros((self.clusters.size, len(theta)))
        for i, own in enumerate(self.rows_of_clusters):
            value = self._log_likelihood(own)
            for k in range(len(theta)):
                h = STEP * np.eye(len(theta))[k] * max(1.0, abs(theta[k]))
                out[i, k] = (value(theta + h) - value(theta - h)) / (2.0 * h[k])
        return out

    def _log_likelihood(self, rows: NDArray[np.intp]) -> Callable[[Array], float]:
        """Of some rows by themselves, as a function of the parameters of the whole fit; their fixed part is an offset."""
        whole = self.model.criterion
        place = np.empty(len(self.model.design.y), dtype=np.intp)
        place[whole.rows.order] = np.arange(len(place))
        mine = place[rows]
        apart = RowsApart(self.model, some_rows(self.model.design, rows))
        back = [np.linalg.inv(whole.products.z_to_work[f]) for f in range(len(whole.structures))]

        def value(theta: Array) -> float:
            factors = [b @ factor for b, factor in zip(back, whole.factors(theta))]
            return apart.log_likelihood(whole.linear(theta)[mine], [f @ f.T for f in factors], theta[whole.extra])

        return value
