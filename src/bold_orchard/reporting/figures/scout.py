"""The picture of ``orchard scout``: an outcome by unit, for five units or five hundred."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure
from numpy.typing import NDArray

from bold_orchard.reporting.figures.style import BARK, LEAF, PLUM, canvas, name_places

NAMED = 40


def scout_figure(
    outcome: str, unit: str, values: NDArray[np.float64], codes: NDArray[np.intp], texts: list[str]
) -> Figure:
    """Dots of ``values`` by unit, units sorted by their mean; boxes' middles marked, names while they fit."""
    keep = np.isfinite(values) & (codes >= 0)
    values, codes = values[keep], codes[keep]
    counts = np.bincount(codes, minlength=len(texts))
    means = np.bincount(codes, values, minlength=len(texts)) / np.maximum(counts, 1)
    present = np.flatnonzero(counts)
    order = present[np.argsort(means[present])]
    place = np.full(len(texts), -1)
    place[order] = np.arange(len(order))
    figure, (ax,) = canvas(1, 1, f"{outcome} by {unit}: {len(order):,} levels sorted by their mean")
    jitter = np.random.default_rng(1).uniform(-0.25, 0.25, len(codes))
    alpha = float(np.clip(60 / np.sqrt(len(values)), 0.12, 0.8))
    size = float(np.clip(20000 / len(values), 4, 26))
    ax.scatter(
        place[codes] + jitter,
        values,
        s=size,
        color=LEAF,
        alpha=alpha,
        linewidths=0,
        rasterized=len(values) > 5000,
    )
    many = len(order) > 120
    ax.plot(range(len(order)), means[order], "-" if many else "_", color=PLUM, markersize=max(4, 500 / len(order)) if not many else 0,
            markeredgewidth=2.5, linewidth=2)  # fmt: skip
    ax.axhline(values.mean(), color=BARK, linewidth=1, linestyle="--")
    if len(order) <= NAMED:
        name_places(ax, [texts[i] for i in order], 150)
    else:
        ax.set_xticks([])
    ax.set(xlabel=f"{unit} (mean of each in plum, of all dashed)", ylabel=outcome)
    return figure
