"""The picture of ``orchard groups``: every unit's effects with their intervals, sorted."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from bold_orchard.reporting.figures.studies import studies_figure
from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, canvas, short
from bold_orchard.results.groups import GroupsResult

NAMED = 45  # names that fit down the page
MOST_PANELS = 6  # panels that fit 1280 x 800


def groups_figure(d: GroupsResult) -> Figure:
    """One panel per term of each clause, units from the largest effect of the first term down; names where they can be
    read, of many levels those of the extremes."""
    studies = next((part for part in d["groups"] if "own" in part["rows"][0] and part["terms"] == ["intercept"]), None)
    if studies is not None:
        return studies_figure(d, studies)
    panels = [(part, term) for part in d["groups"] for term in part["terms"]]
    shown = panels[:MOST_PANELS]
    more = f" (the first {MOST_PANELS} of {len(panels)} terms)" if len(panels) > MOST_PANELS else ""
    columns = min(len(shown), 3)
    figure, axes = canvas(
        -(-len(shown) // columns),
        columns,
        f"Predicted effects with {100 * d['confidence']:g}% intervals, {d['name']}: {d['model']}{more}",
    )
    for ax, (part, term) in zip(axes, shown):
        first = part["terms"][0]  # one order of a unit's levels in all its panels
        rows = sorted(part["rows"], key=lambda r: r["effects"][first])
        n = len(rows)
        at = np.arange(n)
        values = np.array([r["effects"][term] for r in rows])
        ends = np.array([r["ci"][term] for r in rows], dtype=float)
        width = float(np.clip(260 / n, 0.4, 4))
        ax.hlines(at, ends[:, 0], ends[:, 1], color=AMBER, linewidth=width, alpha=1.0 if n <= 200 else 0.6)
        ax.plot(values, at, "o", color=LEAF, markersize=float(np.clip(180 / n, 2.5, 8)), markeredgewidth=0)
        ax.axvline(0.0, color=BARK, linewidth=1)
        ax.set_ylim(-1, n)
        if n <= NAMED // max(-(-len(shown) // columns), 1):
            ax.set_yticks(at, [short(r["level"], 24) for r in rows], fontsize=9 if n > 15 else 11)
        else:
            ends_of_all = sorted({int(values.argmin()), int(values.argmax())})
            ax.set_yticks(ends_of_all, [short(rows[i]["level"], 24) for i in ends_of_all], fontsize=9)
            ax.set_ylabel(f"{n:,} levels of {part['group']}, sorted by {first}")
        ax.grid(axis="y", visible=False)
        scale = "" if d["link"] == "identity" else f" ({d['link']} scale)"
        own = "residual_sd" in rows[0] and term == "spread"
        what = "effect on the log of the residual SD" if own else f"effect on {d['outcome']}{scale}"
        ax.set(title=f"{part['group']}: {term}", xlabel=what)
    for ax in axes[len(shown) :]:
        ax.set_visible(False)
    return figure
