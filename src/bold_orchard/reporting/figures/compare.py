"""The picture of ``orchard compare``: how far each model stands from the best, and what each says about the data."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import Figure

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, PALETTE, PLUM, canvas, short
from bold_orchard.results.base import Result
from bold_orchard.results.compare import CompareResult, Lines

MOST_DOTS = 3000  # dots that are still seen apart
DASHES: Any = ("-", (0, (6, 3)), (0, (2, 2)), (0, (6, 2, 2, 2)))


def compare_figure(result: CompareResult) -> Figure:
    """AIC and BIC less the best one's; beside them the average lines of all models over the data."""
    d, lines = result, result.lines
    if all(m["aic"] is None for m in d["models"]):
        raise UsageError("pooled fits have no AIC or BIC to draw; leave --figure out")
    if d.get("leave_out"):
        return _left_out(d)
    title = f"How far from the best? {len(d['models'])} models on {d['rows']:,} rows, by {d['method']}"
    if lines is not None and lines.units:
        return _with_units(title, d, lines)
    figure, axes = canvas(1, 1 if lines is None else 2, title)
    _criteria(axes[0], d)
    if lines is not None:
        _lines(axes[1], lines, d["outcome"])
    return figure


def _left_out(d: Result) -> Figure:
    """Beside the criteria each unit's score by every model, less that of the model with the best sum."""
    made = d["leave_out"]
    what = "rows" if made[0]["unit"] == "rows" else f"units of {made[0]['unit']}"
    figure, axes = canvas(1, 2, f"How well are {what} foretold that a fit has not seen? {made[0]['folds']:,} folds")
    _criteria(axes[0], d)
    best = max(made, key=lambda r: r["log_score"])
    scores = np.array([v["log_score"] for v in best["levels"]])
    order = np.argsort(scores)
    for i, r in enumerate(made):
        if r is not best:
            less = np.array([v["log_score"] for v in r["levels"]]) - scores
            axes[1].plot(
                less[order],
                np.arange(len(order)),
                "o",
                color=PALETTE[i % len(PALETTE)],
                label=f"{short(r['name'], 30)}: {less.sum():+.1f} in all",
            )
    axes[1].axvline(0, color=BARK, linewidth=1)
    names = [short(best["levels"][i]["level"], 24) for i in order]
    shown = np.arange(0, len(names), max(1, len(names) // 40))
    axes[1].set_yticks(shown, [names[i] for i in shown], fontsize=9)
    axes[1].set(
        xlabel=f"log score less that of {short(best['name'], 40)} (left of the line: worse)",
        title=f"each {made[0]['unit']}",
    )
    if len(made) > 1:
        axes[1].legend(frameon=False)
    return figure


def _with_units(title: str, d: Result, lines: Lines) -> Figure:
    """Below the criteria and the average lines a panel for each model with the lines of the same units."""
    figure, axes = canvas(1, 1, title)
    grid: Any = axes[0].get_gridspec()
    axes[0].remove()
    upper, lower = grid[0].subgridspec(2, 1, height_ratios=(1, 1.1))
    top: Any = upper.subgridspec(1, 2).subplots()
    _criteria(top[0], d)
    _lines(top[1], lines, d["outcome"])
    below: Any = lower.subgridspec(1, len(lines.units)).subplots(sharex=True, sharey=True, squeeze=False)[0]
    for i, (ax, (name, drawn)) in enumerate(zip(below, lines.units.items())):
        ax.add_collection(LineCollection([np.column_stack(v) for v in drawn], colors=LEAF, alpha=0.6, linewidths=1.4))
        ax.plot(lines.at, lines.lines[name], color=PLUM, linewidth=3)
        ax.autoscale_view()
        ax.set(title=f"The units' own lines by {short(name, 90 // len(below))}", xlabel=lines.covariate,
               ylabel=d["outcome"] if i == 0 else "")  # fmt: skip
    return figure


def _criteria(ax: Axes, d: Result) -> None:
    models = list(reversed(d["models"]))
    for offset, key, colour, label in ((0.18, "delta_aic", LEAF, "AIC"), (-0.18, "delta_bic", AMBER, "BIC")):
        places = [y + offset for y in range(len(models))]
        bars = ax.barh(places, [m[key] for m in models], height=0.32, color=colour, label=label)
        ax.bar_label(bars, [f"{m[key]:.1f}" for m in models], padding=4)
    ax.set_yticks(range(len(models)), [short(m["name"], 30) for m in models])
    ax.margins(x=0.14)
    ax.legend(frameon=False)
    ax.set(xlabel="less the best model's (0 is best, smaller is better)")


def _lines(ax: Axes, lines: Lines, outcome: str) -> None:
    shown = np.arange(len(lines.x))
    if len(shown) > MOST_DOTS:
        shown = np.random.default_rng(0).choice(shown, MOST_DOTS, replace=False)
    ax.plot(lines.x[shown], lines.y[shown], "o", color=BARK, markersize=4, alpha=max(0.12, 0.5 - len(shown) / 6000),
            markeredgewidth=0)  # fmt: skip
    for i, (name, line) in enumerate(lines.lines.items()):
        ax.plot(
            lines.at, line, color=PALETTE[i % len(PALETTE)], linewidth=3, linestyle=DASHES[i % len(DASHES)], label=name
        )
    ax.legend(frameon=False)
    ax.set(xlabel=lines.covariate, ylabel=outcome, title="Average line of each model over the data")
