"""Which columns are missing together, and whether gaps go with the values of other columns."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.data.columns import Texts
from bold_orchard.data.table import Table

MOST_PATTERNS, MOST_RELATED = 8, 6
MOST_LEVELS = 20  # of a category by which gaps are looked at
FEWEST = 10  # gaps of a column, and values it has, below which nothing is said
LEVEL = 0.01  # of all comparisons together


def patterns(table: Table) -> list[dict[str, Any]]:
    """Sets of columns that are missing in the same rows, the commonest first, and how many rows lack them."""
    columns, masks = _masks(table)
    if not columns:
        return []
    made, counts = np.unique(masks, axis=0, return_counts=True)
    order = np.argsort(-counts, kind="stable")
    found = [{"missing": [c for c, m in zip(columns, made[i]) if m], "rows": int(counts[i])} for i in order]
    return [f for f in found if f["missing"]][:MOST_PATTERNS]


def related(table: Table) -> list[dict[str, Any]]:
    """Columns with gaps and others by whose values these differ, the surest first; rows are taken as independent, p corrected for their number."""
    columns, masks = _masks(table)
    found: list[dict[str, Any]] = []
    tried = 0
    for k, name in enumerate(columns):
        gap = masks[:, k]
        if not FEWEST <= gap.sum() <= len(gap) - FEWEST:
            continue
        for other in (c for c in table.columns if c != name and table.kind(c) != "empty"):
            made = _sides(table, other, gap)
            if made is None:
                continue
            tried += 1
            p, sides = made
            found.append({"column": name, "by": other, "p": p, "sides": sides})
    sure = [f | {"p": min(f["p"] * tried, 1.0)} for f in found if f["p"] * tried < LEVEL]
    return sorted(sure, key=lambda f: f["p"])[:MOST_RELATED]


def _masks(table: Table) -> tuple[list[str], NDArray[np.bool_]]:
    """Columns with gaps, and where these are, (n, columns)."""
    made = {c: table.is_missing(c) for c in table.columns if table.kind(c) != "empty"}
    made = {c: m for c, m in made.items() if m.any()}
    return list(made), np.stack(list(made.values()), axis=1) if made else np.zeros((len(table), 0), dtype=bool)


def _sides(table: Table, other: str, gap: NDArray[np.bool_]) -> tuple[float, list[dict[str, Any]]] | None:
    """p of the gaps' independence of another column, by chi-squared of halves or levels, and the shares that are missing there."""
    there = ~table.is_missing(other)
    if isinstance(table.column(other), Texts):
        texts, place = table.labels(other).ordered
        if not 2 <= len(texts) <= MOST_LEVELS:
            return None
        codes = place[np.maximum(table.labels(other).codes, 0)][there]
    else:
        values = table.numbers(other)[there]
        middle = np.median(values) if len(values) else 0.0
        texts = [f"up to {middle:g}", f"above {middle:g}"]
        codes = (values > middle).astype(np.intp)
    counts = np.bincount(codes, minlength=len(texts))
    lost = np.bincount(codes, gap[there], minlength=len(texts))
    if (counts < FEWEST).any() or not 0 < lost.sum() < counts.sum():
        return None
    share = lost.sum() / counts.sum()
    chisq = float((((lost - counts * share) ** 2) / (counts * share * (1 - share))).sum())
    p = float(special.chdtrc(len(texts) - 1, chisq))
    rates = lost / counts
    ends = [int(rates.argmin()), int(rates.argmax())] if len(texts) > 2 else [0, 1]
    return p, [{"side": texts[i], "share": float(rates[i])} for i in ends]
