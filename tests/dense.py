"""The slow, obviously right judge: build V, evaluate the normal density, search by simplex and differences."""

from __future__ import annotations

import numpy as np
from scipy import optimize


def covariance(n, units, gs, residual):
    """V (n, n) from [(codes, Z)], their G matrices and the residual covariance (scalar or matrix)."""
    v = residual * np.eye(n) if np.ndim(residual) == 0 else residual.copy()
    for (codes, z), g in zip(units, gs):
        v += (z @ g @ z.T) * (codes[:, None] == codes[None, :])
    return v


def deviance(y, x, v, reml):
    """-2 (restricted) log-likelihood with b at its generalised least-squares value."""
    n, p = x.shape
    low = np.linalg.cholesky(v)
    xi, yi = np.linalg.solve(low, x), np.linalg.solve(low, y)
    b = np.linalg.lstsq(xi, yi, rcond=None)[0]
    r = yi - xi @ b
    value = 2 * np.log(np.diag(low)).sum() + r @ r + (n - p * reml) * np.log(2 * np.pi)
    return value + (np.linalg.slogdet(xi.T @ xi)[1] if reml else 0.0)


def estimates(y, x, v):
    """b and its covariance."""
    vi = np.linalg.inv(v)
    c = np.linalg.inv(x.T @ vi @ x)
    return c @ x.T @ vi @ y, c


def predictions(y, x, z, g, v):
    """u-hat for one unit's stacked effects: G Z' V^-1 (y - X b), with G and Z already expanded."""
    b, _ = estimates(y, x, v)
    return g @ z.T @ np.linalg.solve(v, y - x @ b)


def search(f, start):
    """The minimum of f, from a good start, by a polished simplex: slow and sure."""
    best = optimize.minimize(f, start, method="Nelder-Mead",
                             options={"xatol": 1e-9, "fatol": 1e-11, "maxiter": 20000, "maxfev": 20000})  # fmt: skip
    return optimize.minimize(f, best.x, method="Nelder-Mead",
                             options={"xatol": 1e-10, "fatol": 1e-12, "maxiter": 20000, "maxfev": 20000})  # fmt: skip
