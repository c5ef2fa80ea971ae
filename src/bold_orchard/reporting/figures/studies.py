"""Studies with known errors: each with its own estimate, its weight and the shrunken one; and what lies outside what chance allows."""

from __future__ import annotations

from statistics import NormalDist
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import AMBER, BARK, GRID, LEAF, PLUM, canvas, short
from bold_orchard.results.groups import GroupsResult

NAMED = 60  # names that fit down the page
LEVELS = (0.95, 0.99)  # of the contours of chance


def studies_figure(d: GroupsResult, part: Any) -> Figure:
    """Left every study, sorted by its shrunken estimate, the mean and a new study at the bottom; right residuals against errors."""
    figure, (left, right) = canvas(1, 2, f"Studies with known errors, {d['name']}: {d['model']}")
    rows = sorted(part["rows"], key=lambda r: r["coefficients"]["intercept"])
    _forest(left, d, part["group"], rows)
    _funnel(right, d, rows)
    return figure


def _forest(ax: Axes, d: GroupsResult, group: str, rows: list[Any]) -> None:
    n, new, z = len(rows), d.get("new_unit"), _normal(d["confidence"])
    at = np.arange(n) + (2.0 if new else 0.0)
    found, errors, weight = (np.array([r["own"][k] for r in rows]) for k in ("estimate", "se", "weight"))
    shrunken = np.array([r["coefficients"]["intercept"] for r in rows])
    ax.hlines(at, found - z * errors, found + z * errors, color=AMBER, linewidth=float(np.clip(120 / n, 0.5, 2.5)))
    size = float(np.clip((350 / n) ** 2, 20, 300)) * weight / weight.max()
    ax.scatter(found, at, s=size, marker="s", color=AMBER, zorder=3, label="found, by its weight")
    ax.scatter(shrunken, at, s=float(np.clip(900 / n, 12, 40)), color=LEAF, zorder=4, label="by the model (shrunken)")
    names = [short(r["level"], 22) for r in rows]
    if new:
        for y, ends, colour in ((1.0, new["ci"], BARK), (0.0, new["new_ci"], PLUM)):
            ax.hlines(y, *ends, color=colour, linewidth=4)
            ax.plot(new["mean"], y, "D", color=colour, markersize=8)
        ax.axvline(new["mean"], color=BARK, linewidth=0.8, linestyle=":")
    ends = [*(["a new one", "mean"] if new else []), *(names if n <= NAMED else [])]
    ax.set_yticks([*([0.0, 1.0] if new else []), *(at if n <= NAMED else [])], ends, fontsize=9 if n > 20 else 10)
    if n > NAMED:
        ax.set_ylabel(f"{n:,} levels of {group}, sorted")
    ax.grid(axis="y", visible=False)
    ax.set(title=f"{group}, with {100 * d['confidence']:g}% intervals", xlabel=d["outcome"])
    ax.legend(loc="lower right" if not new else "upper left", fontsize=9, framealpha=0.9)


def _funnel(ax: Axes, d: GroupsResult, rows: list[Any]) -> None:
    """What each found less what the average says, against its error: outside the contours chance alone would put 5 and 1 in a hundred."""
    found, errors = (np.array([r["own"][k] for r in rows]) for k in ("estimate", "se"))
    average = np.array([r["coefficients"]["intercept"] - r["effects"]["intercept"] for r in rows])
    top = 1.08 * float(errors.max())
    for level, shade in zip(reversed(LEVELS), (GRID, "#f3f0ea")):
        width = _normal(level) * top
        ax.fill([0.0, -width, width], [0.0, top, top], color=shade, zorder=0, label=f"{100 * level:g}% by chance")
    ax.axvline(0.0, color=BARK, linewidth=1)
    ax.plot(found - average, errors, "o", color=LEAF, markersize=6, alpha=0.85)
    ax.set_ylim(top, 0.0)
    ax.set(
        title="Beyond chance?", xlabel=f"{d['outcome']} less the average", ylabel="standard error (small ones above)"
    )
    ax.legend(loc="lower left", fontsize=9, framealpha=0.9)


def _normal(level: float) -> float:
    """How many SDs either side hold a share of a normal distribution."""
    return NormalDist().inv_cdf((1.0 + level) / 2.0)
