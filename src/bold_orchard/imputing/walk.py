"""Parameters of a likelihood that move by a random walk (Metropolis), and as they stand when its columns change."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.model import FittedModel

Array = NDArray[Any]
WANTED = 0.3  # share of proposals that are taken
RIDGE = 0.5  # information that a parameter has at the least, so that one at an edge moves by steps of order one


class Walk:
    """Proposals as wide as the curvature at the start says, their length tuned while ``settling``."""

    def __init__(self, hessian: Array) -> None:
        values, vectors = np.linalg.eigh(0.5 * (hessian + hessian.T) + RIDGE * np.eye(len(hessian)))
        self.root = vectors * np.sqrt(2.0 / np.maximum(values, RIDGE)) * 2.4 / np.sqrt(max(len(hessian), 1))
        self.length, self.tried = 0.0, 0

    def step(self, criterion: Any, point: Any, rng: np.random.Generator, settling: bool) -> Any:
        """The point after one proposal, taken or not, at which the deviance is -2 log of what is drawn from."""
        if not len(self.root):
            return point
        proposed = point.theta + np.exp(self.length) * (self.root @ rng.standard_normal(len(self.root)))
        try:
            there = criterion.at(proposed, point)
            gain = 0.5 * (point.deviance - there.deviance)
        except np.linalg.LinAlgError:
            there, gain = point, -np.inf
        taken = bool(np.log(rng.random()) < gain)
        if settling:
            self.tried += 1
            self.length += (float(taken) - WANTED) / np.sqrt(self.tried)
        return there if taken else point


def on_scale_of(model: FittedModel[Any, Any], other: Any, psi: Array, before: Array, after: Array) -> Array:
    """Parameters ``psi`` of a model as they stand on another likelihood's working columns: the same model on the user's scale.

    ``before`` and ``after`` (p',) are the means of the kept columns there and here, by which thresholds of grades move.
    """
    c, out = model.criterion, np.array(psi, dtype=float)
    factors = c.factors(psi)
    for f, (structure, at) in enumerate(zip(other.structures, other.slices)):
        turn = other.products.z_to_work[f] @ np.linalg.inv(c.products.z_to_work[f]) @ factors[f]
        out[at] = structure.of_covariance(turn @ turn.T)
    if not c.profiled:
        b = np.linalg.solve(c.products.standard.to_work, psi[: c.p])
        out[: c.p] = other.products.standard.to_work @ b
        out[c.extra] = c.family.recentred(psi[c.extra], float((before - after) @ b))
    return out


def column_means(model: FittedModel[Any, Any]) -> Array:
    """Means of the kept columns of the fixed part, (p',)."""
    return np.array([model.design.fixed.values[k].mean() for k in model.kept])
