"""Estimates of completed data put together (Rubin 1987), with the degrees of freedom of Barnard & Rubin (1999)."""

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
