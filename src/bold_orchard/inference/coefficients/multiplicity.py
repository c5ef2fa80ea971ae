"""Adjustment of pairwise comparisons for their number."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.special import gammaln, log_ndtr, ndtr

from bold_orchard.inference.distributions import quantile_t

Array = NDArray[np.float64]
MOST_TOLD = 12.0  # ranges beyond this hold nothing that is seen in double precision
METHODS = ("tukey", "sidak", "bonferroni", "holm", "none")


def adjusted(pairs: list[dict[str, Any]], method: str, groups: int, confidence: float) -> list[tuple[float, float]]:
    """Per pair: the adjusted p and the factor of the standard error in its interval.

    Tukey-Kramer by the studentized range of ``groups`` means; Sidak, Bonferroni and Holm by the number of pairs. Intervals
    are simultaneous under the first three, single under holm and none.
    """
    m = len(pairs)
    ps = [p["p"] if p["p"] is not None else 1.0 for p in pairs]
    if method == "tukey":
        return [
            (range_tail(np.sqrt(2) * abs(p["statistic"]), groups, p["df"]), range_quantile(confidence, groups, p["df"]) / np.sqrt(2))
            if p["statistic"] is not None else (1.0, quantile_t(confidence, p["df"]))
            for p in pairs
        ]  # fmt: skip
    if method == "sidak":
        level = confidence ** (1.0 / max(m, 1))
        return [
            (float(-np.expm1(m * np.log1p(-p))) if p < 1 else 1.0, quantile_t(level, r["df"]))
            for p, r in zip(ps, pairs)
        ]
    if method == "bonferroni":
        level = 1.0 - (1.0 - confidence) / max(m, 1)
        return [(min(1.0, m * p), quantile_t(level, r["df"])) for p, r in zip(ps, pairs)]
    if method == "holm":
        order = np.argsort(ps)
        stepped = np.maximum.accumulate([min(1.0, (m - rank) * ps[i]) for rank, i in enumerate(order)])
        by_pair = dict(zip(order.tolist(), stepped.tolist()))
        return [(by_pair[i], quantile_t(confidence, r["df"])) for i, r in enumerate(pairs)]
    return [(p, quantile_t(confidence, r["df"])) for p, r in zip(ps, pairs)]


def _rounded(df: float | None) -> float:
    return np.inf if df is None or df > 1e5 else round(df, 6)


@cache
def _tail(q: float, groups: int, df: float) -> float:
    """P(range / s > q) of ``groups`` standard normal values, df s^2 a chi-squared on df (Tukey 1953), by trapezoids in z and log s.

    Both integrands decay at both ends as fast as a normal, so that equal steps lose nothing; complements keep small tails exact.
    """
    if q <= 0.0:
        return 1.0
    if np.isinf(df):
        return float(_tail_of_range(np.array([q]), groups)[0])
    wide = 9.0 / np.sqrt(2.0 * df)
    low = 0.5 * np.log(df / (df + 0.5 * q * q)) - wide - 37.0 / df
    step = min(0.05, 0.25 / np.sqrt(2.0 * df + min(q, MOST_TOLD) ** 2))
    log_s = np.arange(low, min(wide, 3.0), step)
    density = np.log(2.0) + 0.5 * df * np.log(0.5 * df) - gammaln(0.5 * df) + df * (log_s - 0.5 * np.exp(2.0 * log_s))
    return float(min(1.0, step * (np.exp(density) * _tail_of_range(q * np.exp(log_s), groups)).sum()))


def _tail_of_range(w: Array, groups: int) -> Array:
    """P(range > w), w (m,), of ``groups`` standard normal values."""
    z = np.arange(-8.5, 8.5, 0.1)[:, None]
    share = np.clip(ndtr(z - w) / ndtr(z), 0.0, 1.0)
    with np.errstate(divide="ignore"):
        beyond = -np.expm1((groups - 1) * np.log1p(-share))
    weight = groups * np.exp((groups - 1) * log_ndtr(z) - 0.5 * z * z) / np.sqrt(2.0 * np.pi)
    return np.asarray(np.minimum(0.1 * (weight * beyond).sum(axis=0), 1.0))


@cache
def _quantile(confidence: float, groups: int, df: float) -> float:
    high = 4.0
    while _tail(high, groups, df) > 1.0 - confidence:
        high *= 2.0
    from scipy.optimize import brentq

    return float(brentq(lambda q: _tail(q, groups, df) - (1.0 - confidence), 0.0, high, xtol=1e-10))


def range_tail(q: float, groups: int, df: float | None) -> float:
    """P(studentized range > q)."""
    return _tail(float(q), groups, _rounded(df))


def range_quantile(confidence: float, groups: int, df: float | None) -> float:
    """Quantile of the studentized range, made once per df."""
    return _quantile(confidence, groups, _rounded(df))
