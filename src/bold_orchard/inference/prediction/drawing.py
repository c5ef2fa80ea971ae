"""What ``orchard draw`` shows: unit lines over the data, predicted against observed, effects of predictors, coefficients."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import covariate_columns, rebuild_parts
from bold_orchard.design.design import UnitCodes
from bold_orchard.design.lags import lag_calls
from bold_orchard.design.validation import constant_inside
from bold_orchard.errors import OrchardError, UsageError, nearest, shown, unknown_name
from bold_orchard.frozen import Frozen, frozen
from bold_orchard.inference.coefficients.reference_grid import ReferenceGrid
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.average_lines import covariates
from bold_orchard.inference.prediction.residuals import residuals
from bold_orchard.inference.prediction.response_scale import grade_chances, outcome_mean, outcome_scale
from bold_orchard.sentence.tree import columns_of

Array = NDArray[Any]
MOST_GROUPS = 12  # colours and strokes that are told apart
POINTS, PANELS, TENTHS = 40, 12, 10  # points of a line; small multiples that fit a page; groups by predicted chance


@frozen
class UnitLines(Frozen):
    """Lines of the levels ``shown`` of a unit along a predictor, on the outcome's scale.

    ``x[i]`` and ``y[i]`` (points,) belong to level ``shown[i]``; ``at`` and ``average`` are the average line. A category's
    values are places 0, 1, ... named by ``ticks``.
    """

    unit: UnitCodes
    along: str
    ticks: tuple[str, ...]
    shown: NDArray[np.intp]
    x: list[Array]
    y: list[Array]
    at: Array
    average: Array


def predictors(fit: Fit) -> list[str]:
    """Columns of the fixed part, numbers first, then categories, each in the order of the sentence."""
    numbers, coded = covariates(fit), fit.design.coded_columns()
    return [*numbers, *(c.name for c in columns_of(fit.design.fixed.terms, units=False) if c.name in coded)]


def chosen_predictor(fit: Fit, name: str | None) -> str:
    """The predictor asked for, or the first number; raises when there is none."""
    known = predictors(fit)
    if not known:
        raise UsageError(
            f"'{fit.name}' has no predictor to draw along; try --kind against, or groups {fit.name} --figure"
        )
    if name is None:
        return known[0]
    if name not in known:
        raise UsageError(unknown_name("predictor", name, known, f"the fixed part of '{fit.name}'") + " (in --along)")
    return name


def drawn_unit(fit: Fit, name: str | None, along: str) -> UnitCodes:
    """The unit asked for, or the first whose effects vary along the predictor, or the first."""
    units = {u.name: u for u in fit.design.units}
    if not units:
        raise UsageError(f"'{fit.name}' has no each clause, so there are no units to draw; try --kind effects")
    if name is not None:
        if name not in units:
            raise UsageError(unknown_name("unit", name, units, f"the sentence of '{fit.name}'") + " (in --unit)")
        return units[name]
    for each in fit.design.sentence.each:
        if along in [c.name for c in columns_of(each.terms)]:
            return units[str(each.unit)]
        rest = {c.name for c in each.unit.columns} - {along}
        inner = next((u for n, u in units.items() if set(n.split(" in ")) == rest), None)
        if inner is not None and len(rest) < len(each.unit.columns):
            return inner
    return next(iter(units.values()))


def chosen_levels(unit: UnitCodes, names: Sequence[str], seed: int, most: int) -> NDArray[np.intp]:
    """The levels named, or at most ``most`` by a seeded choice, in the order of the data; raises for an unknown name."""
    if names:
        place = {t: i for i, t in enumerate(unit.texts)}
        for name in names:
            if name not in place:
                near = nearest(name, place)
                hint = f"did you mean '{near}'?" if near else "there are: " + ", ".join(shown(unit.texts))
                raise OrchardError(f"there is no {unit.name} '{name}'; {hint}")
        return np.array(list(dict.fromkeys(place[n] for n in names)), dtype=np.intp)
    if unit.size <= most:
        return np.arange(unit.size)
    return np.sort(np.random.default_rng(seed).choice(unit.size, most, replace=False))


def places(fit: Fit, along: str) -> tuple[Array, tuple[str, ...]]:
    """The predictor as numbers over the rows (n,), and the names of its places if it is a category."""
    if along in covariates(fit):
        return fit.design.table.numbers(along), ()
    texts, place = fit.design.table.labels(along).ordered
    return place[fit.design.table.labels(along).codes].astype(float), tuple(texts)


def groups_of(fit: Fit, unit: UnitCodes, by: str) -> tuple[Array, tuple[str, ...]]:
    """The level of a category that every row has, (n,), and their names.

    Raises UsageError for a column that is not there, is no category, or differs inside one level of the unit.
    """
    table = fit.design.table
    if by not in table.columns:
        raise UsageError(unknown_name("column", by, table.columns, "the data") + " (in --by)")
    labels = table.labels(by)
    if len(labels.texts) > MOST_GROUPS:
        raise UsageError(
            f"--by {by}: it has {len(labels.texts):,} values, too many to tell colours apart; give a category"
        )
    place = labels.ordered[1][labels.codes]
    if not constant_inside(unit.codes, unit.size, place.astype(float)):
        raise UsageError(
            f"--by {by}: {by} differs inside one {unit.name}, so its line has no one colour; --kind effects --by {by} draws a line "
            f"for each level of {by}"
        )
    return place.astype(float), tuple(labels.ordered[0])


def unit_lines(fit: Fit, unit: UnitCodes, along: str, levels: NDArray[np.intp]) -> UnitLines:
    """Each level's own line: its effects and those of the units it belongs to, over its own range of the predictor.

    Other numbers stand at the level's mean, other categories at its most common value; units that cross it have effect zero, but for
    those that it makes together with a category the line runs along.
    """
    x, ticks = places(fit, along)
    low, high = np.full(unit.size, np.inf), np.full(unit.size, -np.inf)
    np.minimum.at(low, unit.codes, x)
    np.maximum.at(high, unit.codes, x)
    if ticks:
        grids = [np.unique(x[unit.codes == j]) for j in levels]
    else:
        wide, every = high[levels] > low[levels], np.linspace(low[levels], high[levels], POINTS).T
        grids = [own if w else own[:1] for own, w in zip(every, wide.tolist())]
    who = np.repeat(levels, [len(g) for g in grids])
    values = np.concatenate(grids)
    eta = _linear(fit, unit, who, along, values, ticks)
    stops = np.cumsum([len(g) for g in grids])[:-1]
    at = np.arange(len(ticks), dtype=float) if ticks else np.linspace(float(x.min()), float(x.max()), POINTS)
    rows, constant = _rows(fit, along, at, ticks, {})
    y = np.split(outcome_mean(fit, eta), stops)
    return UnitLines(unit, along, ticks, levels, grids, y, at, outcome_mean(fit, rows @ fit.evaluation.b + constant))


def _linear(fit: Fit, unit: UnitCodes, who: Array, along: str, values: Array, ticks: tuple[str, ...]) -> Array:
    """X b + Z u for typical rows of some levels, the predictor set to ``values``."""
    design, e = fit.design, fit.evaluation
    table = _typical(fit, unit, who, along, values, ticks)
    fixed, parts, offset = rebuild_parts(design, table)
    eta = np.zeros(len(who)) if offset is None else offset.copy()
    for b, column in zip(e.b, e.criterion.products.standard.kept):
        eta += b * fixed.values[column]
    for clause, part in zip(design.clauses, parts):
        own = design.blocks[clause.block].unit
        if constant_inside(unit.codes, unit.size, own.codes):
            inside, at, size = unit.codes, who, unit.size
        elif ticks:  # a unit made of this one and of the predictor: variety in site along variety
            place = places(fit, along)[0].astype(np.intp)
            inside, at, size = (
                unit.codes * len(ticks) + place,
                who * len(ticks) + values.astype(np.intp),
                unit.size * len(ticks),
            )
            if not constant_inside(inside, size, own.codes):
                continue
        else:
            continue
        level = np.zeros(size, dtype=np.intp)
        level[inside] = own.codes
        effects = e.effects(clause.block)[0][:, clause.columns]
        eta += np.einsum("nk,nk->n", np.column_stack(part.values), effects[level[at]])
    return eta


def _typical(fit: Fit, unit: UnitCodes, who: Array, along: str, values: Array, ticks: tuple[str, ...]) -> Table:
    design, table = fit.design, fit.design.table
    coded = design.coded_columns()
    names = dict.fromkeys([*covariate_columns(design.sentence), *(c.name for c in columns_of(design.sentence.each))])
    grouping = {c.name for each in design.sentence.each for c in each.unit.columns}
    columns: dict[str, Any] = {}
    for name in names:
        if name == along and not ticks:
            columns[name] = values
        elif name == along:
            labels = table.labels(along)
            columns[name] = labels.raw[np.argsort(labels.ordered[1])][values.astype(np.intp)]
        elif table.kind(name) == "number" and name not in coded and name not in grouping:
            totals = np.bincount(unit.codes, table.numbers(name), minlength=unit.size)
            columns[name] = (totals / np.maximum(unit.counts, 1))[who]
        else:
            columns[name] = _commonest(table, name, unit)[who]
    for call in lag_calls(design.sentence):
        totals = np.bincount(unit.codes, table.numbers(call.written), minlength=unit.size)
        columns[call.written] = (totals / np.maximum(unit.counts, 1))[who]
    return Table(columns, "the lines", len(who))


def _commonest(table: Table, name: str, unit: UnitCodes) -> Array:
    """The most common label of a column in each level."""
    labels = table.labels(name)
    place = labels.ordered[1]
    pairs, counts = np.unique(unit.codes * len(place) + place[labels.codes], return_counts=True)
    order = np.lexsort((pairs, -counts))  # ties go to the label that comes first in natural order
    levels, first = np.unique(pairs[order] // len(place), return_index=True)
    out = np.empty(unit.size, dtype=labels.raw.dtype)
    out[levels] = labels.raw[np.argsort(place)][pairs[order][first] % len(place)]
    return out


def effects(fit: Fit, along: Sequence[str], by: str | None, confidence: float) -> list[dict[str, Any]]:
    """For each predictor: values, estimate and the ends of its interval on the outcome's scale, one line per level of ``by``.

    Raises UsageError when ``by`` is not a category of the fixed part.
    """
    coded = fit.design.coded_columns()
    if by is not None and by not in coded:
        raise UsageError(
            unknown_name("category", by, coded or ["(none)"], f"the fixed part of '{fit.name}'") + " (in --by)"
        )
    out = []
    for name in along:
        x, ticks = places(fit, name)
        at = np.arange(len(ticks), dtype=float) if ticks else np.linspace(float(x.min()), float(x.max()), POINTS)
        for level in [None] if by is None or by == name else list(dict(fit.design.categories())[coded[by]].levels):
            rows, constant = _rows(fit, name, at, ticks, {} if level is None else {str(by): level})
            out.append({"predictor": name, "by": None if level is None else by, "level": level, "ticks": list(ticks),
                        "x": at.tolist()} | _band(fit, rows, constant, confidence))  # fmt: skip
    return out


def _rows(fit: Fit, name: str, at: Array, ticks: tuple[str, ...], held: dict[str, float | str]) -> tuple[Array, Array]:
    """Rows of X and the offset along a predictor, other columns held or averaged."""
    grid = ReferenceGrid(fit)
    rows, constant = grid.rows([{**held, name: ticks[int(v)] if ticks else float(v)} for v in at])
    return grid.kept(rows), constant


def _band(fit: Fit, rows: Array, constant: Array, confidence: float) -> dict[str, list[float]]:
    known = fit.known
    if fit.design.graded:  # the error of the thresholds belongs to that of a mean grade
        made = [outcome_scale(fit, known, r, float(c), confidence) for r, c in zip(rows, constant)]
        return {"estimate": [m["outcome"] for m in made], "low": [m["outcome_ci"][0] for m in made],
                "high": [m["outcome_ci"][1] for m in made]}  # fmt: skip
    middle = rows @ fit.evaluation.b + constant
    width = np.array([quantile_t(confidence, known.df(r[None])) * known.se(r) for r in rows])
    ends = {"estimate": middle, "low": middle - width, "high": middle + width}
    return {key: outcome_mean(fit, v).tolist() for key, v in ends.items()}


def coefficients(fits: Sequence[Fit], confidence: float) -> list[dict[str, Any]]:
    """Estimates and intervals of every term but the intercept (all terms where there is nothing else), fit by fit."""
    rows = []
    for f in fits:
        for r in f.result["fixed"]:
            if r["estimate"] is not None:
                width = None if r["se"] is None else quantile_t(confidence, r["df"]) * r["se"]
                ends = (None, None) if width is None else (r["estimate"] - width, r["estimate"] + width)
                rows.append({"fit": f.name, "term": r["term"], "label": r["label"], "estimate": r["estimate"],
                             "low": ends[0], "high": ends[1]})  # fmt: skip
    slopes = [r for r in rows if r["term"] != "intercept" and not r["term"].startswith("threshold[")]
    return slopes or rows


def against_rows(fit: Fit) -> list[dict[str, Any]]:
    """Observed and predicted, with the units' effects and without, for every row used (shares of trials)."""
    rest = residuals(fit)
    y = rest.fitted + rest.conditional
    if fit.design.graded:
        y = fit.design.y + 1.0
    return [
        {"row": int(row), "observed": float(o), "predicted": float(p), "predicted_average": float(a)}
        for row, o, p, a in zip(fit.design.table.row_numbers, y, rest.fitted, rest.average)
    ]


