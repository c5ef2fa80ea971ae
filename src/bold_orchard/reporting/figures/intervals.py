"""The picture of ``orchard intervals``: one small panel for each parameter."""

from __future__ import annotations

import textwrap
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from scipy import special
from scipy.interpolate import PchipInterpolator

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, canvas
from bold_orchard.results.intervals import IntervalsResult

MOST = 12  # panels that fit 1280 x 800
SMOOTH = 200  # points of a curve: smooth at the width of a page


def intervals_figure(d: IntervalsResult) -> Figure:
    """How likely the data make each value beside the best one, or the intervals alone."""
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
        cut = float(np.exp(-0.5 * special.ndtri(0.5 + d["confidence"] / 2) ** 2))
        figure.supylabel(f"likelihood, as a part of the best value's (cut at {cut:.3f})", fontsize=11, color=BARK)
    return figure


def _profile(ax: Axes, row: dict[str, Any], target: float) -> None:
    """The likelihood of each value over that of the best one, exp(-z^2/2), with the height at which the interval is cut."""
    points = np.array(row["profile"])
    _, first = np.unique(points[:, 0], return_index=True)
    points = points[first]
    at = np.linspace(points[0, 0], points[-1, 0], SMOOTH)
    height = (
        np.exp(-0.5 * PchipInterpolator(points[:, 0], points[:, 1])(at) ** 2) if len(points) > 2 else np.ones_like(at)
    )
    cut = float(np.exp(-0.5 * target**2))
    ax.fill_between(at, height, where=height >= cut, color=LEAF, alpha=0.15, linewidth=0)
    ax.plot(at, height, color=LEAF, linewidth=2.5)
    ax.axhline(cut, color=BARK, linewidth=1, linestyle=(0, (4, 3)))
    ax.plot(row["estimate"], 1.0, "o", color=LEAF, markersize=8, markeredgecolor="white")
    for end in (row["low"], row["high"]):
        if end is not None:
            ax.plot([end, end], [0, cut], color=AMBER, linewidth=2.5)
    ax.set_ylim(0.0, 1.09)
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
