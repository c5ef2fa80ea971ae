"""Tail probabilities and quantiles, from scipy.special only."""

from __future__ import annotations

import numpy as np
import scipy

from bold_orchard.errors import UsageError


def p_of_t(t: float, df: float | None) -> float:
    """Two-sided p-value of t with df degrees of freedom; of z when df is None."""
    if df is None or np.isinf(df):
        return float(2.0 * scipy.special.ndtr(-abs(t)))
    return float(2.0 * scipy.special.stdtr(df, -abs(t)))


def quantile_t(confidence: float, df: float | None) -> float:
    """The two-sided quantile: P(|T| <= q) = confidence."""
    if not 0.0 < confidence < 1.0:
        raise UsageError(f"a confidence level lies between 0 and 1, not {confidence:g}")
    upper = 0.5 + confidence / 2.0
    if df is None or np.isinf(df):
        return float(scipy.special.ndtri(upper))
    return float(scipy.special.stdtrit(df, upper))


def p_of_chisq(x: float, df: int) -> float:
    """P(chi-squared with df > x); for df = 0 the point mass at zero."""
    if df == 0:
        return 1.0 if x <= 0 else 0.0
    return float(scipy.special.chdtrc(df, max(x, 0.0)))


def half_and_half(chisq: float, df: int) -> float:
    """Half chi2(df - 1) + half chi2(df): one variance at zero with df - 1 free parameters beside it (Self & Liang 1987)."""
    if chisq <= 0:
        return 1.0
    return 0.5 * p_of_chisq(chisq, df - 1) + 0.5 * p_of_chisq(chisq, df)
