"""The pictures of ``orchard check``: everything at a glance, or one question at full size."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.panels import against, box, histogram, normal_scores, qq, shown_of
from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, PALETTE, PLUM, canvas, name_places, short
from bold_orchard.results.check import CheckArrays, CheckResult, EffectArrays

Array = NDArray[Any]
LEGEND_FROM = 0.62  # part of a panel's width from which a legend stands in its corner
MOST_TERMS, MOST_PREDICTORS, MOST_NAMED, MOST_LEVELS = 4, 6, 15, 12  # panels and names that fit 1280 x 800


def check_figure(result: CheckResult, kind: str = "overview") -> Figure:
    """One of the kinds; raises UsageError where there is nothing to show in it."""
    arrays = refuse_empty(result, kind)
    draw = {"overview": _overview, "rows": _rows, "predictors": _predictors, "effects": _effects,
            "influence": _influence, "time": _time}[kind]  # fmt: skip
    return draw(result, arrays)


def refuse_empty(result: CheckResult, kind: str) -> CheckArrays:
    """What is drawn; raises UsageError when a kind has nothing to show."""
    a = result.arrays
    if a is None:
        raise UsageError("a saved answer of check has no rows to draw; run orchard check again")
    if kind == "time" and result.autocorrelation is None:
        raise UsageError("--kind time needs --time COLUMN, the column that orders a unit's rows")
    if kind == "effects" and not a.effects:
        raise UsageError(
            f"--kind effects: '{result.name}' has no each clause, so there are no effects; choose another kind"
        )
    if kind == "influence" and not a.influence:
        raise UsageError("--kind influence: no unit's influence was made; ask for it with --influence one-step")
    if kind == "predictors" and not (a.numbers or a.categories):
        raise UsageError(f"--kind predictors: '{result.name}' has none; choose another kind")
    return a


def _overview(result: CheckResult, a: CheckArrays) -> Figure:
    figure, axes = canvas(2, 3, f"Residuals of {result.name} at a glance: {result.model}", steady=True)
    _row_panels(result, a, axes[:3], axes[3])
    if a.effects:
        _all_effects(axes[4], a.effects)
    elif a.numbers:
        _predictor(axes[4], a, next(iter(a.numbers)))
    else:
        axes[4].set_visible(False)
    if a.influence:
        _distances(axes[5], a.influence[0], 6)
    elif a.units:
        _spread_of_units(axes[5], a, *a.units[0])
    else:
        axes[5].set_visible(False)
    return figure


def _rows(result: CheckResult, a: CheckArrays) -> Figure:
    """Row residuals; beside them those of each unit's own least squares, which no prediction of effects has shrunk."""
    inside = None if a.within is None else a.within.standardised[np.isfinite(a.within.standardised)]
    shown = 4 + (inside is not None and len(inside) > 0) + bool(a.units)
    figure, axes = canvas(2, 2 if shown == 4 else 3, f"Row residuals of {result.name}: {result.model}")
    _row_panels(result, a, axes[:3], axes[3])
    rest = axes[4:]
    if inside is not None and len(inside):
        qq(
            rest.pop(0),
            inside,
            f"Normal inside each {short(a.within.unit.name, 16)}?",
            "residual of its own least squares",
        )
    if a.units and rest:
        _spread_of_units(rest.pop(0), a, *a.units[0])
    for ax in rest:
        ax.set_visible(False)
    return figure


def _row_panels(result: CheckResult, a: CheckArrays, three: list[Axes], last: Axes) -> None:
    rest = a.residuals
    qq(three[0], rest.standardised, "Are the rows normal?", a.standardised_name)
    order = np.argsort(rest.fitted)
    against(three[1], rest.fitted, rest.standardised, a.fitted_name, a.standardised_name, order=order)
    three[1].set_title("Is the middle at zero?")
    root = np.sqrt(np.abs(rest.standardised))
    against(three[2], rest.fitted, root, a.fitted_name, "root of absolute residual", middle=None, order=order)
    three[2].set_title("Is the spread even?")
    far = result["levels"][0]["outliers"][:4]
    named = [
        (o["standardised"], ", ".join([f"row {o['row']}", *[f"{u} {v}" for u, v in o["units"].items()][:1]]))
        for o in far
    ]
    histogram(last, rest.standardised, a.standardised_name, named)
    last.set_title("Which rows lie far out?")


