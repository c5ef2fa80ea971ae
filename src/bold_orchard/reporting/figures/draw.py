"""The pictures of ``orchard draw``."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import Figure
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.coefficients import coefficients_figure
from bold_orchard.reporting.figures.panels import cloud, tell_moved
from bold_orchard.reporting.figures.style import BARK, LEAF, PALETTE, PLUM, SKY, canvas, name_dates, name_places, short
from bold_orchard.results.base import Result
from bold_orchard.results.draw import DrawPicture, DrawResult

Array = NDArray[Any]
MOST_CLOUD = 30_000  # dots beyond which a cloud looks the same
MOST_EFFECTS = 6  # panels that fit 1280 x 800
NAMED_LINES = 8  # as many colours are told apart
STONE = "#cfc7bc"  # of what was observed, beneath draws
# bands that do not cover each other; strokes that repeat when colours run out
MOST_BANDS, DASHES = 5, ("-", "--", ":", "-.")


def draw_figure(result: DrawResult) -> Figure:
    """The picture of a kind; raises UsageError where a saved answer lacks the rows."""
    if result.picture is None:
        raise UsageError("a saved answer of draw has no rows to draw; run orchard draw again")
    kinds = {"lines": _lines_figure, "panels": _panels_figure, "against": _against_figure, "effects": _effects_figure,
             "coefficients": _coefficients_figure, "imputed": _imputed_figure}  # fmt: skip
    return kinds[result.kind](result, result.picture)


def _imputed_figure(d: Result, p: DrawPicture) -> Figure:
    """A panel for each covariate with gaps: what was observed filled, each draw a line; of categories bars with the range of the draws."""
    shown = d["imputed"][:MOST_EFFECTS]
    left = len(d["imputed"]) - len(shown)
    title = f"Values drawn for gaps, {d['names'][0]}: {d['model']}" + (f" ({left} more columns)" if left else "")
    wide = min(len(shown), 3)
    figure, axes = canvas(-(-len(shown) // wide), wide, title)
    for ax, one in zip(axes, shown):
        observed, drawn = p.drawn[one["column"]]
        if one["levels"]:
            _drawn_shares(ax, one, drawn)
        else:
            _drawn_numbers(ax, observed, drawn)
        ax.set(title=f"{short(one['column'], 24)}: {one['missing']:,} of {one['missing'] + one['observed']:,} missing")
    for ax in axes[len(shown) :]:
        ax.remove()
    axes[0].legend(loc="best", framealpha=0.9, edgecolor="none")
    return figure


def _drawn_numbers(ax: Axes, observed: Array, drawn: Array) -> None:
    """Distributions of the observed values and of every draw, over one set of bins."""
    both = np.concatenate([observed, drawn.ravel()])
    low, high = np.quantile(both, [0.001, 0.999])
    bins = int(np.clip(1.5 * np.sqrt(drawn.shape[1]), 6, 24))
    edges = np.linspace(low, high, bins + 1)
    if (both == np.round(both)).all():  # whole numbers: bins between them, of as many as keep their number
        step = max(1.0, np.ceil((high - low + 1) / 24))
        edges = np.arange(low - 0.5, high + 0.5 + step, step)
    ax.hist(
        np.clip(observed, low, high), edges.tolist(), density=True, color=STONE, edgecolor="white", label="observed"
    )
    middle = 0.5 * (edges[1:] + edges[:-1])
    each = [np.histogram(np.clip(row, low, high), edges, density=True)[0] for row in drawn]
    for row in each:
        ax.plot(middle, row, color=LEAF, linewidth=0.6, alpha=0.35)
    ax.plot(middle, np.mean(each, axis=0), color=PLUM, linewidth=2.5, label=f"{len(drawn)} draws and their mean")
    ax.set(ylabel="density")


def _drawn_shares(ax: Axes, one: dict[str, Any], drawn: Array) -> None:
    """Shares of the levels among observed values, and in every draw."""
    places = np.arange(len(one["levels"]))
    ax.bar(places, one["observed_shares"], color=STONE, width=0.7, label="observed")
    each = np.array([np.bincount(row.astype(int), minlength=len(places)) / len(row) for row in drawn])
    for row in each:
        ax.plot(places, row, "o", color=LEAF, markersize=4, alpha=0.35)
    ax.plot(
        places,
        each.mean(axis=0),
        "_",
        color=PLUM,
        markersize=26,
        markeredgewidth=3,
        label=f"{len(drawn)} draws and their mean",
    )
    ax.set(ylabel="share")
    name_places(ax, one["levels"], 40)


def _lines_figure(d: Result, p: DrawPicture) -> Figure:
    """All units in one panel: thin lines over the rows, the average line thick; a few asked for bear their names."""
    title = f"{d['outcome']} along {d['along']}, one line for each {d['unit']}, {d['names'][0]}: {d['model']}"
    figure, (ax,) = canvas(1, 1, title)
    if p.groups is None:
        _rows(ax, p, np.arange(len(p.x)))
    else:
        _grouped(ax, d, p)
        return figure
    few, n = p.named and len(d["lines"]) <= NAMED_LINES, len(d["lines"])
    if few:
        for i, line in enumerate(d["lines"]):
            mark = "o" if len(line["x"]) == 1 else ""
            ax.plot(
                line["x"], line["y"], color=PALETTE[i % len(PALETTE)], linewidth=2.5, marker=mark, label=line["level"]
            )
    else:
        _thin_lines(ax, d["lines"])
        _name_extremes(ax, d["lines"], d["average"])
    average = d["average"]
    ax.plot(average["x"], average["y"], color=PLUM, linewidth=4, marker="o" if d["ticks"] else "", label="average")
    if not few:
        ax.plot([], [], color=LEAF, linewidth=1.5, label=f"{n:,} levels of {d['unit']}")
    ax.legend(loc="best", framealpha=0.9, edgecolor="none")  # lines may pass beneath it
    _name_along(ax, d, p)
    return figure


def _name_along(ax: Axes, d: Result, p: DrawPicture) -> None:
    """The axes, and what all lines are held at."""
    held = f"\nheld: {short(d['held'], 150)}" if d.get("held") else ""
    ax.set(xlabel=f"{d['along']}{held}", ylabel=p.label)
    _name_axis(ax, d, 150)


def _name_extremes(ax: Axes, lines: list[dict[str, Any]], middle: dict[str, Any]) -> None:
    """The names of the lines that lie farthest above and below the average, at their ends."""
    order = np.argsort(
        [np.mean(np.subtract(line["y"], np.interp(line["x"], middle["x"], middle["y"]))) for line in lines]
    )
    ends = [lines[i] for i in dict.fromkeys((order[0], order[-1]))]
    for line in ends:
        ax.annotate(short(line["level"], 24), (line["x"][-1], line["y"][-1]), xytext=(5, 0), textcoords="offset points",
                    fontsize=9, color=BARK, va="center", bbox={"color": "white", "alpha": 0.7, "pad": 1})  # fmt: skip


def _name_axis(ax: Axes, axis: Any, room: int) -> None:
    """Names of categories or dates along the axis below."""
    if axis["ticks"]:
        name_places(ax, axis["ticks"], room)
    elif axis.get("dates"):
        name_dates(ax)


def _grouped(ax: Axes, d: Result, p: DrawPicture) -> None:
    """Rows and lines in the colour of their unit's level of ``by``, with that level's average line."""
    for k, level in enumerate(p.levels):
        colour, dash = PALETTE[k % len(PALETTE)], DASHES[k // len(PALETTE) % len(DASHES)]
        _rows(ax, p, np.flatnonzero(p.groups == k), colour, 0.25)
        own = [line for line in d["lines"] if line["by"] == level]
        _thin_lines(ax, own, colour, len(d["lines"]))
        average = next((m for m in d["averages"] if m["level"] == level), None)
        if average is not None:
            ax.plot(average["x"], average["estimate"], color="white", linewidth=7)
            ax.plot(average["x"], average["estimate"], dash, color=colour, linewidth=4.5, label=f"{level}, average")
        else:
            ax.plot([], [], color=colour, linewidth=2.5, label=f"{level} ({len(own):,} {d['unit']})")
    if not d["averages"]:
        ax.plot(d["average"]["x"], d["average"]["y"], color=BARK, linewidth=4, label="average")
    ax.legend(loc="best", framealpha=0.9, edgecolor="none", title=d["by"])
    _name_along(ax, d, p)


def _thin_lines(ax: Axes, lines: list[dict[str, Any]], colour: str = LEAF, of: int | None = None) -> None:
    """Every line alike, the thinner and paler the more there are; levels seen at one value only are dots."""
    n = of or len(lines)
    alpha, width = float(np.clip(4.5 / np.sqrt(n), 0.08, 0.85)), float(np.clip(12 / np.sqrt(n), 0.5, 1.8))
    drawn = [np.column_stack([line["x"], line["y"]]) for line in lines if len(line["x"]) > 1]
    dots = np.array([(line["x"][0], line["y"][0]) for line in lines if len(line["x"]) == 1]).reshape(-1, 2)
    ax.add_collection(LineCollection(drawn, colors=colour, alpha=alpha, linewidths=width))
    ax.plot(*dots.T, "o", color=colour, alpha=max(alpha, 0.3), markersize=5, markeredgewidth=0)
    ax.autoscale_view()


def _rows(
    ax: Axes,
    p: DrawPicture,
    keep: Array,
    colour: str = SKY,
    faintest: float = 0.6,
    x: Array | None = None,
    tell: bool = True,
) -> None:
    """The rows themselves; a 0/1 outcome gets a little room up and down."""
    x, y = p.x if x is None else x, p.y[keep]
    if not len(keep):
        return
    if len(keep) > MOST_CLOUD:
        chosen = np.random.default_rng(1).choice(len(keep), MOST_CLOUD, replace=False)
        keep, y = keep[chosen], y[chosen]
    if len(np.unique(y[:1000])) <= 2:
        y = y + np.random.default_rng(1).uniform(-0.02, 0.02, len(y))
        if tell:
            tell_moved(ax, "up and down")
    if len(keep) <= 4000:
        cloud(ax, x[keep], y, colour, faintest, max(faintest, 0.35), tell)
    else:
        ax.plot(x[keep], y, "o", color=colour, markersize=1.8, markeredgewidth=0, alpha=0.35, rasterized=True)


def _panels_figure(d: Result, p: DrawPicture) -> Figure:
    """Small multiples: the rows of some units, each with its own line and the average line."""
    n, total, average = len(d["lines"]), d["levels"], d["average"]
    columns = min(4 if n > 4 else n, 6) if n <= 16 else int(np.ceil(np.sqrt(1.6 * n)))
    lined = -(-n // columns)
    some = f"{n} of {total:,} levels" if n < total else f"all {total:,} levels"
    title = f"{d['outcome']} along {d['along']}, {some} of {d['unit']}, {d['names'][0]}: {d['model']}"
    figure, axes = canvas(lined, columns, title, height=max(8.0, 2.0 * lined))
    for i, (ax, level, line) in enumerate(zip(axes, p.shown, d["lines"])):
        if i:
            ax.sharex(axes[0])
            ax.sharey(axes[0])
        ax.plot(average["x"], average["y"], color=BARK, linewidth=1.2, linestyle=(0, (4, 3)))
        _rows(ax, p, np.flatnonzero(p.codes == level), tell=i == 0)
        mark = "o" if len(line["x"]) == 1 or d["ticks"] else ""
        ax.plot(line["x"], line["y"], color=LEAF, linewidth=2.5, marker=mark, markersize=5)
        ax.set_title(short(line["level"], 100 // columns), fontsize=11)
        _name_axis(ax, d, 150 // columns)
        ax.tick_params(labelleft=i % columns == 0, labelbottom=i + columns >= n)
    for ax in axes[n:]:
        ax.set_visible(False)
    figure.supxlabel(f"{d['along']}   (each {d['unit']} in green, the average dashed)", fontsize=11, color=BARK)
    figure.supylabel(p.label, fontsize=11, color=BARK)
    return figure


def _against_figure(d: Result, p: DrawPicture) -> Figure:
    """Observed against predicted, with the units' effects and by the average effects alone."""
    rows, tenths = d["rows"], d["tenths"]
    title = f"Observed against predicted {d['outcome']}, {d['names'][0]}: {d['model']}"
    if tenths is not None:
        return _tenths(title, tenths)
    figure, axes = canvas(1, 2, title)
    y = np.array([r["observed"] for r in rows])
    for ax, key, words in (
        (axes[0], "predicted", "with the units' own effects"),
        (axes[1], "predicted_average", "by the average effects alone"),
    ):
        x = np.array([r[key] for r in rows])
        cloud(ax, x, y)
        ends = [min(float(x.min()), float(y.min())), max(float(x.max()), float(y.max()))]
        ax.plot(ends, ends, color=PLUM, linewidth=2)
        alike = f": correlation {np.corrcoef(x, y)[0, 1]:.2f}" if np.ptp(x) > 0 and np.ptp(y) > 0 else ""
        ax.set(
            title=f"Predicted {words}{alike}",
            xlabel=f"predicted {d['outcome']}",
            ylabel=f"observed {d['outcome']}",
        )
    return figure


