"""The picture of ``orchard compare``: how far each model stands from the best, and what each says about the data."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, PALETTE, canvas, short
from bold_orchard.results.compare import CompareResult, Lines

MOST_DOTS = 3000  # dots that are still seen apart
DASHES: Any = ("-", (0, (6, 3)), (0, (2, 2)), (0, (6, 2, 2, 2)))


def compare_figure(result: CompareResult) -> Figure:
    """AIC and BIC less the best one's; beside them the average lines of all models over the data."""
    d, lines = result.document, result.lines
    title = f"How far from the best? {len(d['models'])} models on {d['rows']:,} rows, by {d['method']}"
    figure, axes = canvas(1, 1 if lines is None else 2, title)
    _criteria(axes[0], d)
    if lines is not None:
        _lines(axes[1], lines, d["outcome"])
    return figure


def _criteria(ax: Axes, d: dict[str, Any]) -> None:
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
