"""The picture of ``orchard intervals``: one small panel for each parameter."""

from __future__ import annotations

import textwrap
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy import special

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, canvas
from bold_orchard.results.intervals import IntervalsResult

MOST = 12  # panels that fit 1280 x 800


def intervals_figure(d: IntervalsResult) -> Figure:
    """Profiles as signed roots of the deviance's rise (straight where the normal serves), or the intervals alone."""
    rows = [r for r in d["parameters"] if r["estimate"] is not None]
    left_out = len(rows) - MOST
    rows = rows[:MOST]
    columns = min(3, len(rows))
    more = f" (the first {MOST}; {left_out} more in the table)" if left_out > 0 else ""
    figure, axes = canvas(
        -(-len(rows) // columns), columns, f"{100 * d['confidence']:g}% {d['method']} intervals, {d['name']}{more}"
    )
    for ax, row in zip(axes, rows):
        ax.set_title(textwrap.fill(row["parameter"], 40), fontsize=11)
        if "profile" in row:
            _profile(ax, row, float(special.ndtri(0.5 + d["confidence"] / 2)))
        else:
            _interval(ax, row)
    for ax in axes[len(rows) :]:
        ax.set_visible(False)
    if "profile" in rows[0]:
        figure.supylabel("signed root of the rise in deviance", fontsize=11, color=BARK)
    return figure


def _profile(ax: Axes, row: dict[str, Any], target: float) -> None:
    points = np.array(row["profile"])
    points = points[np.argsort(points[:, 1])]
    ax.plot(points[:, 0], points[:, 1], color=LEAF, linewidth=2.5)
    ax.plot(row["estimate"], 0, "o", color=LEAF, markersize=8, markeredgecolor="white")
    for side, end in ((-1, row["low"]), (1, row["high"])):
        ax.axhline(side * target, color=BARK, linewidth=1, linestyle=(0, (4, 3)))
        if end is not None:
            ax.plot([end, end], [0, np.interp(end, points[:, 0], points[:, 1])], color=AMBER, linewidth=1.5)
    ends = [v for v in (row["low"], row["high"]) if v is not None]
    if len(ends) == 2:
        ax.plot(ends, [0, 0], color=AMBER, linewidth=4, solid_capstyle="butt", zorder=1.5)
    ax.set_ylim(-1.35 * target, 1.35 * target)
    ax.locator_params(axis="x", nbins=5)


def _interval(ax: Axes, row: dict[str, Any]) -> None:
    low = row["estimate"] if row["low"] is None else row["low"]
    high = row["estimate"] if row["high"] is None else row["high"]
    ax.plot([low, high], [0, 0], color=AMBER, linewidth=5, solid_capstyle="butt")
    ax.plot(row["estimate"], 0, "o", color=LEAF, markersize=11, markeredgecolor="white")
    if min(low, row["estimate"]) <= 0 <= max(high, row["estimate"]):
        ax.axvline(0, color=BARK, linewidth=1, linestyle=(0, (4, 3)))
    ax.set_yticks([])
    ax.spines["left"].set_visible(False)
    ax.set_ylim(-1, 1)
    ax.margins(x=0.15)
    ax.locator_params(axis="x", nbins=5)
