"""Effects drawn given the coefficients and all variances, from what the elimination leaves; no row is touched.

Going back through the elimination every unit's effects are normal given those eliminated later, with covariance sigma^2 K and mean
K (Z'(y - X b) - Z'Z_later u_later) (Rue & Held 2005, ch. 2).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Eliminated

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
