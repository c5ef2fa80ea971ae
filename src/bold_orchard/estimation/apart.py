"""The marginal log-likelihood of some rows of a generalized fit by themselves, all effects integrated out.

Their fixed part is an offset, since the rows of one unit need not span it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.estimation.generalized_search import make_laplace, with_points
from bold_orchard.estimation.model import FittedModel
from bold_orchard.sentence.tree import Term

Array = NDArray[Any]


class RowsApart:
    """Some rows ``design`` (n,), coded as in the fit ``model``."""

    def __init__(self, model: FittedModel[Any, Any], design: Design) -> None:
        ones, name = np.ones(len(design.y)), ("intercept",)
        flat = replace(design.fixed, terms=(Term(()),), names=name, labels=name, values=(ones,), owner=(0,))
        laplace = make_laplace(replace(design, fixed=flat, offset=np.zeros(len(ones))))
        # the family of the whole: grades that these rows lack count too
        self.laplace, self.points = replace(laplace, family=model.family.on(laplace.family.data)), model.points

    def log_likelihood(self, eta: Array, covariances: Sequence[Array], extra: Array) -> float:
        """Given the linear predictor of the fixed part ``eta`` (n,), and the covariance of the effects of each clause (q, q)."""
        criterion = with_points(replace(self.laplace, offset=eta[self.laplace.rows.order]), self.points)
        effects = []
        for f, (structure, g) in enumerate(zip(criterion.structures, covariances)):
            to_work = criterion.products.z_to_work[f]
            effects.append(structure.of_covariance(to_work @ g @ to_work.T))
        return float(-0.5 * criterion.at(np.concatenate([np.zeros(criterion.p), *effects, extra])).deviance)
