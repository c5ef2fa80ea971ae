"""The picture of ``orchard components``: where the variance sits."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure

from bold_orchard.figures.style import BARK, PALETTE, canvas


def components_figure(d: dict[str, Any]) -> Figure:
    """SDs with their intervals, one line a component."""
    rows = [c for c in d["components"] if c["kind"] != "covariance"]
    figure, (ax,) = canvas(1, 1, f"Variation at each level, {d['name']}: {d['model']}")
    groups = list(dict.fromkeys(c["group"] for c in rows))
    for y, c in enumerate(reversed(rows)):
        colour = PALETTE[groups.index(c["group"]) % len(PALETTE)]
        if c["ci"]:
            ax.plot([max(v, 0) ** 0.5 for v in c["ci"]], [y, y], color=colour, linewidth=3, solid_capstyle="butt")
        ax.plot(c["sd"], y, "o", color=colour, markersize=11, markeredgecolor="white")
        share = f"  {100 * c['share']:.0f}% of the variance" if c["term"] in ("intercept", "residual") else ""
        ax.annotate(f"{c['sd']:.3g}{share}", (c["sd"], y), xytext=(0, 12), textcoords="offset points", ha="center", color=BARK)
    names = [c["group"] if c["kind"] == "residual" else f"{c['group']}: {c['term']}" for c in reversed(rows)]
    ax.set_yticks(range(len(rows)), names)
    ax.set_ylim(-0.6, len(rows) - 0.4)
    ax.set_xlim(left=0)
    ax.set(xlabel=f"standard deviation, with {100 * d['confidence']:g}% interval")
    return figure
