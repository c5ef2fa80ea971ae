"""What an independent, dense likelihood says of the place where a fit ended: V built whole, or Laplace in all effects at once.

The judges are those of the tests (tests/dense.py, tests/laplace_cases.py); nothing of the fast likelihood enters but the map from the
search's parameters to covariances.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.inference.equations import residual_covariance
from bold_orchard.inference.fit import Fit

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
import dense
from laplace_cases import dense_laplace

Array = NDArray[np.float64]
STEPS = (1e-4, 1e-6)  # of a parameter, or of one: a slope is there by both, while each alone has its own error


def still_to_gain(made: Fit) -> float | None:
    """The decrease of the dense deviance that its own slope promises, by the fit's Hessian; None where there is no judge."""
    promised = [_promised(made, step) for step in STEPS]
    return None if promised[0] is None else min(p for p in promised if p is not None)


def _promised(made: Fit, step: float) -> float | None:
    model, theta = made.model, made.evaluation.theta
    if isinstance(model, GaussianModel):
        deviance = _gaussian(model)
    elif isinstance(model, GeneralizedModel):
        deviance = partial(dense_laplace, model.criterion)
    else:
        return None
    slope = np.array([_difference(deviance, theta, i, step) for i in range(len(theta))])
    c, hessian = made.criterion, model.found.hessian
    free = ~(c.bounded & (np.abs(theta) < 1e-8))
    lost = getattr(c, "lost", None)
    if lost is not None:
        free &= ~lost(theta)
    values, vectors = np.linalg.eigh(hessian[np.ix_(free, free)])
    if values.min(initial=0.0) < -1e-6 * max(values.max(initial=0.0), 1.0):
        return float("inf")  # a saddle
    along = vectors.T @ slope[free]
    clear = values > 1e-9 * max(values.max(initial=0.0), 1e-300)  # flat directions have nothing to gain
    return float(0.5 * np.sum(along[clear] ** 2 / values[clear]))


def _difference(deviance: Callable[[Array], float], theta: Array, i: int, step: float) -> float:
    h = step * max(abs(theta[i]), 1.0)
    ends = []
    for side in (h, -h):
        moved = theta.copy()
        moved[i] += side
        ends.append(deviance(moved))
    return (ends[0] - ends[1]) / (2 * h)


def _gaussian(model: GaussianModel) -> Callable[[Array], float]:
    design, c = model.design, model.criterion
    x = np.column_stack([design.fixed.values[k] for k in model.kept]) if model.kept else np.zeros((len(design.y), 0))
    x = np.linalg.qr(x)[0]

    def deviance(theta: Array) -> float:
        there: Any = replace(model, found=replace(model.found, point=c.at(theta)))
        e = there.evaluation
        units = [(design.blocks[k.block].unit.codes, np.column_stack(k.part.values)) for k in design.clauses]
        gs = [e.covariance(k.block)[k.columns, k.columns] for k in design.clauses]
        return float(
            dense.deviance(design.y, x, dense.covariance(len(design.y), units, gs, residual_covariance(there)), c.reml)
        )

    return deviance
