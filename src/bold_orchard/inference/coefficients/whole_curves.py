"""How far a whole curve may be from its estimate: the largest |t| along it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import stats
from scipy.special import ndtri

Array = NDArray[Any]
TURNS = 20_000  # directions in a plane, at equal angles of half a circle
POINTS = 15  # logarithm of the number of quasi-random directions in more dimensions than two
FLAT = 1e-10  # share of the largest eigenvalue below which a dimension is rounding


def whole_quantile(rows: Array, covariance: Array, df: float | None, confidence: float) -> float:
    """c with P(|t_i| <= c for all i) = confidence, t (n,) the statistics of combinations ``rows`` (n, p) of estimates with a ``covariance`` (p, p).

    T = R u v_i with unit vectors v_i in the r dimensions that the rows span: R^2 / r is F(r, df), so its tail is exact in every direction u, and
    only directions are summed over: equal angles where r is 2 (as of a difference that is a straight line), else quasi-random ones, always
    the same (Naiman 1986, Annals of Statistics 14, 896-906; Ruppert, Wand & Carroll 2003, section 6.5).
    """
    v = _unit_vectors(rows, covariance)
    r = v.shape[1]
    if r == 0:
        return 0.0
    reach = np.unique(np.round(_reach(v), 12), return_counts=True)
    alpha = 1.0 - confidence

    def beyond(c: float) -> float:
        at = (c / reach[0]) ** 2
        tail = stats.chi2.sf(at, r) if df is None else stats.f.sf(at / r, r, df)
        return float(tail @ reach[1] / reach[1].sum()) - alpha

    from scipy.optimize import brentq

    high = 4.0
    while beyond(high) > 0:
        high *= 2.0
    return float(brentq(beyond, 1e-3, high, xtol=1e-10))


def _unit_vectors(rows: Array, covariance: Array) -> Array:
    """Vectors (n, r) of length 1 whose products are the correlations of the combinations."""
    made = rows @ covariance @ rows.T
    sd = np.sqrt(np.maximum(np.diag(made), 0.0))
    sure = sd > 1e-9 * sd.max(initial=0.0)
    values, vectors = np.linalg.eigh((made / np.outer(np.where(sure, sd, 1.0), np.where(sure, sd, 1.0)))[sure][:, sure])
    kept = values > FLAT * values.max(initial=0.0)
    out = vectors[:, kept] * np.sqrt(values[kept])
    return np.asarray(out / np.linalg.norm(out, axis=1, keepdims=True)) if out.size else np.zeros((0, 0))


def _reach(v: Array) -> Array:
    """max_i |v_i u| over directions u, (directions,)."""
    from scipy.stats import qmc

    r = v.shape[1]
    if r == 1:
        return np.ones(1)
    if r == 2:
        angle = (np.arange(TURNS) + 0.5) * np.pi / TURNS
        u = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    else:
        u = ndtri(np.clip(qmc.Sobol(r, seed=0).random_base2(POINTS), 1e-12, 1.0 - 1e-12))
        u /= np.linalg.norm(u, axis=1, keepdims=True)
    return np.concatenate([np.abs(piece @ v.T).max(axis=1) for piece in np.array_split(u, 16)])