def _all_effects(ax: Axes, units: list[EffectArrays]) -> None:
    """QQ plots of the standardised effects of all terms in one panel; of a single term with its band."""
    terms = [(u, k) for u in units for k in range(len(u.terms))]
    scaled = []
    for u, k in terms[: len(PALETTE)]:
        values = u.effects[:, k]
        sd = float(values.std(ddof=1)) if len(values) > 1 else 0.0
        scaled.append((values - values.mean()) / (sd or 1.0))
    if len(terms) == 1:
        u, k = terms[0]
        qq(
            ax,
            scaled[0],
            f"Are the {short(u.group, 16)} effects normal?",
            f"effect of {u.terms[k]}, standardised",
            u.levels,
        )
        return
    end = 0.0
    for i, ((u, k), values) in enumerate(zip(terms, scaled)):
        scores = normal_scores(len(values))
        size = float(np.clip(60 / np.sqrt(len(values)), 2.5, 6))
        shown = shown_of(len(values))
        ax.plot(scores[shown], np.sort(values)[shown], "o", color=PALETTE[i], markersize=size, alpha=0.75, markeredgewidth=0,
                label=f"{u.group}: {u.terms[k]}")  # fmt: skip
        end = max(end, float(scores[-1]))
    ax.plot([-end, end], [-end, end], color=BARK, linewidth=1)
    ax.legend(frameon=False, fontsize=9, loc="upper left", markerscale=1.5)
    ax.margins(y=0.16)
    ax.set(title="Are the effects normal?", xlabel="normal score", ylabel="effect, standardised")


def _distances(ax: Axes, made: Any, most: int) -> None:
    """Cook's distances of the levels that move the estimates most, each named over its bars."""
    order = np.argsort(-np.nan_to_num(made.cook, nan=-1.0))[:most][::-1]
    at = np.arange(len(order))
    ax.barh(at, made.cook[order], height=0.28, color=LEAF, label="fixed part")
    ax.barh(at - 0.28, made.cook_components[order], height=0.28, color=AMBER, label="components")
    for y, i in zip(at, order):
        ax.annotate(
            short(made.unit.texts[i], 34),
            (0, y + 0.17),
            xytext=(3, 0),
            textcoords="offset points",
            fontsize=9,
            color=BARK,
        )
    ax.set_yticks([])
    ax.set_ylim(-0.6, len(order) - 0.3)
    longest = np.nan_to_num(np.maximum(made.cook[order], made.cook_components[order]))
    low, high, most_of_all = longest[:2].max(), longest[-2:].max(), longest.max()
    if min(low, high) > LEGEND_FROM * most_of_all:  # no corner is free: room is made
        ax.set_xlim(0, max(ax.get_xlim()[1], min(low, high) / LEGEND_FROM))
    ax.legend(frameon=False, fontsize=9, loc="lower right" if low <= high else "upper right")
    ax.set(title=f"Which {short(made.unit.name, 16)} carries most?", xlabel="Cook's distance without it")


def _spread_of_units(ax: Axes, a: CheckArrays, name: str, codes: Array, texts: list[str]) -> None:
    """SD of the residuals in each level."""
    values, seen = a.residuals.standardised, np.bincount(codes, minlength=len(texts))
    counts = np.maximum(seen, 1)
    mean = np.bincount(codes, values, minlength=len(texts)) / counts
    sd = np.sqrt(np.bincount(codes, (values - mean[codes]) ** 2, minlength=len(texts)) / np.maximum(counts - 1, 1))
    ax.plot(np.sort(sd[seen > 1]), color=LEAF, linewidth=2.5)
    ax.set(
        title=f"Does each {short(name, 16)} spread alike?", xlabel=f"levels of {name}, sorted", ylabel="SD of residuals"
    )
    ax.set_ylim(bottom=0)


