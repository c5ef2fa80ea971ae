"""How sure the covariance parameters are: the observed information, whole."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.gaussian import Evaluation

Array = NDArray[Any]


def parameter_covariance(e: Evaluation) -> Array:
    """Covariance of (theta, phi, log sigma^2), (m + 1, m + 1), from the observed information.

    The Hessian of the deviance in all parameters together, sigma^2 not profiled out, by central differences of the
    exact gradient. Parameters at their bound are held there and have covariance zero.
    """
    c = e.criterion
    here = e.theta if c.absolute else np.append(e.theta, np.log(e.sigma2))
    size = len(here)
    hessian = np.empty((size, size))
    for i in range(size):
        h = 1e-4 * max(abs(here[i]), 1e-2)
        up, down = here.copy(), here.copy()
        up[i] += h
        down[i] -= h
        hessian[i] = (_gradient(e, up) - _gradient(e, down)) / (2 * h)
    hessian = (hessian + hessian.T) / 2
    free = np.append(~(c.bounded & (e.theta <= 0)), True)[:size]
    out = np.zeros((size, size))
    out[np.ix_(free, free)] = 2.0 * np.linalg.pinv(hessian[np.ix_(free, free)], rcond=1e-12, hermitian=True)
    return out


def _gradient(e: Evaluation, point: Array) -> Array:
    """Gradient of the deviance in (theta, phi, log sigma^2)."""
    c = e.criterion
    if c.absolute:
        return c.at(point).gradient
    there = c.at(point[:-1])
    there.sigma2 = float(np.exp(point[-1]))
    return np.append(there.gradient, c.dof - there.rss / there.sigma2)
