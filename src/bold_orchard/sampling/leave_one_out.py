"""Leave-one-out from one set of draws by Pareto-smoothed importance sampling (Vehtari, Gelman & Gabry 2017)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[Any]
DOUBTFUL = 0.7  # shape of the tail from which a row's answer is not to be relied on


def leave_one_out(logs: Array) -> tuple[Array, Array, float]:
    """elpd of each row (n,), the shape k of its tail (n,), and the effective number of parameters, from log densities (draws, n)."""
    ratios = -logs
    ratios = ratios - ratios.max(axis=0)
    shapes = np.empty(logs.shape[1])
    weights = np.empty_like(ratios)
    for i in range(logs.shape[1]):
        weights[:, i], shapes[i] = smoothed(ratios[:, i])
    weights -= special.logsumexp(weights, axis=0)
    elpd = special.logsumexp(weights + logs, axis=0)
    whole = special.logsumexp(logs, axis=0) - np.log(len(logs))
    return np.asarray(elpd), shapes, float((whole - elpd).sum())


def smoothed(log_ratios: Array) -> tuple[Array, float]:
    """Log ratios (draws,) with the largest replaced by quantiles of a generalised Pareto law, and its shape."""
    n = len(log_ratios)
    tail = int(min(0.2 * n, 3.0 * np.sqrt(n)))
    if tail < 5 or np.ptp(log_ratios) == 0:
        return log_ratios, -np.inf
    order = np.argsort(log_ratios)
    cut = log_ratios[order[-tail - 1]]
    largest = np.exp(log_ratios[order[-tail:]]) - np.exp(cut)
    if largest[-1] <= 0:
        return log_ratios, -np.inf
    shape, scale = pareto(largest)
    out = log_ratios.copy()
    p = (np.arange(1, tail + 1) - 0.5) / tail
    made = -scale * np.log1p(-p) if abs(shape) < 1e-8 else scale * np.expm1(-shape * np.log1p(-p)) / shape
    out[order[-tail:]] = np.minimum(np.log(made + np.exp(cut)), 0.0)
    return out, shape


def pareto(x: Array) -> tuple[float, float]:
    """Shape and scale of a generalised Pareto law for sorted exceedances (n,) (Zhang & Stephens 2009), with their weak prior."""
    n = len(x)
    m = 30 + int(np.sqrt(n))
    quarter = x[int(n / 4 + 0.5) - 1]
    grid = (1.0 - np.sqrt(m / (np.arange(1, m + 1) - 0.5))) / (3.0 * max(quarter, 1e-300)) + 1.0 / x[-1]
    shapes = np.log1p(-grid[:, None] * x).mean(axis=1)
    logs = n * (np.log(-grid / shapes) - shapes - 1.0)
    weights = special.softmax(logs)
    theta = float(grid @ weights)
    shape = float(np.log1p(-theta * x).mean())
    scale = -shape / theta
    return (shape * n + 0.5 * 10) / (n + 10), scale
