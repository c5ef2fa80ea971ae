"""Back substitution through an elimination: predicted effects, and solutions for other right-hand sides."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Eliminated

Array = NDArray[Any]


def scores(e: Eliminated, c: Array) -> tuple[dict[int, Array], dict[int, Array]]:
    """Back substitution for the residual ``[X y] c``, c (p+1,).

    Returns per unit ``v = Z' H^-1 r`` and the predicted effects ``u = Gamma v``, each (k, J) in stage order.
    """
    v: dict[int, Array] = {}
    u: dict[int, Array] = {}
    ahead = c
    if e.tail is not None:
        z = e.tail.right @ c
        effects = e.tail.k @ z
        rest = z - e.tail.s @ effects
        for t in e.products.tails:
            v[t.unit] = rest[t.columns].reshape(t.size, t.levels)
            u[t.unit] = effects[t.columns].reshape(t.size, t.levels)
        ahead = np.concatenate([-effects, c])
    for work in reversed(e.works):
        stage = work.stage
        mine = ahead
        if stage.crossing is not None:
            mine = c
        split = work.right.shape[1] - len(mine)
        z = np.einsum("krj,r->kj", work.right[:, split:], mine)
        if stage.crossing is not None:
            z += stage.crossing.times(ahead[: e.products.q, None])[:, 0]
        for g, columns in stage.slices.items():
            parent = stage.down(g, u[e.works[g].stage.unit])
            z -= np.einsum("kcj,cj->kj", work.right[:, columns], parent)
        effects = np.einsum("abj,bj->aj", work.k, z)
        u[stage.unit] = effects
        v[stage.unit] = z - np.einsum("abj,bj->aj", work.c, effects)
    return v, u


def solve(e: Eliminated, z: dict[int, Array]) -> tuple[dict[int, Array], dict[int, Array]]:
    """K z over all units together: z (k, J) per unit in stage order -> (z - C K z, K z), C the products of all effects.

    The same substitution as ``scores`` for a right-hand side that was not carried through the elimination.
    """
    z = dict(z)
    q = e.products.q
    tail: Array = np.concatenate([z[t.unit].ravel() for t in e.products.tails]) if q else np.zeros(0)
    for work in e.works:
        stage = work.stage
        kz = np.einsum("abj,bj->aj", work.k, z[stage.unit])
        for g, columns in stage.slices.items():
            parent = e.works[g].stage.unit
            z[parent] = z[parent] - stage.up(g, np.einsum("acj,aj->cj", work.right[:, columns], kz))
        if stage.crossing is not None:
            tail = tail - stage.crossing.transposed_times(kz[:, None])[:, 0]
        elif q:
            first = work.right.shape[1] - len(e.products.dense)
            tail = tail - np.einsum("arj,aj->r", work.right[:, first : first + q], kz)
    v: dict[int, Array] = {}
    u: dict[int, Array] = {}
    if e.tail is not None:
        effects = e.tail.k @ tail
        kept = tail - e.tail.s @ effects
        for t in e.products.tails:
            v[t.unit] = kept[t.columns].reshape(t.size, t.levels)
            u[t.unit] = effects[t.columns].reshape(t.size, t.levels)
        tail = effects
    for work in reversed(e.works):
        stage = work.stage
        mine = z[stage.unit]
        for g, columns in stage.slices.items():
            above = stage.down(g, u[e.works[g].stage.unit])
            mine = mine - np.einsum("acj,cj->aj", work.right[:, columns], above)
        if stage.crossing is not None:
            mine = mine - stage.crossing.times(tail[:, None])[:, 0]
        elif q:
            first = work.right.shape[1] - len(e.products.dense)
            mine = mine - np.einsum("arj,r->aj", work.right[:, first : first + q], tail)
        u[stage.unit] = np.einsum("abj,bj->aj", work.k, mine)
        v[stage.unit] = mine - np.einsum("abj,bj->aj", work.c, u[stage.unit])
    return v, u
