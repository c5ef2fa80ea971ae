"""The picture of ``orchard scout``: an outcome by unit, for five units or five hundred."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.style import BARK, LEAF, PLUM, canvas, name_places
from bold_orchard.results.scout import ScoutPicture, ScoutResult

NAMED = 40  # names that fit along the axis


def scout_figure(result: ScoutResult) -> Figure:
    """Dots of the outcome by unit, units sorted by their mean; middles marked, names while they fit.

    Raises UsageError where there is nothing to draw.
    """
    if not isinstance(result.picture, ScoutPicture):
        raise UsageError(result.picture or "a saved answer of scout has no picture; run orchard scout again")
    outcome, unit, texts = result.picture.outcome, result.picture.unit, result.picture.texts
    values, codes = result.picture.values, result.picture.codes
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
