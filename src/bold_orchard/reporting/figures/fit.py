"""The picture of ``orchard fit``: average effects with their intervals."""

from __future__ import annotations

from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import BARK, LEAF, canvas, short
from bold_orchard.results.fit import FitResult


def fit_figure(d: FitResult) -> Figure:
    """Estimates and intervals of all terms but the intercept, in the order of the sentence."""
    rows = [r for r in d.coefficient_rows if r["estimate"] is not None and r["term"] != "intercept"]
    rows = rows or [r for r in d.coefficient_rows if r["estimate"] is not None]
    height = max(8.0, 0.45 * len(rows) + 2)
    figure, (ax,) = canvas(1, 1, f"Average effects, {d['name']}: {d['model']}", height=height)
    ax.axvline(0.0, color=BARK, linewidth=1)
    for y, r in enumerate(reversed(rows)):
        ax.plot(r["ci"], [y, y], color=LEAF, linewidth=3, solid_capstyle="butt")
        ax.plot(r["estimate"], y, "o", color=LEAF, markersize=10, markeredgecolor="white")
    ax.set_yticks(range(len(rows)), [short(r["label"], 40) for r in reversed(rows)])
    ax.set_ylim(-0.6, len(rows) - 0.4)
    ax.set(xlabel=f"effect on {d['outcome']}, with {100 * d['confidence']:g}% interval")
    return figure
