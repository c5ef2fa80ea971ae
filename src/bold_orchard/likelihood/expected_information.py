"""Expected moments of a covariance that is linear in its parameters: the traces and forms of Kenward & Roger (1997).

With ``V = sum_i psi_i G_i`` these are ``tr(V^-1 G_i V^-1 G_j)``, ``X'V^-1 G_i V^-1 X`` and ``X'V^-1 G_i V^-1 G_j V^-1 X``.
Every G_i = Z (E_i (x) I) Z' needs only ``N = Z'V^-1 Z`` and ``M = Z'V^-1 X``, which are block diagonal over the coarsest
unit and are made for many of its levels at a time. V itself stands for the residual's direction.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint

Array = NDArray[Any]
MOST_EFFECTS = 6_000  # effects whose dense products fit in memory (300 MB each)
AT_ONCE = 4_000_000  # entries of many units' products held at once (32 MB)


@dataclass(frozen=True)
class UnitPlace:
    """Where the effects of one unit stand in a group: ordered (effect, level) from ``at`` on."""

    unit: int
    at: int
    size: int
    levels: int

    @property
    def place(self) -> slice:
        return slice(self.at, self.at + self.size * self.levels)


@dataclass(frozen=True)
class Group:
    """Levels of the coarsest unit with all that nests in them, B of one shape: C (B, q, q) and R = Z'X (B, q, p)."""

    parts: list[UnitPlace]
    c: Array
    r: Array


@dataclass(frozen=True)
class Moments:
    """On the working scale of X, the m directions asked for and V as the last one.

    ``traces`` (m+1, m+1) holds tr(V^-1 G_i V^-1 G_j), ``first`` (m+1, p, p) X'V^-1 G_i V^-1 X, ``second``
    (m+1, m+1, p, p) X'V^-1 G_i V^-1 G_j V^-1 X; ``phi`` (p, p) is (X'V^-1 X)^-1.
    """

    traces: Array
    first: Array
    second: Array
    phi: Array

    def mixed(self, a: Array) -> Moments:
        """Moments of the directions ``a @ (G_1, ..., V)``, a (m', m+1)."""
        second = np.einsum("ai,bj,ijpq->abpq", a, a, self.second)
        return Moments(a @ self.traces @ a.T, np.einsum("ai,ipq->apq", a, self.first), second, self.phi)

    @property
    def information(self) -> Array:
        """Expected restricted information 1/2 tr(P G_i P G_j), (m', m')."""
        phi, first = self.phi, self.first
        fixed = 2.0 * np.einsum("pq,ijqp->ij", phi, self.second)
        fixed -= np.einsum("pq,iqr,rs,jsp->ij", phi, first, phi, first, optimize=True)
        return 0.5 * (self.traces - fixed)


def widest(products: CrossProducts) -> int:
    """Effects of the largest group that must be held together."""
    if products.tails:
        return products.q + sum(s.levels * s.size for s in products.stages)
    if not products.stages:
        return 0
    return int(np.sum([_counts(products, i) * s.size for i, s in enumerate(products.stages)], axis=0).max())


def _counts(products: CrossProducts, i: int) -> Array:
    """Levels of stage i in each level of the coarsest stage."""
    top = len(products.stages) - 1
    stage = products.stages[i]
    if i == top:
        return np.ones(stage.levels, dtype=np.intp)
    return np.diff(np.append(stage.starts[top], stage.levels))


