"""The picture of ``orchard terms``: each statistic beside what chance alone would reach."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure
from scipy import special

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, canvas, short
from bold_orchard.reporting.numbers import p_value
from bold_orchard.results.terms import TermsResult


def terms_figure(d: TermsResult) -> Figure:
    """A dot for the statistic of each term on a logarithmic axis, a bar up to its critical value."""
    rows = [t for t in d["tests"] if t["value"] is not None and t["value"] > 0 and t["num_df"]]
    level = 1.0 - d["confidence"]
    name = "F" if rows and rows[0]["statistic"] == "F" else "chi-squared"
    figure, (ax,) = canvas(1, 1, f"Which terms matter? Tests of type {d['type']}, {d['name']}: {d['model']}",
                           height=max(8.0, 0.45 * len(rows) + 2))  # fmt: skip
    lowest = min([0.1, *(0.7 * t["value"] for t in rows)])
    for y, t in enumerate(reversed(rows)):
        critical = _critical(t, level)
        ax.plot([lowest, critical], [y, y], color=AMBER, linewidth=9, alpha=0.45, solid_capstyle="butt")
        ax.plot(t["value"], y, "o", color=LEAF, markersize=11, markeredgecolor="white")
        p = p_value(t["p"])
        ax.annotate(f"p {p}" if p.startswith("<") else f"p = {p}", (t["value"], y), xytext=(0, 12), textcoords="offset points",
                    ha="center", fontsize=10, color=BARK)  # fmt: skip
    ax.set_xscale("log")
    ax.set_yticks(range(len(rows)), [short(t["term"], 40) for t in reversed(rows)])
    ax.set_ylim(-0.6, len(rows) - 0.4)
    ax.set_xlim(left=lowest)
    ax.margins(x=0.1)
    ax.grid(axis="y", visible=False)
    ax.set(xlabel=f"{name} (the bar ends where chance alone would be passed in {100 * level:g}% of studies)")
    return figure


def _critical(t: dict[str, Any], level: float) -> float:
    if t["den_df"] is None:
        return float(special.chdtri(t["num_df"], level))
    return float(special.fdtri(t["num_df"], t["den_df"], 1.0 - level))
