"""How sure the covariance parameters are: the observed information."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.gaussian import GaussianPoint
from bold_orchard.optimize.by_values import derivatives

Array = NDArray[Any]
LARGE = 20_000  # work of one evaluation, effects times terms, from which the search's own figures must serve
LARGE_TAIL = 400  # width of the dense part from which they must as well


def parameter_covariance(e: GaussianPoint, profiled: Array | None = None) -> Array:
    """Covariance of (theta, phi, log sigma^2), (m + 1, m + 1), from the observed information.

    The Hessian of the deviance in all parameters together, sigma^2 not profiled out, by central differences of the
    exact gradient. Parameters at their bound are at_bound there and have covariance zero. For a large model without
    correlated residuals the search's own ``profiled`` Hessian (m, m) serves, completed in closed form.
    """
    c = e.criterion
    if profiled is not None and is_large(e) and c.linear and c.concentrated:
        return _completed(e, profiled)
    hessian = full_hessian(e)
    size = len(hessian)
    free = np.append(~at_bound(e), True)[:size]
    out = np.zeros((size, size))
    out[np.ix_(free, free)] = 2.0 * np.linalg.pinv(hessian[np.ix_(free, free)], rcond=1e-12, hermitian=True)
    return out


def full_hessian(e: GaussianPoint) -> Array:
    """Hessian of the deviance in (theta, phi, log sigma^2), sigma^2 not profiled out, (m + 1, m + 1)."""
    here = e.psi
    if e.criterion.lost(e.theta).any():  # a covariance of rows without an inverse leaves gradients no digits
        return derivatives(lambda point: e.criterion.at_psi(point).deviance, here)[1]
    hessian = np.empty((len(here), len(here)))
    for i in range(len(here)):
        h = 1e-4 * max(abs(here[i]), 1e-2)
        up, down = here.copy(), here.copy()
        up[i] += h
        down[i] -= h
        hessian[i] = (e.criterion.at_psi(up).psi_slope - e.criterion.at_psi(down).psi_slope) / (2 * h)
    return (hessian + hessian.T) / 2


def is_large(e: GaussianPoint) -> bool:
    """Whether an evaluation costs so much that the search's own figures must serve."""
    products = e.criterion.products
    return products.q > LARGE_TAIL or sum(u.levels * u.size**2 for u in products.units) > LARGE


def at_bound(e: GaussianPoint) -> Array:
    """Parameters that stand at their bound or at an edge of the residual covariance, (m,)."""
    return np.asarray((e.criterion.bounded & (e.theta <= 0)) | e.criterion.lost(e.theta))


def _completed(e: GaussianPoint, profiled: Array) -> Array:
    """The joint covariance from the profiled Hessian: D_ss = dof, D_theta,s = -d rss / sigma^2 (Schur complement)."""
    c, m = e.criterion, len(e.theta)
    v, _ = e.scores
    pull = np.zeros(m)
    for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
        for a, basis in zip(range(at.start, at.stop), structure.basis):
            pull[a] = 2.0 * np.einsum("kj,kj->", v[f], basis @ (e.factors[f].T @ v[f])) / e.sigma2
    free = ~at_bound(e)
    inner = np.zeros((m, m))
    inner[np.ix_(free, free)] = 2.0 * np.linalg.pinv(profiled[np.ix_(free, free)], rcond=1e-12, hermitian=True)
    out = np.zeros((m + 1, m + 1))
    out[:m, :m] = inner
    out[:m, m] = out[m, :m] = -inner @ pull / c.dof
    out[m, m] = 2.0 / c.dof + pull @ inner @ pull / c.dof**2
    return out
