"""The picture of ``orchard components``: where the variance sits."""

from __future__ import annotations

from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import BARK, PALETTE, canvas, short
from bold_orchard.results.components import ComponentsResult


def components_figure(d: ComponentsResult) -> Figure:
    """What each component makes rows differ by, in units of the outcome, with intervals; one line a component.

    A slope's SD is multiplied by the root mean square of its covariate, so that all lines share one axis.
    """
    rows = [c for c in d["components"] if c["kind"] in ("variance", "residual")]
    figure, (ax,) = canvas(1, 1, f"Variation at each level, {d['name']}: {d['model']}")
    groups = list(dict.fromkeys(c["group"] for c in rows))
    for y, c in enumerate(reversed(rows)):
        colour = PALETTE[groups.index(c["group"]) % len(PALETTE)]
        if c["ci"]:
            scale = c["sd_in_outcome"] / c["sd"] if c["sd"] else 1.0
            ends = [scale * max(v, 0) ** 0.5 for v in c["ci"]]
            ax.plot(ends, [y, y], color=colour, linewidth=3, solid_capstyle="butt")
        ax.plot(c["sd_in_outcome"], y, "o", color=colour, markersize=11, markeredgecolor="white")
        ax.annotate(
            f"{c['sd_in_outcome']:.3g}",
            (c["sd_in_outcome"], y),
            xytext=(0, 12),
            textcoords="offset points",
            ha="center",
            color=BARK,
        )
    names = [c["group"] if c["kind"] == "residual" else f"{c['group']}: {c['term']}" for c in reversed(rows)]
    ax.set_yticks(range(len(rows)), [short(n, 40) for n in names])
    ax.set_ylim(-0.6, len(rows) - 0.4)
    ax.set_xlim(left=0)
    ax.set(
        xlabel=f"standard deviation in {d['outcome']} (a slope's over the values its covariate takes), with {100 * d['confidence']:g}% interval"
    )
    return figure