def tenths_of(fit: Fit) -> list[dict[str, Any]] | None:
    """For 0/1 outcomes and grades: mean predicted chance and observed share in tenths of the rows; else None."""
    design = fit.design
    if design.graded:
        chances = grade_chances(fit, fit.model.linear_predictor())
        seen = {level: design.y == k for k, level in enumerate(design.levels)}
    elif fit.model.family.reads == "two levels" and design.trials is None:
        name = design.levels[1] if design.levels else "1"
        chances, seen = {name: residuals(fit).fitted}, {name: design.y == 1}
    else:
        return None
    out = []
    for level, chance in chances.items():
        for part in np.array_split(np.argsort(chance, kind="stable"), TENTHS):
            if len(part):
                out.append({"level": level, "rows": len(part), "predicted": float(chance[part].mean()),
                            "observed": float(seen[level][part].mean())})  # fmt: skip
    return out


def correlations(rows: list[dict[str, Any]]) -> dict[str, float | None]:
    """Of observed with predicted values, with the units' effects and without."""
    out: dict[str, float | None] = {}
    y = np.array([r["observed"] for r in rows])
    for key in ("predicted", "predicted_average"):
        x = np.array([r[key] for r in rows])
        out[key] = float(np.corrcoef(x, y)[0, 1]) if np.ptp(x) > 0 and np.ptp(y) > 0 else None
    return out