def moments(e: GaussianPoint, directions: list[tuple[int, Array]]) -> Moments:
    """Moments at ``e`` for directions (unit, E (k, k) on the working scale of its effects)."""
    products, s2 = e.criterion.products, e.sigma2
    m, p = len(directions), products.p
    traces, first, second = np.zeros((m + 1, m + 1)), np.zeros((m + 1, p, p)), np.zeros((m + 1, m + 1, p, p))
    units = {f for f, _ in directions}
    spread = {(f, g): np.zeros(()) for f in units for g in units}
    for group in groups(products):
        n, mx = _in_metric(group, e.factors)
        n, mx = n / s2, mx / s2
        parts = {x.unit: x for x in group.parts}
        for (f, g), before in spread.items():
            a = _across(n, parts[f], parts[g])
            spread[f, g] = before + a @ a.T
        moved = [_turned(mx, parts[f], direction) for f, direction in directions]
        for i, (f, _) in enumerate(directions):
            traces[i, m] += float(np.vdot(_own_trace(n, parts[f]), directions[i][1]))
            first[i] += np.einsum("bqp,bqr->pr", mx, moved[i], optimize=True)
        for j in range(m):
            carried = n @ moved[j]
            for i in range(m):
                second[i, j] += np.einsum("bqp,bqr->pr", moved[i], carried, optimize=True)
    for i, (f, own) in enumerate(directions):
        for j, (g, other) in enumerate(directions):
            k, h = len(own), len(other)
            table = spread[f, g].reshape(k, h, k, h)
            traces[i, j] = np.einsum("ab,bcad,cd->", own, table, other, optimize=True)
    phi_inverse = e.xx / s2
    traces[m, :m], traces[m, m] = traces[:m, m], products.n
    first[m] = phi_inverse
    second[:m, m] = second[m, :m] = first[:m]
    second[m, m] = phi_inverse
    return Moments(traces, first, second, np.linalg.inv(phi_inverse) if p else phi_inverse)


def _across(n: Array, f: UnitPlace, g: UnitPlace) -> Array:
    """Blocks of N between two units, (k_f k_g, everything else)."""
    block = n[:, f.place, g.place].reshape(len(n), f.size, f.levels, g.size, g.levels)
    return block.transpose(1, 3, 0, 2, 4).reshape(f.size * g.size, -1)


def _own_trace(n: Array, f: UnitPlace) -> Array:
    """Sum over levels of the diagonal blocks of N, (k, k)."""
    block = n[:, f.place, f.place].reshape(len(n), f.size, f.levels, f.size, f.levels)
    return np.einsum("nalbl->ab", block)


def _turned(mx: Array, f: UnitPlace, direction: Array) -> Array:
    """(E (x) I) M, zero outside the unit."""
    out = np.zeros_like(mx)
    own = mx[:, f.place].reshape(len(mx), f.size, f.levels, -1)
    out[:, f.place] = np.einsum("ac,nclp->nalp", direction, own).reshape(out[:, f.place].shape)
    return out


def _in_metric(group: Group, factors: list[Array]) -> tuple[Array, Array]:
    """Z'H^-1 Z and Z'H^-1 X: C - C K C and R - C K R with K = T (I + T'CT)^-1 T'."""
    left = _factored(group.c, group, factors)
    a = _factored(left.transpose(0, 2, 1), group, factors)
    a[:, np.arange(a.shape[1]), np.arange(a.shape[1])] += 1.0
    low = np.linalg.cholesky(a)
    right = np.concatenate([left, _factored(group.r, group, factors)], axis=2)
    if len(low) == 1:
        from scipy.linalg import solve_triangular

        y = solve_triangular(low[0], right[0], lower=True, check_finite=False)[None]
    else:
        y = np.linalg.solve(low, right)
    q = group.c.shape[1]
    both = y[:, :, :q].transpose(0, 2, 1) @ y
    return group.c - both[:, :, :q], group.r - both[:, :, q:]


def _factored(m: Array, group: Group, factors: list[Array]) -> Array:
    """(T (x) I)' m for every unit, m (B, q, c)."""
    out = np.empty_like(m)
    for part in group.parts:
        own = m[:, part.place].reshape(len(m), part.size, part.levels, -1)
        out[:, part.place] = np.einsum("ca,nclx->nalx", factors[part.unit], own).reshape(out[:, part.place].shape)
    return out


