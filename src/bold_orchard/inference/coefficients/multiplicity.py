"""Adjustment of pairwise comparisons for their number."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from bold_orchard.inference.distributions import quantile_t

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


@cache
def _distribution() -> Any:
    from scipy.stats import studentized_range

    return studentized_range


def _rounded(df: float | None) -> float:
    return np.inf if df is None or df > 1e5 else round(df, 6)


@cache
def _tail(q: float, groups: int, df: float) -> float:
    return float(_distribution().sf(q, groups, df))


@cache
def _quantile(confidence: float, groups: int, df: float) -> float:
    return float(_distribution().ppf(confidence, groups, df))


def range_tail(q: float, groups: int, df: float | None) -> float:
    """P(studentized range > q)."""
    return _tail(float(q), groups, _rounded(df))


def range_quantile(confidence: float, groups: int, df: float | None) -> float:
    """Quantile of the studentized range, made once per df."""
    return _quantile(confidence, groups, _rounded(df))
