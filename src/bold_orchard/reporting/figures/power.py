"""The picture of ``orchard power``: power against the size of the study, a line for each effect."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import AMBER, PALETTE, canvas, short
from bold_orchard.results.power import PowerResult


def power_figure(d: PowerResult) -> Figure:
    """Simulated power with intervals as points, the formula as lines; a panel for each effect where rows vary too."""
    designs = d["designs"]
    effects = [e["effect"] for e in designs[0]["effects"]]
    along, others = _axes_of(designs)
    panels = effects if len(others) > 1 else [None]
    columns = 1 if len(panels) == 1 else 2
    figure, axes = canvas(
        (len(panels) + columns - 1) // columns,
        columns,
        f"How often would the study find it{_bands(designs)}? {d['name']}: {d['model']}",
    )
    for ax in axes[len(panels) :]:
        ax.set_visible(False)
    for ax, panel in zip(axes, panels):
        lines = [(e, others[0]) for e in effects] if panel is None else [(panel, o) for o in others]
        for colour, (effect, other) in zip(PALETTE * len(lines), lines):
            name = effect if panel is None else ", ".join(f"{k}: {v:g}" for k, v in other.items())
            _line(ax, designs, along, effect, other, colour, short(name, 40))
        ax.set_ylim(-0.02, 1.02)
        ax.set(xlabel=_words(along), ylabel="power", title="" if panel is None else short(str(panel), 50))
        if d["want"]:
            ax.axhline(d["want"], color=AMBER, linewidth=2, linestyle="--")
            ax.annotate(f"wanted: {d['want']:g}", (0.005, d["want"]), xycoords=("axes fraction", "data"), xytext=(0, 4),
                        textcoords="offset points", color=AMBER, fontsize=10)  # fmt: skip
        values = sorted({_value(x, along) for x in designs})
        ax.set_xticks(values, [f"{v:g}" for v in values])
        ax.margins(x=0.06)
        ax.legend(loc="best", frameon=False)
    return figure


def _bands(designs: list[dict[str, Any]]) -> str:
    """What the bands are, where there are some."""
    return " (bands: if the pilot errs)" if "uncertain_low" in designs[0]["effects"][0] else ""


def _value(design: dict[str, Any], key: str) -> float:
    return float(design["rows"] or 0) if key == "rows" else float(design["units"][key])


def _axes_of(designs: list[dict[str, Any]]) -> tuple[str, list[dict[str, float]]]:
    """What varies most along the picture, and every combination of the rest."""
    keys = [*designs[0]["units"], "rows"]
    varied = {k: {_value(x, k) for x in designs} for k in keys}
    along = max(keys, key=lambda k: len(varied[k]))
    rest = [k for k in keys if k != along and len(varied[k]) > 1]
    others: list[dict[str, float]] = []
    for x in designs:
        own = {k: _value(x, k) for k in rest}
        if own not in others:
            others.append(own)
    return along, others


def _words(key: str) -> str:
    return "rows in each level of the smallest unit" if key == "rows" else f"levels of {key}"


def _line(
    ax: Any, designs: list[dict[str, Any]], along: str, effect: str, other: dict[str, float], colour: str, name: str
) -> None:
    own = [x for x in designs if all(_value(x, k) == v for k, v in other.items())]
    own.sort(key=lambda x: _value(x, along))
    made = [(_value(x, along), e) for x in own for e in x["effects"] if e["effect"] == effect]
    at = [v for v, _ in made]
    formulas = [e["power_formula"] for _, e in made]
    told = False
    if all(f is not None for f in formulas):
        ax.plot(at, formulas, color=colour, linewidth=2, label=name)
        told = True
    band = [(e.get("uncertain_low"), e.get("uncertain_high")) for _, e in made]
    if all(low is not None for low, _ in band):
        ax.fill_between(at, [low for low, _ in band], [high for _, high in band], color=colour, alpha=0.12, linewidth=0)
    if all(e["power"] is not None for _, e in made):
        powers = [e["power"] for _, e in made]
        reach = [[p - e["low"] for p, (_, e) in zip(powers, made)], [e["high"] - p for p, (_, e) in zip(powers, made)]]
        ax.errorbar(at, powers, yerr=reach, color=colour, marker="o", capsize=4, linestyle="none" if told else "-",
                    label=None if told else name)  # fmt: skip
