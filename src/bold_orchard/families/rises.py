"""Rises of log Gamma and of its derivatives over a distance, by series where digits of a difference would cancel."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[Any]
LARGE = 1e4  # from which a difference would lose more digits than the series


def log_rise(a: Array, y: Array) -> Array:
    """log Gamma(a + y) - log Gamma(a), a and y alike in shape."""
    end = a + y
    with np.errstate(all="ignore"):
        series = (end - 0.5) * np.log1p(y / a) + y * (np.log(a) - 1.0) - y / (12.0 * a * end)
        exact = special.gammaln(end) - special.gammaln(a)
    return np.asarray(np.where(a > LARGE, series, exact))


def digamma_rise(k: int, a: Array, y: Array) -> Array:
    """The k-th derivative (0, 1 or 2) of digamma at a + y less that at a (Abramowitz & Stegun 6.3.18, 6.4.12)."""
    end = a + y
    if k == 0:
        series = np.log1p(y / a) + 0.5 * y / (a * end) + y * (a + end) / (12.0 * (a * end) ** 2)
        return np.asarray(np.where(a > LARGE, series, special.digamma(end) - special.digamma(a)))
    back, ahead = 1.0 / a, 1.0 / end
    less = -y / (a * end)  # 1/end - 1/a, without cancelling
    if k == 1:
        series = less * (1.0 + 0.5 * (ahead + back) + (ahead**2 + ahead * back + back**2) / 6.0)
    else:
        series = -less * (
            (ahead + back) + (ahead**2 + ahead * back + back**2) + 0.5 * (ahead + back) * (ahead**2 + back**2)
        )
    return np.asarray(np.where(a > LARGE, series, special.polygamma(k, end) - special.polygamma(k, a)))


def log_choose(m: Array, y: Array) -> Array:
    """The logarithm of the number of ways to choose y of m."""
    return np.asarray(special.gammaln(m + 1) - special.gammaln(y + 1) - special.gammaln(m - y + 1))
