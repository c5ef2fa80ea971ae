"""The picture of ``orchard terms``: how far each statistic lies beyond what chance alone would reach."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure
from scipy import special

from bold_orchard.reporting.figures.style import AMBER, BARK, GRID, LEAF, canvas, short
from bold_orchard.reporting.numbers import figure as figure_text
from bold_orchard.reporting.numbers import p_value
from bold_orchard.results.terms import TermsResult

LEAST = 0.01  # parts of the critical value below which every term is as near to nothing


def terms_figure(d: TermsResult) -> Figure:
    """A bar for each term, on one scale: its statistic divided by the value that chance passes in 5% of studies."""
    if d.get("posterior") is not None:
        return _contrasts(d)
    rows = [t for t in d["tests"] if t["value"] is not None and t["num_df"]]
    level = 1.0 - d["confidence"]
    figure, (ax,) = canvas(1, 1, f"Which terms matter? Tests of type {d['type']}, {d['name']}: {d['model']}",
                           height=max(8.0, 0.45 * len(rows) + 2))  # fmt: skip
    times = [max(t["value"] / _critical(t, level), LEAST) for t in reversed(rows)]
    for y, (t, far) in enumerate(zip(reversed(rows), times)):
        ax.plot(
            [min(far, 1.0), max(far, 1.0)],
            [y, y],
            color=LEAF if far > 1.0 else GRID,
            linewidth=7,
            solid_capstyle="butt",
        )
        ax.plot(far, y, "o", color=LEAF if far > 1.0 else BARK, markersize=11, markeredgecolor="white")
        p, name = p_value(t["p"]), "F" if t["statistic"] == "F" else "chi-squared"
        ax.annotate(f"{name} {figure_text(t['value'], 3)}, p {p if p.startswith('<') else '= ' + p}", (far, y), xytext=(0, 11),
                    textcoords="offset points", ha="center", fontsize=10, color=BARK)  # fmt: skip
    ax.axvline(1.0, color=AMBER, linewidth=2.5)
    ax.set_xscale("log")
    low, high = min([0.5, *times]), max([2.0, *times])
    ax.set_xlim(low / (high / low) ** 0.08, high * (high / low) ** 0.08)
    ax.xaxis.set_major_formatter(lambda v, _: f"{v:g}")
    ax.set_yticks(range(len(rows)), [short(t["term"], 40) for t in reversed(rows)])
    ax.set_ylim(-0.6, len(rows) - 0.3)
    ax.grid(axis="y", visible=False)
    ax.set(
        xlabel=f"how many times the value that chance alone passes in {100 * level:.2g}% of studies (the amber line)"
    )
    return figure


def _contrasts(d: TermsResult) -> Figure:
    """From draws: each contrast less the value it is set against, with its interval, in a panel of its own scale."""
    rows = d["contrasts"]
    figure, axes = canvas(
        len(rows), 1, f"Contrasts from draws, {d['name']}: {d['model']}", height=max(8.0, 1.6 * len(rows) + 1)
    )
    for ax, c in zip(axes, rows):
        low, high = c["ci"]
        ax.plot([low, high], [0, 0], color=LEAF, linewidth=4, solid_capstyle="butt")
        ax.plot(c["estimate"], 0, "o", color=LEAF, markersize=11, markeredgecolor="white")
        ax.axvline(c["against"], color=AMBER, linewidth=2.5)
        ax.set_title(short(c["contrast"], 80), fontsize=11, loc="left")
        ax.set_yticks([])
        ax.set_ylim(-1, 1)
    axes[-1].set_xlabel(f"the contrast, with {100 * d['confidence']:g}% interval (amber: the value it is set against)")
    return figure


def _critical(t: dict[str, Any], level: float) -> float:
    if t["den_df"] is None:
        return float(special.chdtri(t["num_df"], level))
    return float(special.fdtri(t["num_df"], t["den_df"], 1.0 - level))
