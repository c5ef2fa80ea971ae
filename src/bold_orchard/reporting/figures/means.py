"""The picture of ``orchard means``: adjusted means with intervals; two factors make lines that may cross."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, PALETTE, canvas, name_places
from bold_orchard.results.means import MeansResult

MOST_CURVES = 12  # panels that fit a page


def means_figure(d: MeansResult) -> Figure:
    """The first factor (or covariate) along the axis, one line for each level of the others."""
    if d.get("curves"):
        return _curves_figure(d)
    outcomes = d.by_outcome()
    parts = [part for own in outcomes for part in own.by_term()]
    what = f"slope of {d['slope']}" if d["slope"] else f"mean {d['outcome']}"
    by = f" by {d['term'].replace('*', ' and ')}" if d["term"] else ""
    across = min(len(parts), 3)
    figure, axes = canvas(-(-len(parts) // across), across, f"Adjusted {what}{by}, {d['name']}: {d['model']}")
    for ax, part in zip(axes, parts):
        _panel(ax, part, f"slope of {d['slope']} on {part['outcome']}" if d["slope"] else f"mean {part['outcome']}")
    _one_scale(axes, [part["outcome"] for part in parts])
    return figure


def _curves_figure(d: MeansResult) -> Figure:
    """A panel for each pair: its difference along the number, the bands, and a strip under the regions where the two differ."""
    made = d["curves"]
    shown, across = made[:MOST_CURVES], min(len(made), 3)
    more = f" ({len(made) - len(shown)} more pairs not shown)" if len(made) > len(shown) else ""
    percent = f"{100 * d['confidence']:g}%"
    title = (
        f"Differences of {d['outcome']} along {made[0]['column']}, {percent} bands of each point and of all curves together; "
        f"strip: they differ; dotted: ends of rows of both{more}, {d['name']}: {d['model']}"
    )
    figure, axes = canvas(-(-len(shown) // across), across, title)
    for ax, c in zip(axes, shown):
        x = np.array(c["x"])
        for low, high, alpha in (("low_simultaneous", "high_simultaneous", 0.12), ("low", "high", 0.2)):
            ax.fill_between(x, c[low], c[high], color=LEAF, alpha=alpha, linewidth=0)
        ax.plot(x, c["difference"], color=LEAF, linewidth=2.5)
        ax.axhline(0.0, color=BARK, linewidth=1)
        for region in c["regions"]:
            ax.axvspan(region["low"], region["high"], ymax=0.03, color=AMBER, linewidth=0)
        inside = [end for end in c["seen"] or [] if x[0] < end < x[-1]]
        for end in inside:
            ax.axvline(end, color=BARK, linewidth=1, linestyle=":")
        ax.margins(x=0)
        of = f"{c['outcome']}: " if "outcome" in c else ""
        ax.set(xlabel=c["column"], ylabel=f"{of}{c['a']} vs {c['b']}")
    _one_scale(axes, [c.get("outcome", "") for c in shown])
    return figure


def _one_scale(axes: Any, outcomes: list[str]) -> None:
    """The same range of y in all panels of one outcome; panels beyond are left blank."""
    limits = [ax.get_ylim() for ax in axes[: len(outcomes)]]
    for ax, outcome in zip(axes, outcomes):
        own = [ends for ends, other in zip(limits, outcomes) if other == outcome]
        ax.set_ylim(min(low for low, _ in own), max(high for _, high in own))
    for ax in list(axes)[len(outcomes) :]:
        ax.set_axis_off()


def _panel(ax: Axes, d: MeansResult, what: str) -> None:
    names = list(d["means"][0]["levels"])
    first, others = names[0], names[1:]
    told = [m for m in d["means"] if m["ci"]]
    ticks = list(dict.fromkeys(str(m["levels"][first]) for m in d["means"]))
    lines = list(dict.fromkeys(tuple(m["levels"][o] for o in others) for m in d["means"]))
    shift = np.linspace(-0.04, 0.04, len(lines)) if len(lines) > 1 else [0.0]
    for k, line in enumerate(lines):
        rows = [m for m in told if tuple(m["levels"][o] for o in others) == line]
        x = np.array([ticks.index(str(m["levels"][first])) for m in rows]) + shift[k]
        colour = PALETTE[k % len(PALETTE)]
        for at, m in zip(x, rows):
            ax.plot([at, at], m["ci"], color=colour, linewidth=3, solid_capstyle="butt")
            if "letters" in m:
                ax.annotate(
                    m["letters"], (at, m["ci"][1]), (0, 4), textcoords="offset points", ha="center", color=colour
                )
        label = ", ".join(f"{o} {v}" for o, v in zip(others, line)) if others else None
        ax.plot(x, [m["mean"] for m in rows], "o-" if others else "o", color=colour, markersize=10, markeredgecolor="white",
                linewidth=1.2, label=label)  # fmt: skip
    _unit_lines(ax, d, first, ticks, [tuple(m["levels"][o] for o in others) for m in d["means"]], lines, shift)
    name_places(ax, ticks, 150)
    ax.set_xlim(-0.6, len(ticks) - 0.4)
    if others:
        ax.legend(frameon=False, loc="best")
    ax.set(xlabel=first, ylabel=f"{what}, with {100 * d['confidence']:g}% interval")


def _unit_lines(
    ax: Axes,
    d: MeansResult,
    first: str,
    ticks: list[str],
    own: list[tuple[Any, ...]],
    lines: list[tuple[Any, ...]],
    shift: Any,
) -> None:
    """Thin lines of the units that differ in the term, behind the means."""
    for number, unit in enumerate(d.get("units", [])):
        for k, line in enumerate(lines):
            cells = [(ticks.index(str(m["levels"][first])) + shift[k], v) for m, v, o in zip(d["means"], unit["means"], own)
                     if o == line and v is not None]  # fmt: skip
            label = f"each {unit['unit']}" if number == 0 and k == 0 else None
            ax.plot([x for x, _ in cells], [v for _, v in cells], "-o", color=PALETTE[k % len(PALETTE)], linewidth=0.8, markersize=2.5,
                    alpha=0.35, zorder=1, label=label)  # fmt: skip
    if d.get("units") and len(lines) == 1:
        ax.legend(frameon=False, loc="best")
