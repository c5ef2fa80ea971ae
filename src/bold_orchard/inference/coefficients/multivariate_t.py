"""The largest of several t statistics that share one error and are correlated (Dunnett 1955; Hsu 1996)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.special import gammaincinv, gammaln, ndtr, ndtri

Array = NDArray[Any]
PRODUCT = 1e-9  # off its product form by which a correlation matrix still has it
FEW_POINTS, MOST_POINTS, SHIFTS = (
    13,
    16,
    4,
)  # logarithms of the number of quasi-random points, and how often they are scrambled
FAR_OFF = 0.03  # off its product form, from which most points are taken: errors stay below 1e-5
MOST, MOST_ROUNDS = 0.98, 500  # loadings at most, lest the integrand grow steep, and rounds of the principal factors
STEP = 0.1  # of the trapezoids in z, whose integrand falls as a normal density
WIDEST = 1e5  # degrees of freedom from which a t is a normal


def max_tail(t: float, correlation: Array, df: float | None) -> float:
    """P(max |T_i| > t) of T (k,) with a correlation (k, k) and df degrees of freedom, None for normal values.

    Where r_ij = l_i l_j, as of differences from one level in designs with equal covariances, one integral gives it to 1e-10. Else a
    quasi-random sum (Genz & Bretz 2002) gives what the nearest such matrix is off by.
    """
    if t <= 0.0:
        return 1.0
    loadings = _loadings(correlation)
    product = np.outer(loadings, loadings)
    np.fill_diagonal(product, 1.0)
    log_s, weights = _scales(df, t)
    inside = float(weights @ _inside_by_loadings(t * np.exp(log_s), loadings) / weights.sum())
    off = float(np.abs(product - correlation).max())
    if off > PRODUCT:
        points = MOST_POINTS if off > FAR_OFF else FEW_POINTS
        inside += _inside_by_points(t, correlation, df, points) - _inside_by_points(t, product, df, points)
    return float(np.clip(1.0 - inside, 0.0, 1.0))


def max_quantile(confidence: float, correlation: Array, df: float | None) -> float:
    """t with P(max |T_i| <= t) = confidence."""
    from scipy.optimize import brentq

    high = 4.0
    while max_tail(high, correlation, df) > 1.0 - confidence:
        high *= 2.0
    return float(brentq(lambda t: max_tail(t, correlation, df) - (1.0 - confidence), 0.0, high, xtol=1e-9))


def _loadings(r: Array) -> Array:
    """l (k,) with r_ij nearest to l_i l_j off the diagonal, by principal factors."""
    if len(r) == 2:
        root = min(np.sqrt(abs(r[0, 1])), MOST)
        return np.array([root, np.copysign(root, r[0, 1])])
    squares, loadings = np.max(np.abs(r - np.eye(len(r))), axis=0), np.zeros(len(r))
    for _ in range(MOST_ROUNDS):
        reduced = r - np.diag(1.0 - squares)
        values, vectors = np.linalg.eigh(reduced)
        loadings = np.clip(vectors[:, -1] * np.sqrt(max(values[-1], 0.0)), -MOST, MOST)
        moved, squares = np.abs(loadings**2 - squares).max(), loadings**2
        if moved < 1e-14:
            break
    return np.asarray(loadings)


def _scales(df: float | None, t: float) -> tuple[Array, Array]:
    """log s on a grid and weights of its density, df s^2 being chi-squared on df."""
    if df is None or df > WIDEST:
        return np.zeros(1), np.ones(1)
    wide = 9.0 / np.sqrt(2.0 * df)
    log_s = np.arange(-wide - 37.0 / df, min(wide, 3.0), min(0.02, 0.1 / np.sqrt(2.0 * df + t * t)))
    log_density = np.log(2.0) + 0.5 * df * np.log(0.5 * df) - gammaln(0.5 * df) + df * (log_s - 0.5 * np.exp(2 * log_s))
    return log_s, np.exp(log_density)


def _inside_by_loadings(c: Array, loadings: Array) -> Array:
    """P(|Z_i| < c for all i), c (m,), Z_i = l_i z + sqrt(1 - l_i^2) e_i."""
    z = np.arange(-8.5, 8.5, STEP)[:, None]
    inside = np.ones((len(z), len(c)))
    for loading in loadings:
        own = np.sqrt(1.0 - loading**2)
        inside *= ndtr((c - loading * z) / own) - ndtr((-c - loading * z) / own)
    density = np.exp(-0.5 * z[:, 0] ** 2) / np.sqrt(2.0 * np.pi)
    return np.asarray(STEP * density @ inside)


def _inside_by_points(t: float, r: Array, df: float | None, points: int) -> float:
    """P(max |T_i| < t) by Genz' transformation over scrambled Sobol points, always the same ones."""
    from scipy.stats import qmc

    k, total = len(r), 0.0
    values, vectors = np.linalg.eigh(r)
    root = np.linalg.cholesky((vectors * np.maximum(values, 1e-12)) @ vectors.T)
    for seed in range(SHIFTS):
        u = qmc.Sobol(k, seed=seed).random_base2(points)
        s = np.ones(len(u)) if df is None or df > WIDEST else np.sqrt(2.0 * gammaincinv(0.5 * df, u[:, k - 1]) / df)
        y, product = np.zeros((len(u), k)), np.ones(len(u))
        for i in range(k):
            middle = y[:, :i] @ root[i, :i]
            low, high = ndtr((-t * s - middle) / root[i, i]), ndtr((t * s - middle) / root[i, i])
            product *= high - low
            y[:, i] = ndtri(np.clip(low + u[:, i] * (high - low), 1e-300, 1.0 - 1e-16))
        total += float(product.mean())
    return total / SHIFTS
