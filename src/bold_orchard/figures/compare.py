"""The picture of ``orchard compare``: how far each model stands from the best."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure

from bold_orchard.figures.style import AMBER, LEAF, canvas


def compare_figure(d: dict[str, Any]) -> Figure:
    """AIC and BIC of each model less the best one's."""
    figure, (ax,) = canvas(
        1, 1, f"How far from the best? {len(d['models'])} models on {d['rows']:,} rows, by {d['method']}"
    )
    models = list(reversed(d["models"]))
    for offset, key, colour, label in ((0.18, "delta_aic", LEAF, "AIC"), (-0.18, "delta_bic", AMBER, "BIC")):
        places = [y + offset for y in range(len(models))]
        bars = ax.barh(places, [m[key] for m in models], height=0.32, color=colour, label=label)
        ax.bar_label(bars, [f"{m[key]:.1f}" for m in models], padding=4)
    ax.set_yticks(range(len(models)), [m["name"] for m in models])
    ax.margins(x=0.1)
    ax.legend(frameon=False)
    ax.set(xlabel="less the best model's (0 is best, smaller is better)")
    return figure
