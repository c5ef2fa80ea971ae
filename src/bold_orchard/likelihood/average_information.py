"""Quadratic forms in the projected data, for the average information (Gilmour, Thompson & Cullis 1995)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts import batched
from bold_orchard.crossproducts.elimination import Eliminated
from bold_orchard.crossproducts.stages import CrossProducts

Array = NDArray[Any]


def quadratic_forms(e: Eliminated, directions: list[tuple[int, Array]], inverse: Array) -> Array:
    """``q_a' P q_b`` for vectors ``q_a = Z_f w_a``, w_a (k_f, J_f) in stage order; P with sigma^2 = 1.

    P = H^-1 - H^-1 X (X'H^-1X)^-1 X'H^-1, the ``inverse`` given. The vectors are carried through the elimination as further columns.
    """
    m = len(directions)
    products = e.products
    rights = [np.zeros((s.size, m, s.levels)) for s in products.stages]
    dense = np.zeros((len(products.dense), m))
    both = np.zeros((m, m))
    for b, (unit, w) in enumerate(directions):
        _project(products, unit, w, b, rights, dense)
    for a, (unit, w) in enumerate(directions):
        position = _position(products, unit)
        if position is not None:
            both[a] = np.einsum("kj,kmj->m", w, rights[position])
        else:
            t = next(t for t in products.tails if t.unit == unit)
            both[a] = w.ravel() @ dense[t.columns]
    return _reduce(e, rights, dense, both, inverse)


def _position(products: CrossProducts, unit: int) -> int | None:
    return next((i for i, s in enumerate(products.stages) if s.unit == unit), None)


def _project(products: CrossProducts, unit: int, w: Array, b: int, rights: list[Array], dense: Array) -> None:
    """Column b: products of Z_unit w with every Z and with [X y]."""
    stages, q = products.stages, products.q
    position = _position(products, unit)
    if position is None:
        t = next(t for t in products.tails if t.unit == unit)
        flat = w.ravel()
        dense[:, b] = products.dense[:, t.columns] @ flat
        for i, s in enumerate(stages):
            if s.crossing is not None:
                padded = np.zeros((q, 1))
                padded[t.columns, 0] = flat
                rights[i][:, b] = s.crossing.times(padded)[:, 0]
            else:
                offset = s.right.shape[1] - len(products.dense)
                columns = slice(offset + t.columns.start, offset + t.columns.stop)
                rights[i][:, b] = np.einsum("krj,r->kj", s.right[:, columns], flat)
        return
    own = stages[position]
    rights[position][:, b] = np.einsum("abj,bj->aj", own.c, w)
    for i, s in enumerate(stages[:position]):
        rights[i][:, b] = np.einsum("kcj,cj->kj", s.right[:, s.slices[position]], s.down(position, w))
    for g, columns in own.slices.items():
        rights[g][:, b] = own.up(g, np.einsum("kcj,kj->cj", own.right[:, columns], w))
    first = 0
    if own.crossing is not None:
        first = q
        dense[:q, b] = own.crossing.transposed_times(w[:, None])[:, 0]
    offset = own.right.shape[1] - (len(dense) - first)
    dense[first:, b] = np.einsum("krj,kj->r", own.right[:, offset:], w)


def _reduce(e: Eliminated, rights: list[Array], dense: Array, both: Array, inverse: Array) -> Array:
    """Take the new columns through the elimination already made."""
    q = e.products.q
    dense = dense.copy()
    for i, work in enumerate(e.works):
        stage = work.stage
        first = q if stage.crossing is not None else 0
        start = work.y.shape[1] - (len(dense) - first)
        for units in batched.chunks(stage.levels) if not (stage.slices or stage.crossing) else [slice(None)]:
            y = batched.multiply(work.f[..., units], rights[i][..., units])
            for g, columns in stage.slices.items():
                rights[g] = rights[g] - stage.up(g, batched.multiply(work.y[:, columns].transpose(1, 0, 2), y))
            for a in range(stage.size):
                dense[first:] -= work.y[a, start:, units] @ y[a].T
                both = both - y[a] @ y[a].T
            if stage.crossing is not None:
                dense[:q] -= stage.crossing.transposed_times(batched.multiply(work.f.transpose(1, 0, 2), y))
    if e.tail is not None:
        kd = e.tail.k @ dense[:q]
        both = both - dense[:q].T @ kd
        dense = dense[q:] - e.tail.right.T @ kd
    x = dense[:-1]
    return both - x.T @ inverse @ x if len(x) else both