def _tenths(title: str, tenths: list[dict[str, Any]]) -> Figure:
    """Shares seen in tenths of the predicted chance; one line for each grade."""
    figure, (ax,) = canvas(1, 1, title)
    for i, name in enumerate(dict.fromkeys(t["level"] for t in tenths)):
        own = [t for t in tenths if t["level"] == name]
        x, y = (np.array([t[k] for t in own]) for k in ("predicted", "observed"))
        half = 1.96 * np.sqrt(np.maximum(x * (1 - x), 0) / np.array([t["rows"] for t in own]))
        colour = PALETTE[i % len(PALETTE)]
        ax.vlines(x, np.maximum(x - half, 0), np.minimum(x + half, 1), color=colour, linewidth=5, alpha=0.25)
        ax.plot(x, y, "o", color=colour, markersize=9, markeredgecolor="white", label=name)
    ax.plot([0, 1], [0, 1], color=BARK, linewidth=1.2)
    ax.legend(frameon=False, title="observed share of", loc="upper left")
    ax.set(xlabel="mean predicted chance of a tenth of the rows (bar: what chance allows around it)", ylabel="share observed in that tenth")  # fmt: skip
    return figure


def _effects_figure(d: Result, p: DrawPicture) -> Figure:
    """One panel per predictor: its effect with a band, the others held; with ``by`` one line for each level."""
    made, confidence = d["effects"], d["confidence"]
    names = list(dict.fromkeys(m["predictor"] for m in made))
    shown = names[:MOST_EFFECTS]
    more = f" ({len(names) - len(shown)} more not shown)" if len(names) > len(shown) else ""
    columns = min(len(shown), 3)
    what = "Slope along" if d.get("slope") else "Effect of"
    wide = " (light: the whole curve together)" if any("low_simultaneous" in m for m in made) else ""
    title = f"{what} each predictor with its {100 * confidence:g}% band{wide}, others held{more}, {d['names'][0]}: {d['model']}"
    figure, axes = canvas(-(-len(shown) // columns), columns, title)
    for ax, name in zip(axes, shown):
        own = [m for m in made if m["predictor"] == name]
        by = own[0]["level"] is not None
        for k in range(0 if d.get("slope") else len(own) if by else 1):
            keep = np.flatnonzero(p.groups == k) if by else np.arange(len(p.y))
            moved = 0.12 * (k - (len(own) - 1) / 2) if by and own[0]["ticks"] else 0.0
            _rows(ax, p, keep, PALETTE[k % len(PALETTE)] if by else SKY, 0.2, p.points[name] + moved)
        for k, m in enumerate(own):
            _effect(ax, m, PALETTE[k % len(PALETTE)] if m["level"] is not None else LEAF, k, len(own), 150 // columns)
        if own[0]["level"] is not None:
            beside = len(own) > MOST_BANDS  # many levels: no bands, and their names outside
            ax.legend(frameon=False, title=own[0]["by"], fontsize=10, loc="upper left" if beside else "best",
                      bbox_to_anchor=(1, 1) if beside else None)  # fmt: skip
        if own[0].get("dates"):
            name_dates(ax)
        if d.get("slope"):
            ax.axhline(0.0, color=BARK, linewidth=1)
        ax.set(xlabel=name, ylabel=p.label, title=f"{what} {short(name, 90 // columns)}")
        ax.margins(x=0.12 if own[0]["ticks"] else 0.02)
    for ax in axes[1 : len(shown)]:
        ax.sharey(axes[0])
    for ax in axes[len(shown) :]:
        ax.set_visible(False)
    return figure


def _effect(ax: Axes, m: dict[str, Any], colour: str, k: int, of: int, room: int) -> None:
    x = np.array(m["x"])
    if m["ticks"]:
        x = x + (0.12 * (k - (of - 1) / 2) if of > 1 else 0.0)
        ax.vlines(x, m["low"], m["high"], color=colour, linewidth=3)
        ax.plot(x, m["estimate"], "o", color=colour, markersize=9, markeredgecolor="white", label=m["level"])
        name_places(ax, m["ticks"], room)
    else:
        if of <= MOST_BANDS and "low_simultaneous" in m:
            low, high = (np.array(m[key], dtype=float) for key in ("low_simultaneous", "high_simultaneous"))
            ax.fill_between(x, low, high, color=colour, alpha=0.10, linewidth=0)
        if of <= MOST_BANDS:
            ax.fill_between(x, m["low"], m["high"], color=colour, alpha=0.18, linewidth=0)
        ax.plot(
            x, m["estimate"], DASHES[k // len(PALETTE) % len(DASHES)], color=colour, linewidth=2.5, label=m["level"]
        )


def _coefficients_figure(d: Result, p: DrawPicture) -> Figure:
    fits = ", ".join(dict.fromkeys(r["fit"] for r in d["coefficients"]))
    title = f"Coefficients with {100 * d['confidence']:g}% intervals: {fits}"
    return coefficients_figure(title, d["coefficients"], f"effect on {d['outcome']}")
