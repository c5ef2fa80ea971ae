"""Coefficients and effects drawn given all variances, from what the elimination leaves; no row is touched.

Going back through the elimination every unit's effects are normal given those eliminated later, with covariance sigma^2 K and mean
K (Z'(y - X b) - Z'Z_later u_later) (Rue & Held 2005, ch. 2).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Eliminated
from bold_orchard.likelihood.gaussian import GaussianPoint
from bold_orchard.likelihood.laplace.point import LaplacePoint

Array = NDArray[Any]


def drawn_effects(e: Eliminated, contrast: Array, sigma: float, rng: np.random.Generator) -> dict[int, Array]:
    """Effects of every unit on the working scale, (k, levels) in the user's numbering.

    ``contrast`` (p + 1,) makes y - X b of the working columns [X y].
    """
    products, q = e.products, e.products.q
    out: dict[int, Array] = {}
    tail: Array = np.zeros(0)
    if e.tail is not None:
        values, vectors = np.linalg.eigh(e.tail.k)
        root = vectors * np.sqrt(np.maximum(values, 0.0))
        tail = e.tail.k @ (e.tail.right @ contrast) + sigma * root @ rng.standard_normal(q)
        for t in products.tails:
            u = tail[t.columns].reshape(t.size, t.levels)
            mix = products.units[t.unit].relationship_factor
            out[t.unit] = u if mix is None else u @ mix.T
    drawn: dict[int, Array] = {}
    for i in range(len(e.works) - 1, -1, -1):
        work, stage = e.works[i], e.works[i].stage
        first = work.right.shape[1] - (len(products.dense) - (q if stage.crossing is not None else 0))
        last = work.right.shape[1] - len(contrast)
        rhs = np.einsum("arj,r->aj", work.right[:, last:], contrast)
        if stage.crossing is not None:
            cells = stage.crossing
            for a in range(stage.size):
                rhs[a] -= np.bincount(cells.level, cells.values[a] * tail[cells.column], stage.levels)
        elif q:
            rhs -= np.einsum("arj,r->aj", work.right[:, first : first + q], tail)
        for g, columns in stage.slices.items():
            rhs -= np.einsum("arj,rj->aj", work.right[:, columns], stage.down(g, drawn[g]))
        noise = rng.standard_normal((stage.size, stage.levels))
        drawn[i] = np.einsum("baj,bj->aj", work.f, np.einsum("baj,aj->bj", work.f, rhs) + sigma * noise)
        out[stage.unit] = np.empty_like(drawn[i])
        out[stage.unit][:, stage.order] = drawn[i]
    return out


def gaussian_draw(point: GaussianPoint, rng: np.random.Generator) -> tuple[Array, list[Array], float]:
    """b (p',), effects of every block (levels, k) and sigma^2 from their joint distribution given the parameters of a search.

    The prior of b is flat and that of sigma^2 1 / sigma^2, so that sigma^2 is rss over a chi-squared of the point's degrees of freedom.
    """
    c, standard = point.criterion, point.criterion.products.standard
    sigma2 = float(point.rss / rng.chisquare(c.dof) if c.concentrated else point.sigma2)
    sd = float(np.sqrt(sigma2))
    b_work = point.b_work.copy()
    if len(b_work):
        b_work += sd * np.linalg.cholesky(point.xx_inverse) @ rng.standard_normal(len(b_work))
    drawn = drawn_effects(point.eliminated, np.append(-b_work, 1.0), sd, rng)
    turns = c.products.z_to_work
    effects = [(np.linalg.solve(turns[f], drawn[f]) * point.scales(f)).T for f in range(len(c.structures))]
    return standard.to_user(b_work), effects, sigma2


def laplace_draw(point: LaplacePoint, rng: np.random.Generator) -> list[Array]:
    """Effects of every block (levels, k) given coefficients and parameters: normal about their mode, with the curvature there."""
    c = point.criterion
    mode = c.moved(point.factors, point.mode.v)
    if not mode:
        return []
    around = drawn_effects(point.with_x, np.zeros(c.p + 1), 1.0, rng)
    turns = c.products.z_to_work
    return [np.linalg.solve(turns[f], mode[f] + around[f]).T for f in range(len(c.structures))]
