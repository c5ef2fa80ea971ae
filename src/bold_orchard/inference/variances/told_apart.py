"""Whether covariance parameters can be told apart at all, whatever the outcome: the rank of what they do to V.

V must change in a way of its own with every parameter, beyond what the fixed part takes up (under REML): the matrices M dV_i M, M the
projection off X, are to be linearly independent at a point inside. That is a matter of the design alone, so it says nothing of
a parameter at its edge, and a likelihood that ends at an edge is not taken for one that is flat.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.design.residual import sorted_rows
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.arrays import row_order
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.likelihood.gaussian import Criterion

Array = NDArray[Any]
SIZES = (150, 500, 1200)  # rows looked at: what some tell apart, all do
MOST = 60_000_000  # entries of all changes of V held at once (480 MB)
FLAT = 1e-9  # of the largest eigenvalue of the scaled products; exact zeros come out near 1e-16
INSIDE = 0.31  # alpha on which SDs depend, where the change is looked at: any point inside serves
MOST_LEVELS = 10_000  # among which patterns of times are looked for


def null_direction(design: Design, reml: bool) -> tuple[Criterion, Array] | None:
    """A combination of (covariance elements by unit, phi, alpha, sigma^2) that changes nothing, with the criterion it is of; or None."""
    found = None
    for size in SIZES:
        keep = _rows(design, size)
        part = design if len(keep) == len(design.y) else some_rows(design, keep)
        try:
            criterion = make_criterion(part, reml, few=True)
        except OrchardError:
            continue
        if len(keep) ** 2 * (len(criterion.bounded) + 1) > MOST:
            return None
        found = _null(part, criterion)
        if found is None or len(keep) == len(design.y):
            return None if found is None else (criterion, found)
    return None  # no verdict on more rows than can be looked at


def _rows(design: Design, size: int) -> NDArray[np.intp]:
    """Whole levels of the unit of the residuals, one of every pattern of times first, up to about ``size`` rows."""
    n = len(design.y)
    if n <= size:
        return np.arange(n)
    residual = design.residual
    codes = (
        residual.codes
        if residual.codes is not None and not design.outcomes
        else max((u.codes for u in design.groups), key=lambda c: c.max(), default=np.arange(n))
    )
    time = np.zeros(n) if residual.time is None or design.outcomes else residual.time
    order = sorted_rows(codes, time)
    starts = np.flatnonzero(np.diff(codes[order], prepend=-1))
    seen: dict[bytes, int] = {}
    rank = []
    stop = starts[MOST_LEVELS] if len(starts) > MOST_LEVELS else n
    for level, rows in enumerate(np.split(order[:stop], starts[1:MOST_LEVELS])):
        key = time[rows].tobytes()
        seen[key] = seen.get(key, 0) + 1
        rank.append((seen[key], level, rows))
    taken, total = [], 0
    for _, _, rows in sorted(rank, key=lambda r: r[:2]):
        if total and total + len(rows) > size:
            break
        taken.append(rows)
        total += len(rows)
    return np.sort(np.concatenate(taken))


def _null(design: Design, c: Criterion) -> Array | None:
    changes = np.array(_changes(design, c))
    if c.reml and c.products.p:
        kept = c.products.standard.kept
        x = np.column_stack([design.fixed.values[k] for k in kept])
        q = np.linalg.qr(x / np.linalg.norm(x, axis=0))[0]
        off = np.eye(len(x)) - q @ q.T
        left = off @ changes @ off
    else:
        left = changes
    sizes = np.linalg.norm(changes, axis=(1, 2))
    empty = np.linalg.norm(left, axis=(1, 2)) <= np.sqrt(FLAT) * sizes
    if empty.any():
        return empty.astype(float)
    flat = left.reshape(len(left), -1) / np.linalg.norm(left, axis=(1, 2))[:, None]
    values, vectors = np.linalg.eigh(flat @ flat.T)
    if values[0] > FLAT * values[-1]:
        return None
    return np.asarray(vectors[:, 0] / np.abs(vectors[:, 0]).max())


def _changes(design: Design, c: Criterion) -> list[Array]:
    """dV of every parameter, each (n, n)."""
    n = len(design.y)
    root = np.ones(n) if design.weights is None else 1.0 / np.sqrt(design.weights)
    out, alphas = [], []
    for f, structure in enumerate(c.structures):
        block, columns = (
            design.blocks[f],
            [v for clause in design.clauses if clause.block == f for v in clause.part.values],
        )
        z = np.linalg.solve(c.products.z_to_work[f].T, np.array(columns)).T  # (n, k)
        mix = block.relationship_factor
        alike = (
            (block.unit.codes[:, None] == block.unit.codes)
            if mix is None
            else (mix @ mix.T)[np.ix_(block.unit.codes, block.unit.codes)]
        )
        grown = np.ones_like(z)
        if c.vary is not None:
            alpha = np.full(c.vary.size, INSIDE)
            grown = c.vary.scales(alpha, f, structure.size, c.products.units[f].levels)[:, block.unit.codes].T
        out += [alike * ((z * grown) @ d @ (z * grown).T) for d in structure.directions]
        if c.vary is not None:
            alphas.append((f, z, alike, structure))
    out += _of_rows(design, c, root)
    out += _of_alpha(design, c, alphas)
    return [*out, _residual(design, c, None) * np.outer(root, root)]


def _residual(design: Design, c: Criterion, phi: Array | None) -> Array:
    """R / sigma^2 in the order of the design's rows, at the start or at ``phi``."""
    if c.correlated is None:
        return np.eye(len(design.y))
    rows = c.correlated.rows
    made = rows.dense(rows.start if phi is None else phi)
    order = row_order(design.residual)
    if order is None:
        return made
    out = np.empty_like(made)
    out[np.ix_(order, order)] = made
    return out


def _of_rows(design: Design, c: Criterion, root: Array) -> list[Array]:
    if c.correlated is None:
        return []
    start, h = c.correlated.rows.start, 1e-5
    return [
        (_residual(design, c, start + h * e) - _residual(design, c, start - h * e)) / (2 * h) * np.outer(root, root) for e in np.eye(len(start))
    ]  # fmt: skip


def _of_alpha(design: Design, c: Criterion, units: list[tuple[int, Array, Array, Any]]) -> list[Array]:
    """dV of what SDs of effects depend on."""
    if c.vary is None:
        return []
    alpha, h, out = np.full(c.vary.size, INSIDE), 1e-5, []
    for e in np.eye(len(alpha)):
        total = np.zeros((len(design.y), len(design.y)))
        for f, z, alike, structure in units:
            ends = []
            for side in (h, -h):
                grown = (
                    z
                    * c.vary.scales(alpha + side * e, f, structure.size, c.products.units[f].levels)[
                        :, design.blocks[f].unit.codes
                    ].T
                )
                ends.append(alike * (grown @ grown.T))
            total += (ends[0] - ends[1]) / (2 * h)
        out.append(total)
    return out
