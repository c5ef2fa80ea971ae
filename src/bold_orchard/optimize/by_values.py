"""The last steps of a search where the gradient has no digits left but the function itself has: derivatives by differences of values."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
STEP = 5e-3  # of a parameter's size, at least of 1: values known to 1e-8 then give second derivatives to four digits
NEWTON, HALVINGS = 40, 8


def derivatives(f: Callable[[Array], float], theta: Array) -> tuple[Array, Array]:
    """Gradient (m,) and Hessian (m, m) by central differences of values."""
    m, here = len(theta), f(theta)
    steps = STEP * np.maximum(np.abs(theta), 1.0) * np.eye(m)
    ends = np.array([[f(theta + side * s) for side in (1, -1)] for s in steps]).reshape(m, 2)
    size = np.diag(steps)
    hessian = np.diag((ends[:, 0] - 2.0 * here + ends[:, 1]) / size**2)
    for i in range(m):
        for j in range(i):
            both = f(theta + steps[i] + steps[j]) + f(theta - steps[i] - steps[j])
            hessian[i, j] = hessian[j, i] = (
                0.5 * (both - ends[i].sum() - ends[j].sum() + 2.0 * here) / (size[i] * size[j])
            )
    return (ends[:, 0] - ends[:, 1]) / (2.0 * size), hessian


def descend_by_values(
    f: Callable[[Array], float], start: Array, free: Callable[[Array], NDArray[np.bool_]]
) -> tuple[Array, Array, float]:
    """Newton's method on the ``free`` parameters; returns where it ended, the Hessian there and the decrease still promised."""
    theta, value = start.copy(), f(start)
    gradient, hessian = derivatives(f, theta)
    promised = np.inf
    for _ in range(NEWTON):
        left = free(theta)
        if not left.any():
            return theta, hessian, 0.0
        if not (np.isfinite(hessian).all() and np.isfinite(gradient).all()):
            return theta, np.zeros_like(hessian), np.inf
        values, vectors = np.linalg.eigh(hessian[np.ix_(left, left)])
        along = -(vectors.T @ gradient[left]) / np.maximum(np.abs(values), 1e-6 * np.abs(values).max())
        promised = float(0.5 * np.abs(along @ (vectors.T @ gradient[left])))
        if promised < 1e-8:
            break
        step = np.zeros(len(theta))
        step[left] = vectors @ along
        for _ in range(HALVINGS):
            there = f(theta + step)
            if there < value:
                break
            step /= 4.0
        else:
            break
        theta, value = theta + step, there
        gradient, hessian = derivatives(f, theta)
    return theta, hessian, promised