def groups(products: CrossProducts) -> Iterator[Group]:
    """All groups, those of one shape together; a tail makes everything one group."""
    stages = products.stages
    if products.tails:
        yield _with_tail(products)
        return
    if not stages:
        return
    counts = np.stack([_counts(products, i) for i in range(len(stages))])
    shapes, kind = np.unique(counts, axis=1, return_inverse=True)
    for shape in range(shapes.shape[1]):
        tops = np.flatnonzero(kind.ravel() == shape)
        width = int(sum(c * s.size for c, s in zip(shapes[:, shape], stages)))
        step = max(AT_ONCE // (width * (width + products.p)), 1)
        for start in range(0, len(tops), step):
            yield _nested(products, tops[start : start + step], shapes[:, shape])


def _nested(products: CrossProducts, tops: Array, shape: Array) -> Group:
    """The group of some levels of the coarsest stage; ``shape`` counts each stage's levels in one of them."""
    stages, last = products.stages, len(products.stages) - 1
    firsts = [s.starts[last][tops] if i < last else tops for i, s in enumerate(stages)]
    return _group(products, [f[:, None] + np.arange(n) for f, n in zip(firsts, shape)], 0)


def _with_tail(products: CrossProducts) -> Group:
    chain = sum(s.levels * s.size for s in products.stages)
    group = _group(products, [np.arange(s.levels)[None] for s in products.stages], products.q)
    q, parts = products.q, list(group.parts)
    c, r = group.c[0], group.r[0]
    c[chain:, chain:], r[chain:] = products.dense[:q, :q], products.dense[:q, q:-1]
    parts += [UnitPlace(t.unit, chain + t.columns.start, t.size, t.levels) for t in products.tails]
    for part, s in zip(group.parts, products.stages):
        if s.crossing is not None:
            across = s.crossing.times(np.eye(q))
        else:
            first = s.right.shape[1] - len(products.dense)
            across = s.right[:, first : first + q]
        c[part.place, chain:] = across.transpose(0, 2, 1).reshape(-1, q)
        c[chain:, part.place] = c[part.place, chain:].T
    return Group(parts, group.c, group.r)


def _group(products: CrossProducts, levels: list[Array], more: int) -> Group:
    """C and R of the chain for ``levels`` (B, L) of each stage, with room for ``more`` effects at the end."""
    stages, p = products.stages, products.p
    parts, at = [], 0
    for s, index in zip(stages, levels):
        parts.append(UnitPlace(s.unit, at, s.size, index.shape[1]))
        at = parts[-1].place.stop
    b = len(levels[0]) if levels else 1
    c, r = np.zeros((b, at + more, at + more)), np.zeros((b, at + more, p))
    batch = np.arange(b)[:, None]
    for part, s, index in zip(parts, stages, levels):
        place = np.arange(part.levels)
        first = s.right.shape[1] - p - 1
        for a in range(s.size):
            row = part.at + a * part.levels + place
            for d in range(s.size):
                c[batch, row, part.at + d * part.levels + place] = s.c[a, d][index]
            r[batch, row] = s.right[a, first : first + p][:, index].transpose(1, 2, 0)
            for g, columns in s.slices.items():
                parent = np.searchsorted(s.starts[g], index, side="right") - 1 - levels[g][:, :1]
                for d in range(parts[g].size):
                    column = parts[g].at + d * parts[g].levels + parent
                    c[batch, row, column] = c[batch, column, row] = s.right[a, columns.start + d][index]
    return Group(parts, c, r)


def directions(criterion: Criterion) -> list[tuple[int, Array]]:
    """The elements of every unit's covariance as directions (unit, E) on the working scale."""
    return [(f, d) for f, s in enumerate(criterion.structures) for d in s.directions]


def linear_moments(e: GaussianPoint) -> Moments:
    """Moments of all free covariance elements; the last direction is V, the residual where a part of V is given, none where errors are known."""
    free = directions(e.criterion)
    if e.criterion.known:
        return moments(e, free).mixed(np.eye(len(free), len(free) + 1))
    if not e.criterion.absolute:
        return moments(e, free)
    fixed = [(f, s.fixed @ s.fixed.T) for f, s in enumerate(e.criterion.structures)]
    to_residual = np.eye(len(free) + 1, len(free) + len(fixed) + 1)
    to_residual[-1] = np.r_[-_elements(e), -np.ones(len(fixed)), 1.0]
    return moments(e, free + fixed).mixed(to_residual)


def _elements(e: GaussianPoint) -> Array:
    """The free covariance elements themselves, in the order of ``directions``."""
    parts = [np.zeros(0)]
    for structure, t in zip(e.criterion.structures, e.factors):
        fixed = structure.fixed * np.exp(-0.5 * e.theta[-1])
        basis = structure.directions.reshape(structure.n_theta, t.size)
        gamma = e.sigma2 * (t @ t.T - fixed @ fixed.T)
        parts.append(np.linalg.lstsq(basis.T, gamma.ravel(), rcond=None)[0])
    return np.concatenate(parts)
