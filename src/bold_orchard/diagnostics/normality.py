"""Shape of a sample: moments and the Shapiro-Wilk test."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[Any]
MOST = 5000  # values for which Royston's approximation is calibrated
SEED = 20260101  # any fixed number, so that the same fit is told the same


def normal_scores(n: int) -> Array:
    """Expected standard normal order statistics by Blom (1958), (n,)."""
    return np.asarray(special.ndtri((np.arange(1, n + 1) - 0.375) / (n + 0.25)))


def shapiro_wilk(values: Array) -> tuple[float, float] | None:
    """W and its p-value by Royston (1995), algorithm AS R94; None for fewer than 3 or constant values.

    Above 5000 values the approximation is not calibrated: pass a sample (see ``sample_for_test``).
    """
    x = np.sort(values)
    n = len(x)
    if n < 3 or x[0] == x[-1]:
        return None
    a = _weights(n)
    centred = x - x.mean()
    w = min(float((a @ centred) ** 2 / (centred @ centred)), 1.0)
    return w, _p_value(w, n)


def _weights(n: int) -> Array:
    if n == 3:
        return np.sqrt(0.5) * np.array([-1.0, 0.0, 1.0])
    m = normal_scores(n)
    mm = float(m @ m)
    u = 1.0 / np.sqrt(n)
    last = np.polyval([-2.706056, 4.434685, -2.071190, -0.147981, 0.221157, m[-1] / np.sqrt(mm)], u)
    a = np.empty(n)
    if n <= 5:
        a[1:-1] = m[1:-1] / np.sqrt((mm - 2 * m[-1] ** 2) / (1 - 2 * last**2))
    else:
        second = np.polyval([-3.582633, 5.682633, -1.752461, -0.293762, 0.042981, m[-2] / np.sqrt(mm)], u)
        phi = (mm - 2 * m[-1] ** 2 - 2 * m[-2] ** 2) / (1 - 2 * last**2 - 2 * second**2)
        a[2:-2] = m[2:-2] / np.sqrt(phi)
        a[-2], a[1] = second, -second
    a[-1], a[0] = last, -last
    return a


def _p_value(w: float, n: int) -> float:
    if w >= 1.0:
        return 1.0
    if n == 3:
        return float(np.clip(6 / np.pi * (np.arcsin(np.sqrt(w)) - np.arcsin(np.sqrt(0.75))), 0.0, 1.0))
    if n <= 11:
        gamma = 0.459 * n - 2.273
        inner = gamma - np.log1p(-w)
        if inner <= 0:
            return 0.0
        y = -np.log(inner)
        mu = np.polyval([-0.0006714, 0.025054, -0.39978, 0.5440], n)
        sigma = np.exp(np.polyval([-0.0020322, 0.062767, -0.77857, 1.3822], n))
    else:
        y, x = np.log1p(-w), np.log(n)
        mu = np.polyval([0.0038915, -0.083751, -0.31082, -1.5861], x)
        sigma = np.exp(np.polyval([0.0030302, -0.082676, -0.4803], x))
    return float(special.ndtr(-(y - mu) / sigma))


def sample_for_test(values: Array, seed: int = SEED) -> Array:
    """At most 5000 of the values, chosen by ``seed``."""
    if len(values) <= MOST:
        return values
    return np.random.default_rng(seed).choice(values, MOST, replace=False)


def shape(values: Array, seed: int = SEED) -> dict[str, Any]:
    """n, mean, sd (n - 1), skewness, kurtosis (0 for a normal sample) and the Shapiro-Wilk test."""
    n = len(values)
    mean = float(values.mean())
    centred = values - mean
    square = centred * centred
    m2 = float(square.mean())
    test = shapiro_wilk(sample_for_test(values, seed))
    return {
        "n": n,
        "mean": mean,
        "sd": float(values.std(ddof=1)) if n > 1 else None,
        "skewness": float(square @ centred / n / m2**1.5) if m2 > 0 else None,
        "kurtosis": float(square @ square / n / m2**2 - 3.0) if m2 > 0 else None,
        "shapiro": None if test is None else {"w": test[0], "p": test[1]},
    }
