"""Cluster-robust errors of generalized fits: the sandwich of the clusters' scores at the estimates, times m / (m - 1) for m clusters."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.subset import some_rows
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.generalized_search import make_laplace, with_points
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood
from bold_orchard.inference.coefficients.robust import KIND, cluster_unit
from bold_orchard.results.fit import ErrorsUsed
from bold_orchard.sentence.tree import Term

Array = NDArray[Any]
STEP = 1e-4  # of a parameter of the search, in central differences of a cluster's log-likelihood


class RobustScores(MaximumLikelihood):
    """The observed information between the crossed products of the clusters' scores; z throughout."""

    def __init__(self, model: GeneralizedModel, unit: str | None) -> None:
        super().__init__(model)
        self.clusters = cluster_unit(model.design, unit)

    @property
    def called(self) -> str:
        return f"robust over {self.clusters.name}"

    @property
    def errors_used(self) -> ErrorsUsed:
        return ErrorsUsed(KIND, self.clusters.name, self.clusters.size)

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
        rows = np.argsort(self.clusters.codes, kind="stable")
        out = np.zeros((self.clusters.size, len(theta)))
        for i, own in enumerate(np.split(rows, np.cumsum(self.clusters.counts)[:-1])):
            value = self._log_likelihood(own)
            for k in range(len(theta)):
                h = STEP * np.eye(len(theta))[k] * max(1.0, abs(theta[k]))
                out[i, k] = (value(theta + h) - value(theta - h)) / (2.0 * h[k])
        return out

    def _log_likelihood(self, rows: NDArray[np.intp]) -> Callable[[Array], float]:
        """Of some rows by themselves, as a function of the parameters of the whole fit; their fixed part is an offset."""
        whole, design = self.model.criterion, some_rows(self.model.design, rows)
        place = np.empty(len(self.model.design.y), dtype=np.intp)
        place[whole.rows.order] = np.arange(len(place))
        mine = place[rows]
        flat = replace(
            design.fixed,
            terms=(Term(()),),
            names=("intercept",),
            labels=("intercept",),
            values=(np.ones(len(rows)),),
            owner=(0,),
        )
        laplace = make_laplace(replace(design, fixed=flat, offset=np.zeros(len(rows))))
        laplace = replace(laplace, family=self.model.family.on(laplace.family.data))
        back = [np.linalg.inv(whole.products.z_to_work[f]) for f in range(len(whole.structures))]

        def value(theta: Array) -> float:
            eta = whole.linear(theta)[mine]
            criterion = with_points(replace(laplace, offset=eta[laplace.rows.order]), self.model.points)
            effects = []
            for f, (structure, factor) in enumerate(zip(criterion.structures, whole.factors(theta))):
                t = criterion.products.z_to_work[f] @ back[f] @ factor
                effects.append(structure.of_covariance(t @ t.T))
            return float(
                -0.5 * criterion.at(np.concatenate([np.zeros(criterion.p), *effects, theta[whole.extra]])).deviance
            )

        return value
