"""Autocorrelation of residuals inside units, with gaps in time honoured."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.data.table import Table
from bold_orchard.design.design import UnitCodes
from bold_orchard.errors import OrchardError

Array = NDArray[Any]
MOST_LAGS = 8  # lags that a picture shows apart
# permutations of the null law; values shuffled in all, about a second; pairs that a correlation needs
SHUFFLES, WORK, FEWEST = 300, 3_000_000, 30


def times(table: Table, column: str) -> Array:
    """A time column as numbers (n,), NaN where missing; labels (dates too) count by their natural order."""
    if table.kind(column) == "number":
        return table.numbers(column)
    labels = table.labels(column)
    order = np.append(labels.ordered[1], -1).astype(float)[labels.codes]
    return np.where(labels.codes >= 0, order, np.nan)


def autocorrelation(values: Array, unit: UnitCodes, time: Array, column: str, seed: int) -> dict[str, Any]:
    """Correlation of residuals at each gap in time, and a test of the first gap against shuffled times.

    Residuals of one unit at one time are averaged first. Gaps count in the smallest gap of the data. The null law is that
    of residuals shuffled inside their units, which have the same bias as ours: effects taken out of few rows leave residuals
    that are a little negatively correlated. Raises OrchardError when no unit has two times.
    """
    use = np.flatnonzero(np.isfinite(time) & np.isfinite(values))
    order = use[np.lexsort((time[use], unit.codes[use]))]
    codes, t, e = unit.codes[order], time[order], values[order]
    new = np.append(True, (np.diff(codes) != 0) | (np.diff(t) != 0)) if len(order) else np.zeros(0, bool)
    starts = np.flatnonzero(new)
    tied = len(starts) < len(order)
    e = np.add.reduceat(e, starts) / np.diff(np.append(starts, len(order))) if len(starts) else e
    codes, t = codes[starts], t[starts]
    same = np.diff(codes) == 0
    if not same.any():
        raise OrchardError(f"no {unit.name} has rows at two values of {column}; give another --time or --unit")
    gap = float(np.diff(t)[same].min())
    pairs = [_pairs(codes, t, gap, k) for k in range(1, MOST_LAGS + 1)]
    lags = []
    for lag in range(1, MOST_LAGS + 1):
        i, j = (np.concatenate([p[s][p[2] == lag] for p in pairs]) for s in (0, 1))
        if len(i) >= FEWEST or (lag == 1 and len(i)):
            lags.append({"lag": lag, "gap": lag * gap, "pairs": len(i), "correlation": _correlation(e, i, j)})
    p, expected = _shuffled(e, codes, pairs[0], seed)
    return {"time": column, "unit": unit.name, "averaged": tied, "lags": lags, "expected": expected, "p": p}


def _pairs(codes: Array, t: Array, gap: float, k: int) -> tuple[Array, Array, Array]:
    """Places k apart in one unit, and the gap between them in whole smallest gaps (-1 where it is none)."""
    i = np.flatnonzero(codes[k:] == codes[:-k])
    distance = (t[i + k] - t[i]) / gap
    whole = np.round(distance)
    return i, i + k, np.where(np.abs(distance - whole) < 1e-6, whole, -1.0)


def _correlation(e: Array, i: Array, j: Array) -> float | None:
    scale = float((e**2).mean())
    return float((e[i] * e[j]).mean() / scale) if scale > 0 else None


def _shuffled(e: Array, codes: Array, neighbours: tuple[Array, Array, Array], seed: int) -> tuple[float | None, float]:
    """p of the neighbours' product by a normal law with the moments of shuffled residuals, and its expected correlation."""
    i, j, _ = neighbours
    rng = np.random.default_rng(seed)
    many = int(np.clip(WORK / len(e), 40, SHUFFLES))
    made = np.empty(many)
    for s in range(many):
        moved = e[np.lexsort((rng.random(len(e)), codes))]
        made[s] = moved[i] @ moved[j]
    seen, sd = float(e[i] @ e[j]), float(made.std(ddof=1))
    scale = float((e**2).mean()) * len(i)
    if not (sd > 0 and scale > 0):
        return None, 0.0
    return float(2.0 * special.ndtr(-abs(seen - float(made.mean())) / sd)), float(made.mean()) / scale
