"""The variance of a linear combination of b_hat and u_hat - u, by carrying it through the elimination."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Eliminated, StageWork
from bold_orchard.crossproducts.wide.elimination import WideEliminated
from bold_orchard.crossproducts.wide.rows import error_variance_wide

Array = NDArray[Any]
Column = tuple[int, Array, Array]  # a unit, its level per column (n,), the part on that level's working effects (k, n)
AT_ONCE = 4_000_000  # entries of right-hand sides held at once (32 MB)


def error_variance(e: Eliminated | WideEliminated | ManyParts, x: Array, columns: list[Column]) -> Array:
    """w' C^- w per column, (n,): C the coefficient matrix of the mixed-model equations with sigma^2 = 1.

    ``x`` (p, n) is the part on the working coefficients; each of ``columns`` gives a unit, its level per column (n,) in
    the user's numbering and the part on that level's working effects (k, n). Eliminating a unit adds z' K z and
    leaves w - R' K z on what is eliminated later (Henderson 1975, block by block).
    """
    if isinstance(e, WideEliminated):
        return error_variance_wide(e, x, columns)
    if isinstance(e, ManyParts):
        return e.error_variance(x, columns)
    out, rest = of_effects(e, x, columns)
    return out + of_coefficients(e.w[:-1, :-1], rest)


class ManyParts(ABC):
    """Eliminations of parts that share coefficients and nothing else."""

    @abstractmethod
    def error_variance(self, x: Array, columns: list[Column]) -> Array:
        """As ``error_variance`` of one."""


def of_effects(e: Eliminated, x: Array, columns: list[Column]) -> tuple[Array, Array]:
    """z'K z (n,), and what is left of x, (p, n), when the effects are eliminated."""
    n = x.shape[1]
    step = max(AT_ONCE // max(len(e.products.dense), 1), 1)
    parts = []
    for start in range(0, n, step):
        at = slice(start, start + step)
        parts.append(_some(e, x[:, at], [(f, level[at], z[:, at]) for f, level, z in columns]))
    if not parts:
        return np.zeros(0), x
    return np.concatenate([o for o, _ in parts]), np.concatenate([r for _, r in parts], axis=1)


def of_coefficients(xx: Array, rest: Array) -> Array:
    """r'(X'H^-1X)^-1 r, (n,)."""
    return np.einsum("pn,pn->n", rest, np.linalg.inv(xx) @ rest) if len(rest) else np.zeros(rest.shape[1])


def _some(e: Eliminated, x: Array, columns: list[Column]) -> tuple[Array, Array]:
    q, n = e.products.q, x.shape[1]
    dense = np.zeros((len(e.products.dense), n))
    dense[q : q + len(x)] = x
    own = _place(e, columns, dense)
    out = np.zeros(n)
    for work in e.works:
        if work.stage.unit in own:
            out += _eliminate(e, work, own, dense)
    rest = dense[q:-1]
    if e.tail is not None:
        kt = e.tail.k @ dense[:q]
        out += np.einsum("qn,qn->n", dense[:q], kt)
        rest = rest - e.tail.right[:, :-1].T @ kt
    return out, rest


def _place(e: Eliminated, columns: list[Column], dense: Array) -> dict[int, tuple[Array, Array]]:
    """Parts on chain units by (level in stage order, part); those on tail units go into ``dense``."""
    products = e.products
    own: dict[int, tuple[Array, Array]] = {}
    for f, level, z in columns:
        tail = next((t for t in products.tails if t.unit == f), None)
        if tail is None:
            rank = np.argsort(next(s.order for s in products.stages if s.unit == f))
            before = own.get(f)
            own[f] = (rank[level], z if before is None else before[1] + z)
            continue
        mix = products.units[f].relationship_factor
        for a in range(tail.size):
            at = slice(tail.columns.start + a * tail.levels, tail.columns.start + (a + 1) * tail.levels)
            if mix is None:
                dense[at][level, np.arange(dense.shape[1])] += z[a]
            else:
                dense[at] += mix[level].T * z[a]
    return own


def _eliminate(e: Eliminated, work: StageWork, own: dict[int, tuple[Array, Array]], dense: Array) -> Array:
    """Eliminate one stage from every column: returns z'Kz and takes R'Kz off what is left."""
    stage, q = work.stage, e.products.q
    place, z = own[stage.unit]
    kz = np.einsum("abn,bn->an", work.k[:, :, place], z)
    for g, at in stage.slices.items():
        parent = e.works[g].stage.unit
        shift = np.einsum("acn,an->cn", work.right[:, at][:, :, place], kz)
        if parent in own:
            own[parent] = (own[parent][0], own[parent][1] - shift)
        else:
            own[parent] = (np.searchsorted(stage.starts[g], place, side="right") - 1, -shift)
    first = q if stage.crossing is not None else 0
    start = work.right.shape[1] - (len(dense) - first)
    dense[first:] -= np.einsum("arn,an->rn", work.right[:, start:][:, :, place], kz)
    if stage.crossing is not None:
        cells = stage.crossing
        many = cells.starts[place + 1] - cells.starts[place]
        of = np.repeat(np.arange(dense.shape[1]), many)
        cell = np.arange(len(of)) + np.repeat(cells.starts[place] - (np.cumsum(many) - many), many)
        dense[cells.column[cell], of] -= np.einsum("an,an->n", kz[:, of], cells.values[:, cell])
    return np.einsum("an,an->n", z, kz)
