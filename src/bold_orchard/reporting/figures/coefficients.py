"""Estimates with their intervals, terms down the page: of ``orchard fit``, and of several fits side by side."""

from __future__ import annotations

from typing import Any

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import BARK, PALETTE, canvas, short

MARKS = "osD^v"
# terms that may have a scale each; ratio of widths beyond which one scale hides the smaller
MOST_SCALES, UNLIKE = 10, 12.0


def coefficients_figure(title: str, rows: list[dict[str, Any]], what: str) -> Figure:
    """Terms down the page, fits side by side; a scale for each term where one would hide some.

    ``rows`` have term, label, fit, estimate, low and high; ``what`` names the axis.
    """
    rows = [r | {k: r["estimate"] if r[k] is None else r[k] for k in ("low", "high")} for r in rows]
    terms, fits = (list(dict.fromkeys(r[k] for r in rows)) for k in ("term", "fit"))
    uneven, scale = unlike(rows), ""
    if uneven and len(terms) > MOST_SCALES:
        own_width = {r["term"]: (r["high"] - r["low"]) / 2 for r in reversed(rows)}
        rows = [r | {k: r[k] / (own_width[r["term"]] or 1.0) for k in ("estimate", "low", "high")} for r in rows]
        scale = f", in half-widths of the interval of {fits[0]}: beyond 1 it is clear of zero"
    if uneven and 1 < len(terms) <= MOST_SCALES:
        figure, axes = canvas(len(terms), 1, title)
        places = [[t] for t in terms]
    else:
        height = max(8.0, 0.3 * len(terms) * (1 + 0.35 * len(fits)) + 2)
        figure, axes = canvas(1, 1, title, height=height)
        places = [terms]
    for ax, own in zip(axes, places):
        _coefficients(ax, [r for r in rows if r["term"] in own], own, fits)
    axes[-1].set(xlabel=what + (", a scale for each term" if len(axes) > 1 else scale))
    if len(fits) > 1:
        handles, names = axes[0].get_legend_handles_labels()
        figure.legend(handles, names, frameon=False, loc="outside upper right", ncols=len(fits))
    return figure


def unlike(rows: list[dict[str, Any]]) -> bool:
    """Whether one scale would hide the smallest of the terms."""
    spans: dict[str, float] = {}
    for r in rows:
        ends = [abs(r[k]) for k in ("estimate", "low", "high") if r[k] is not None]
        spans[r["term"]] = max(spans.get(r["term"], 0.0), *ends)
    return max(spans.values()) > UNLIKE * max(min(spans.values()), 1e-300)


def _coefficients(ax: Axes, rows: list[dict[str, Any]], terms: list[str], fits: list[str]) -> None:
    labels = {r["term"]: r["label"] for r in rows}
    step = min(0.7 / len(fits), 0.22)
    ax.axvline(0.0, color=BARK, linewidth=1)
    for k, name in enumerate(fits):
        colour, mark = PALETTE[k % len(PALETTE)], MARKS[k % len(MARKS)]
        for r in (r for r in rows if r["fit"] == name):
            y = len(terms) - 1 - terms.index(r["term"]) - step * (k - (len(fits) - 1) / 2)
            ax.plot([r["low"], r["high"]], [y, y], color=colour, linewidth=3, solid_capstyle="butt")
            ax.plot(r["estimate"], y, mark, color=colour, markersize=9, markeredgecolor="white")
        ax.plot([], [], mark + "-", color=colour, linewidth=3, markersize=9, markeredgecolor="white", label=name)
    ax.set_yticks(range(len(terms)), [short(labels[t], 48) for t in reversed(terms)])
    ax.set_ylim(-0.6, len(terms) - 0.4)
    ax.margins(x=0.08)
