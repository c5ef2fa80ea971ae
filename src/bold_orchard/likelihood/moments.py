"""Where a search begins: variances by the method of moments."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.stages import CrossProducts

Array = NDArray[Any]
OFF_EDGE = 1e-3  # of T, where slopes are not zero for its evenness alone
MANY_LEVELS = 1_000  # of a unit from which moments of all its effects together are close to the end of the search
MOST_TOGETHER = 6  # effects whose moments are taken together
LEAST = 0.05  # of what a level's own rows tell of an effect: a variance below it is no place to begin
WELL_INSIDE = 1e-3  # least eigenvalue of the correlations of a covariance to begin with


def moments(products: CrossProducts) -> dict[int, Array]:
    """Rough variance ratios per unit and effect, (k,), from sums and sums of squares of each level."""
    each = [(s.unit, np.einsum("aaj->aj", s.c), s.right[:, -1]) for s in products.stages]
    for t in products.tails:
        c = np.diag(products.dense)[t.columns].reshape(t.size, t.levels)
        each.append((t.unit, c, products.dense[t.columns, -1].reshape(t.size, t.levels)))
    return {unit: moment(c, v, products.dense[-1, -1], products.n) for unit, c, v in each}


def together(products: CrossProducts) -> Array | None:
    """The covariance of the only unit's effects, in residual variances, (k, k), by moments of all its columns at once.

    Of a level's Z'r, r the residuals of least squares, the mean square is sigma^2 (C + C G C), C = Z'Z; of r'r it is
    sigma^2 (n + sum tr(C G)): as many linear equations as unknowns (Rao 1971). None where the unit is not alone, has few
    levels or one or many effects, or the solution is no covariance.
    """
    if len(products.stages) != 1 or products.tails:
        return None
    c, v = products.stages[0].c, products.stages[0].right[:, -1]
    k, levels = v.shape
    if levels < MANY_LEVELS or not 1 < k <= MOST_TOGETHER:
        return None
    rows, columns = np.tril_indices(k)
    twice = np.where(rows == columns, 0.5, 1.0)  # covariances stand twice in a matrix
    squares = np.einsum("acj,bdj->abcd", c, c, optimize=True)[rows, columns]
    total = c.sum(axis=-1)
    system = np.empty((len(rows) + 1, len(rows) + 1))
    system[:-1, :-1] = (squares[:, rows, columns] + squares[:, columns, rows]) * twice
    system[:-1, -1] = system[-1, :-1] = total[rows, columns]
    system[-1, :-1] *= 2.0 * twice
    system[-1, -1] = products.n
    size = np.sqrt(np.abs(np.diag(system)))
    known = np.append((v @ v.T)[rows, columns], products.dense[-1, -1])
    try:
        found = np.linalg.solve(system / np.outer(size, size), known / size) / size
    except np.linalg.LinAlgError:
        return None
    gamma = np.empty((k, k))
    gamma[rows, columns] = gamma[columns, rows] = found[:-1] / found[-1]
    sd = np.sqrt(np.abs(np.diag(gamma)))
    if not (found[-1] > 0 and np.isfinite(gamma).all() and (np.diag(gamma * total) >= LEAST * levels).all()):
        return None
    return gamma if np.linalg.eigvalsh(gamma / np.outer(sd, sd))[0] > WELL_INSIDE else None


def moment(c: Array, v: Array, rss: float, n: int) -> Array:
    """Rough variance ratios of one unit, (k,): ``c`` (k, J) are sums of squares of each level's columns, ``v`` (k, J) products with y."""
    explained = (v**2 / np.where(c > 0, c, np.inf)).sum(axis=1)
    within = np.maximum(rss - explained, 0.01 * rss) / max(n - c.shape[1], 0.1 * n, 1)
    squares = np.maximum((c**2).sum(axis=1), 1e-300)
    ratio = ((v**2).sum(axis=1) - within * c.sum(axis=1)) / (squares * within)
    typical = np.maximum(c.sum(axis=1), 1e-300) / np.maximum((c > 0).sum(axis=1), 1)
    return np.clip(ratio, LEAST / typical, 1e6)