def _predictors(result: CheckResult, a: CheckArrays) -> Figure:
    numbers, categories = list(a.numbers), list(a.categories)
    shown = [*numbers, *categories][:MOST_PREDICTORS]
    more = len(numbers) + len(categories) - len(shown)
    columns = min(len(shown), 3)
    title = f"Residuals of {result.name} along each predictor: is a curve or a level left?"
    figure, axes = canvas(-(-len(shown) // columns), columns, title + (f" ({more} more not shown)" if more else ""))
    for ax, name in zip(axes, shown):
        (_predictor if name in numbers else _category)(ax, a, name)
    for ax in axes[len(shown) :]:
        ax.set_visible(False)
    return figure


def _predictor(ax: Axes, a: CheckArrays, name: str) -> None:
    against(ax, a.numbers[name], a.residuals.standardised, name, a.standardised_name)
    ax.set_title(f"A curve along {name}?")


def _category(ax: Axes, a: CheckArrays, name: str) -> None:
    codes, levels = a.categories[name][0], a.categories[name][1][:MOST_LEVELS]
    for i in range(len(levels)):
        own = a.residuals.standardised[codes == i]
        if len(own):
            box(ax, np.sort(own), i, 0.5, horizontal=False)
    ax.axhline(0, color=BARK, linewidth=1)
    name_places(ax, levels, 44)
    ax.set(title=f"Alike in every level of {name}?", xlabel=name, ylabel=a.standardised_name)


def _effects(result: CheckResult, a: CheckArrays) -> Figure:
    """For each term of each unit: QQ plot with its farthest levels named, effects against what the terms expect, and a
    histogram, or against the unit's first effects, whose correlation with them is part of the model."""
    terms = [(u, k) for u in a.effects for k in range(len(u.terms))]
    shown = terms[:MOST_TERMS]
    more = f" (the first {MOST_TERMS} of {len(terms)} terms)" if len(terms) > len(shown) else ""
    columns = max(len(shown), 2)
    figure, axes = canvas(3, columns, f"Predicted effects of {result.name}: {result.model}{more}")
    for i, (unit, k) in enumerate(shown):
        what = short(f"{unit.group}: {unit.terms[k]}", 46 // columns + 8)
        qq(axes[i], unit.effects[:, k], f"{what}: normal?", "predicted effect", unit.levels)
        codes = unit.codes
        counts = np.bincount(codes, minlength=len(unit.levels))
        seen = counts > 0
        mean = np.bincount(codes, a.residuals.average, minlength=len(counts))[seen] / counts[seen]
        against(
            axes[columns + i],
            mean,
            unit.effects[seen, k],
            f"{a.outcome} expected by its terms",
            "predicted effect",
        )
        axes[columns + i].set_title(f"{what}: a pattern?")
        _alone_or_with_first(axes[2 * columns + i], unit, k, what)
    for row in range(3):
        for ax in axes[row * columns + len(shown) : (row + 1) * columns]:
            ax.set_visible(False)
    return figure


def _alone_or_with_first(ax: Axes, unit: EffectArrays, k: int, what: str) -> None:
    """How the effects of a term are distributed; of later terms beside those of the unit's first."""
    values = unit.effects[:, k]
    if k == 0:
        histogram(ax, values, "predicted effect", [])
        ax.set(title=f"{what}: skewed?", ylabel=f"levels of {short(unit.group, 20)}")
        return
    first = unit.effects[:, 0]
    alike = f"correlation {np.corrcoef(first, values)[0, 1]:.2f}" if np.ptp(first) > 0 and np.ptp(values) > 0 else ""
    against(ax, first, values, f"effect of {short(unit.terms[0], 24)}", "predicted effect")
    ax.set_title(f"{what}: {alike}" if alike else what)


def _influence(result: CheckResult, a: CheckArrays) -> Figure:
    """Distances of the levels that move the estimates most, and each parameter's change in units of its SE."""
    made = a.influence[0]
    figure, axes = canvas(1, 2, f"Without one {made.unit.name}: what would change in {result.name}? {result.model}")
    _distances(axes[0], made, MOST_NAMED)
    change = (made.fixed - made.fixed_all) / np.where(made.se > 0, made.se, np.inf)
    ax = axes[1]
    for at, term in enumerate(reversed(made.terms)):
        k = made.terms.index(term)
        values = change[:, k]
        known = np.flatnonzero(np.isfinite(values))
        ax.plot(values[known], np.full(len(known), at), "o", color=LEAF, markersize=6, alpha=float(np.clip(20 / np.sqrt(made.unit.size) / 2, 0.1, 0.6)), markeredgewidth=0)  # fmt: skip
        if len(known):
            far = int(known[np.argmax(np.abs(values[known]))])
            ax.annotate(short(made.unit.texts[far], 30), (values[far], at), xytext=(0, 9), textcoords="offset points", fontsize=9,
                        color=BARK, ha="left" if values[far] < 0 else "right")  # fmt: skip
    ax.axvline(0, color=BARK, linewidth=1)
    ax.set_yticks(range(len(made.terms)), [short(t, 30) for t in made.terms[::-1]])
    ax.set_ylim(-0.6, 1.04 * len(made.terms) - 0.4)
    ax.margins(x=0.15)
    ax.set(title="How far would each estimate move?", xlabel=f"change without one {made.unit.name}, in SEs")
    return figure


def _time(result: CheckResult, a: CheckArrays) -> Figure:
    d = result["autocorrelation"]
    figure, axes = canvas(1, 2, f"Residuals of {result.name} along {d['time']}: {result.model}")
    x = a.times
    seen = np.isfinite(x)
    against(axes[0], x[seen], a.residuals.standardised[seen], d["time"], a.standardised_name)
    axes[0].set_title(f"A trend along {d['time']}?")
    ax, lags = axes[1], d["lags"]
    at = np.array([lag["gap"] for lag in lags])
    r = np.array([lag["correlation"] for lag in lags], dtype=float)
    limit = 1.96 / np.sqrt([lag["pairs"] for lag in lags])
    ax.fill_between(at, d["expected"] - limit, d["expected"] + limit, color=AMBER, alpha=0.25, linewidth=0)
    ax.vlines(at, 0, r, color=LEAF, linewidth=5)
    ax.axhline(0, color=BARK, linewidth=1)
    ax.axhline(d["expected"], color=PLUM, linewidth=1.5, linestyle=(0, (4, 3)), label="expected of independent rows")
    ax.legend(frameon=False, fontsize=10, loc="upper right")
    ax.set_xticks(at)
    ax.margins(x=0.1, y=0.15)
    ax.set(
        title=f"Do rows of one {short(d['unit'], 14)} depend on each other?",
        xlabel=f"gap in {d['time']}",
        ylabel="correlation of residuals",
    )
    return figure
