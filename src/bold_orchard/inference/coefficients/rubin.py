"""Estimates of completed data put together (Rubin 1987), with the degrees of freedom of Barnard & Rubin (1999), and tests of several at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Pooled:
    """``estimate`` (p,), ``covariance`` (p, p), ``df`` (p,) and the fraction of information ``missing`` (p,)."""

    estimate: Array
    covariance: Array
    df: Array
    missing: Array


def pooled(estimates: Array, covariances: Array, complete_df: Array) -> Pooled:
    """Estimates (m, p) with covariances (m, p, p); ``complete_df`` (p,) are those of complete data, inf for the normal.

    T = W + (1 + 1/m) B; with lambda = (1 + 1/m) B / T the df are 1 / (1 / old + 1 / seen), old = (m - 1) / lambda^2,
    seen = (v + 1) / (v + 3) v (1 - lambda).
    """
    m = len(estimates)
    middle = estimates.mean(axis=0)
    within = covariances.mean(axis=0)
    apart = estimates - middle
    between = apart.T @ apart / (m - 1)
    total = within + (1.0 + 1.0 / m) * between
    share = np.clip((1.0 + 1.0 / m) * np.diag(between) / np.maximum(np.diag(total), 1e-300), 0.0, 1.0)
    with np.errstate(all="ignore"):
        old = (m - 1) / np.maximum(share, 1e-12) ** 2
        v = complete_df
        seen = np.where(np.isfinite(v), (v + 1.0) / (v + 3.0) * v * (1.0 - share), np.inf)
        df = 1.0 / (1.0 / old + np.where(np.isfinite(seen), 1.0 / np.maximum(seen, 1e-12), 0.0))
        ratio = share / np.maximum(1.0 - share, 1e-12)
        missing = (ratio + 2.0 / (df + 3.0)) / (ratio + 1.0)
    return Pooled(middle, total, df, missing)


def joint_test(estimates: Array, covariances: Array, complete_df: float | None) -> tuple[float, float]:
    """F of all ``estimates`` (m, k) being zero, and its denominator df (Li, Raghunathan & Rubin 1991; Reiter 2007 with ``complete_df``).

    The variance between completed data is taken as a multiple r of that inside them.
    """
    m, k = estimates.shape
    middle, within = estimates.mean(axis=0), covariances.mean(axis=0)
    apart = estimates - middle
    inverse = np.linalg.inv(within)
    r = (1.0 + 1.0 / m) * float(np.trace(apart.T @ apart / (m - 1) @ inverse)) / k
    return float(middle @ inverse @ middle) / (k * (1.0 + r)), joint_df(r, k, m, complete_df)


def joint_df(r: float, k: int, m: int, complete_df: float | None) -> float:
    """Denominator df of a pooled test of k dimensions over m completed data, whose variance between is r times that inside."""
    t = float(k * (m - 1))
    large = np.inf if r < 1e-12 else 4.0 + (t - 4.0) * (1.0 + (1.0 - 2.0 / t) / r) ** 2
    if t <= 4.0:
        large = np.inf if r < 1e-12 else t * (1.0 + 1.0 / k) * (1.0 + 1.0 / r) ** 2 / 2.0
    if complete_df is None:
        return large
    v = complete_df * (complete_df + 1.0) / (complete_df + 3.0)
    a = r * t / (t - 2.0) if t > 2.0 else np.inf
    c0, c1, c2 = 1.0 / (t - 4.0) if t > 4.0 else np.inf, v - 2.0 * (1.0 + a), v - 4.0 * (1.0 + a)
    if not (t > 4.0 and c2 > 0):  # beyond the expansion: information lost in proportion, as for one dimension
        return float(1.0 / (1.0 / large + (1.0 + r) / v))
    first = a**2 * c1 / ((1.0 + a) ** 2 * c2) + 8.0 * a**2 * c1 / ((1.0 + a) * c2**2) + 4.0 * a**2 / ((1.0 + a) * c2)
    second = 4.0 * a**2 / (c2 * c1) + 16.0 * a**2 * c1 / c2**3 + 8.0 * a**2 / c2**2
    return float(4.0 + 1.0 / (1.0 / c2 + c0 * (first + second)))
