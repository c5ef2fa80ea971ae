"""The picture of ``orchard anova``: means of each fixed factor and of pairs of them, random levels as thin lines."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.style import BARK, LEAF, PALETTE, canvas, name_places, short
from bold_orchard.results.anova import AnovaResult

MOST_PANELS = 6  # that fit 1280 x 800
MOST_LINES = 60  # of levels that are still told apart


def anova_figure(result: AnovaResult) -> Figure:
    """One panel a factor, one a pair; raises UsageError where a saved answer lacks the rows."""
    p = result.picture
    if p is None:
        raise UsageError("a saved answer of anova has no rows to draw; run orchard anova again")
    if not p.factors:
        raise UsageError("there is no fixed factor to draw means of; try orchard groups FIT --figure")
    pairs = (
        list(itertools.permutations(range(len(p.factors)), 2))
        if len(p.factors) == 2
        else list(itertools.combinations(range(len(p.factors)), 2))
    )
    panels: list[tuple[int, int | None]] = [(k, None) for k in range(len(p.factors))] + list(pairs)
    panels = panels[:MOST_PANELS]
    columns = min(len(panels), 2 if len(panels) <= 4 else 3)
    figure, axes = canvas(
        -(-len(panels) // columns), columns, f"Means of {p.outcome}, {result['name']}: {result['model']}"
    )
    for ax, (k, by) in zip(axes, panels):
        _panel(ax, p, k, by, 130 // columns)
    for ax in axes[len(panels) :]:
        ax.set_visible(False)
    return figure


def _panel(ax: Axes, p: Any, k: int, by: int | None, room: int) -> None:
    name, levels, codes = p.factors[k]
    at = np.arange(len(levels))
    if by is None:
        crossed = [(u, c, n) for u, c, n in p.units if _meets(c, n, codes, len(levels))]
        for unit, own, n in crossed[-1:]:
            for j in range(min(n, MOST_LINES)):
                x, y = _means(p.y[own == j], codes[own == j], len(levels))
                ax.plot(x, y, color=LEAF, alpha=0.3, linewidth=1)
            ax.plot([], [], color=LEAF, alpha=0.5, linewidth=1, label=f"each {unit}")
        x, y = _means(p.y, codes, len(levels))
        ax.plot(x, y, "o-", color=LEAF, linewidth=3, markersize=9, markeredgecolor="white", label="mean")
        ax.set(title=f"{short(name, 40)}")
    else:
        other, names, own = p.factors[by]
        for j, level in enumerate(names):
            x, y = _means(p.y[own == j], codes[own == j], len(levels))
            ax.plot(
                x,
                y,
                "o-",
                color=PALETTE[j % len(PALETTE)],
                linewidth=2.5,
                markersize=8,
                markeredgecolor="white",
                label=level,
            )
        ax.set(title=f"{short(name, 30)} by {short(other, 30)}")
    if ax.get_legend_handles_labels()[0]:
        ax.legend(frameon=False, fontsize=9, labelcolor=BARK)
    ax.set(xlabel=name, ylabel=p.outcome, xlim=(-0.4, len(at) - 0.6))
    name_places(ax, levels, room)


def _meets(codes: Any, cells: int, factor: Any, levels: int) -> bool:
    """Whether a unit's levels see more than one level of the factor."""
    return len(np.unique(codes * levels + factor)) > cells


def _means(y: Any, codes: Any, levels: int) -> tuple[Any, Any]:
    counts = np.bincount(codes, minlength=levels)
    at = np.flatnonzero(counts)
    return at, (np.bincount(codes, y, minlength=levels) / np.maximum(counts, 1))[at]
