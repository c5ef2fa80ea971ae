"""How residuals spread: across units, along the fitted values, and between the levels of a unit that the model lacks."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.crossproducts.by_level import Piece, laid
from bold_orchard.threads import at_once

Array = NDArray[Any]


def brown_forsythe(values: Array, codes: NDArray[np.intp]) -> dict[str, Any] | None:
    """Brown & Forsythe (1974): F test of |value - median of its group|; groups of one row are left out.

    None where no group has three rows: the two of a pair lie equally far from their median, and nothing is left to compare with.
    """
    counts = np.bincount(codes)
    keep = counts[codes] > 1
    if counts.max(initial=0) < 3:
        return None
    distance = np.abs(values - _medians(values, codes, counts)[codes])[keep]
    groups = np.cumsum(np.bincount(codes[keep], minlength=len(counts)) > 0)[codes[keep]] - 1
    n, k = len(distance), int(groups.max()) + 1
    if k < 2 or n <= k:
        return None
    return {"test": "Brown-Forsythe"} | _one_way(distance, groups, n, k)


def between_units(values: Array, codes: NDArray[np.intp]) -> dict[str, Any] | None:
    """One-way analysis of variance of residuals by the levels of a unit; None where no level has two rows, or there is one."""
    k = int(codes.max()) + 1
    if k < 2 or len(values) <= k:
        return None
    return {"test": "analysis of variance"} | _one_way(values, codes, len(values), k)


def _one_way(values: Array, codes: NDArray[np.intp], n: int, k: int) -> dict[str, Any]:
    sizes = np.bincount(codes)
    means = np.bincount(codes, values) / sizes
    between = float(sizes @ (means - values.mean()) ** 2) / (k - 1)
    within = float(((values - means[codes]) ** 2).sum()) / (n - k)
    value = between / within if within > 0 else np.inf
    return {"value": value, "num_df": k - 1, "den_df": n - k, "p": float(special.fdtrc(k - 1, n - k, value))}


def spread_by_fitted(standardised: Array, fitted: Array) -> dict[str, Any] | None:
    """Rank correlation of absolute residuals with the fitted values (Spearman 1904), normal approximation."""
    n = len(fitted)
    if n < 10 or float(np.ptp(fitted)) == 0 or float(np.ptp(standardised)) == 0:
        return None
    a, b = at_once(_ranks, [np.abs(standardised), fitted])
    r = float(np.corrcoef(a, b)[0, 1])
    return {"test": "Spearman", "value": r, "p": float(2.0 * special.ndtr(-abs(r) * np.sqrt(n - 1.0)))}


def _medians(values: Array, codes: NDArray[np.intp], counts: Array) -> Array:
    """The median of every group, (groups,); of one without rows it means nothing."""
    order, pieces = laid(codes, len(counts))
    out = np.zeros(len(counts))

    def work(piece: Piece) -> None:
        rows = values[order[piece.rows]]
        for block in piece.blocks:
            own = rows[block.rows]
            if block.counts is None:
                ordered = np.sort(own.reshape(block.count, -1).T, axis=1)
                out[block.levels] = (ordered[:, (block.count - 1) // 2] + ordered[:, block.count // 2]) / 2.0
            else:
                parts = np.split(own, np.cumsum(block.counts)[:-1])
                out[block.levels] = [np.median(part) for part in parts]

    at_once(work, pieces)
    return out


def _ranks(values: Array) -> Array:
    """Ranks from 1, equal values at the mean of theirs, (n,)."""
    order = np.argsort(values)
    ordered = values[order]
    out, new = np.empty(len(values)), np.append(True, ordered[1:] != ordered[:-1])
    if new.all():
        out[order] = np.arange(1.0, len(values) + 1.0)
        return out
    first = np.flatnonzero(new)
    counts = np.diff(np.append(first, len(values)))
    out[order] = np.repeat(first + (counts + 1) / 2.0, counts)
    return out
