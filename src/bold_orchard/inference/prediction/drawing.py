"""What ``orchard draw`` shows: unit lines over the data, predicted against observed, effects of predictors, coefficients."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.dates import COUNTED
from bold_orchard.design.design import UnitCodes
from bold_orchard.design.validation import constant_inside
from bold_orchard.errors import OrchardError, UsageError, nearest, shown, unknown_name
from bold_orchard.inference.coefficients.curves import with_curves
from bold_orchard.inference.coefficients.named_numbers import NamedNumber, named_numbers
from bold_orchard.inference.coefficients.reference_grid import ReferenceGrid
from bold_orchard.inference.coefficients.whole_curves import whole_quantile
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.average_lines import POINTS, covariates, places
from bold_orchard.inference.prediction.outcome_errors import OutcomeErrors, between
from bold_orchard.inference.prediction.residuals import fitted_values, residuals
from bold_orchard.inference.prediction.response_scale import grade_chances, outcome_mean
from bold_orchard.inference.summary import numbers
from bold_orchard.sentence.tree import MEAN, columns_of

Array = NDArray[Any]
MOST_GROUPS = 12  # colours and strokes that are told apart
PANELS, TENTHS = 12, 10  # small multiples that fit a page; groups by predicted chance


def predictors(fit: Fit) -> list[str]:
    """Columns of the fixed part, numbers first, then categories, each in the order of the sentence."""
    numbers, coded = covariates(fit), fit.design.coded_columns()
    return [*numbers, *(c.name for c in columns_of(fit.design.fixed.terms, units=False) if c.name in coded)]


@dataclass(frozen=True)
class Along:
    """The column that a line runs along, and the number of it that the sentence names, where that is what stands on the
    axis."""

    column: str
    number: NamedNumber | None = None

    @property
    def name(self) -> str:
        return self.column if self.number is None else self.number.name

    def places(self, x: Array) -> Array:
        """Values of the column (n,) as they stand on the axis."""
        return x if self.number is None else self.number.values(x)

    def placed(self, effects: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """Effects of the column as they stand on the axis."""
        if self.number is None:
            return effects
        return [
            _without_dates(e) | {"predictor": self.name, "x": self.places(np.asarray(e["x"])).tolist()} for e in effects
        ]

    def dates(self, fit: Fit) -> dict[str, bool]:
        """That the axis counts the days of dates, where it does."""
        return dates_along(fit, self.column) if self.number is None else {}


def dates_along(fit: Fit, column: str) -> dict[str, bool]:
    """That values of the column are days of dates, where they are."""
    return {"dates": True} if fit.design.meanings.get(column) == COUNTED else {}


def _without_dates(effect: dict[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in effect.items() if k != "dates"}


def chosen_predictor(fit: Fit, name: str | None) -> Along:
    """The predictor asked for, or the first number; raises when there is none."""
    known = predictors(fit)
    if not known:
        raise UsageError(
            f"'{fit.name}' has no predictor to draw along; try --kind against, or groups {fit.name} --figure"
        )
    if name is None:
        return Along(known[0])
    if name not in known:
        named = named_numbers(fit.design, covariates(fit))
        if name in named:
            return Along(named[name].column, named[name])
        raise UsageError(
            unknown_name("predictor", name, [*known, *named], f"the fixed part of '{fit.name}'") + " (in --along)"
        )
    return Along(name)


def drawn_unit(fit: Fit, name: str | None, along: str) -> UnitCodes:
    """The unit asked for, or the first whose effects vary along the predictor, or the first."""
    units = {u.name: u for u in fit.design.groups}
    if not units:
        raise UsageError(f"'{fit.name}' has no each clause, so there are no units to draw; try --kind effects")
    if name is not None:
        if name not in units:
            raise UsageError(unknown_name("unit", name, units, f"the sentence of '{fit.name}'") + " (in --unit)")
        return units[name]
    for each in fit.design.sentence.clauses:
        if str(each.unit) not in units:
            continue
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


def effects(
    fit: Fit, along: Sequence[str], by: str | None, confidence: float, slope: bool = False, named: str | None = None
) -> list[dict[str, Any]]:
    """For each predictor: values, estimate and the ends of its interval on the outcome's scale (of its ``slope`` on that of the linear
    predictor), one line per level of ``by``; along a curve also the ends of a band that holds all of it together.

    Raises UsageError when ``by`` is not a category of the fixed part, and for the slope of a category.
    """
    coded = fit.design.coded_columns()
    if by is not None and by not in coded:
        raise UsageError(
            unknown_name("category", by, coded or ["(none)"], f"the fixed part of '{fit.name}'") + " (in --by)"
        )
    out = []
    for name in along:
        x, ticks = places(fit, name)
        if slope and ticks:
            continue
        at = np.arange(len(ticks), dtype=float) if ticks else np.linspace(float(x.min()), float(x.max()), POINTS)
        for level in [None] if by is None or by == name else list(dict(fit.design.categories())[coded[by]].levels):
            held: dict[str, float | str] = {} if level is None else {str(by): level}
            if fit.design.predictors and not slope:
                out += _of_predictors(fit, name, at, ticks, by, level, confidence)
                continue
            rows, constant, sure = (
                _slopes(fit, name, at, held, named or name) if slope else _rows(fit, name, at, ticks, held)
            )
            whole = None if ticks else together(fit, rows[sure], confidence)
            out.append({"predictor": name, "by": None if level is None else by, "level": level, "ticks": list(ticks),
                        "x": at.tolist()} | dates_along(fit, name) | _band(fit, rows, constant, sure, confidence, whole, slope))  # fmt: skip
    if not out:
        raise UsageError("--slope is of numbers; a category has differences: orchard means")
    return out


def _of_predictors(
    fit: Fit, name: str, at: Array, ticks: tuple[str, ...], by: str | None, level: str | None, confidence: float
) -> list[dict[str, Any]]:
    """The same where rows have several linear predictors: of the outcome by all of them, of unordered levels a line for
    each, or of one part."""
    from bold_orchard.inference.prediction.several_predictors import SeveralErrors, own_scale, stacked_rows

    held: dict[str, float | str] = {} if level is None else {str(by): level}
    points: list[dict[str, float | str]] = [{**held, name: ticks[int(v)] if ticks else float(v)} for v in at]
    base = {
        "predictor": name,
        "by": None if level is None else by,
        "level": level,
        "ticks": list(ticks),
        "x": at.tolist(),
    } | dates_along(fit, name)
    if fit.one is not None and fit.one != MEAN:
        grid = ReferenceGrid(fit)
        x, constant = grid.rows(points)
        rows, made = grid.kept(x), []
        for row, c in zip(rows, constant):
            said = own_scale(fit.one, float(row @ fit.evaluation.b) + c, fit.known.se(row), confidence)
            made.append((said["outcome"], *said["outcome_ci"]))
        return [base | dict(zip(("estimate", "low", "high"), map(list, zip(*made))))]
    rows, constant = stacked_rows(fit, points)
    errors, eta = SeveralErrors(fit), rows @ fit.evaluation.b + constant
    if fit.model.family.reads != "levels":
        mean, _, low, high = errors.interval(eta, rows, confidence)
        return [base | {"estimate": numbers(mean), "low": numbers(low), "high": numbers(high)}]
    if by is not None:
        raise UsageError("--by: of unordered levels each has a line already; leave it out")
    own, se = errors.probabilities(eta, rows)
    low, high = between(own, se, quantile_t(confidence, None), 0.0, 1.0)
    return [
        base
        | {
            "by": fit.design.outcome,
            "level": text,
            "estimate": numbers(own[k]),
            "low": numbers(low[k]),
            "high": numbers(high[k]),
        }
        for k, text in enumerate(fit.design.levels)
    ]


def _slopes(
    fit: Fit, name: str, at: Array, held: dict[str, float | str], of: str
) -> tuple[Array, Array, NDArray[np.bool_]]:
    """Rows of the derivative along a predictor, in it or in a name ``of`` a function of it, other columns held or
    averaged."""
    grid = ReferenceGrid(fit)
    rows = grid.slope([{**held, name: float(v)} for v in at], of)
    return grid.kept(rows), np.zeros(len(at)), grid.estimable(rows, 0.0)


def together(fit: Fit, rows: Array, confidence: float) -> float | None:
    """How many standard errors either side hold a whole curve, with the degrees of freedom of its least certain point; None of rows that no
    curve is in."""
    if rows.shape[1] == len(fit.model.kept) or not rows[:, len(fit.model.kept) :].any():
        return None
    known = with_curves(fit, fit.known)
    found = [d for d in (known.df(r[None]) for r in rows) if d is not None]
    return whole_quantile(rows, known.covariance, min(found) if found else None, confidence)


def _rows(
    fit: Fit, name: str, at: Array, ticks: tuple[str, ...], held: dict[str, float | str]
) -> tuple[Array, Array, NDArray[np.bool_]]:
    """Rows of X and the offset along a predictor, other columns held or averaged, and which of them have an answer."""
    grid = ReferenceGrid(fit)
    rows, constant = grid.rows([{**held, name: ticks[int(v)] if ticks else float(v)} for v in at])
    return grid.kept(rows), constant, grid.estimable(rows)


def _band(
    fit: Fit,
    rows: Array,
    constant: Array,
    sure: NDArray[np.bool_],
    confidence: float,
    whole: float | None = None,
    slope: bool = False,
) -> dict[str, list[Any]]:
    """The mean and its ends along rows (n, p'), None where they have no answer; ``whole`` errors either side of a curve together."""
    known = with_curves(fit, fit.known)
    middle = rows @ known.b + constant
    wide: tuple[Array, ...] = ()
    if whole is not None:
        errors = whole * np.array([known.se(r) for r in rows])
        wide = (middle - errors, middle + errors)
        if not fit.design.additive and not slope:
            wide = tuple(np.sort([outcome_mean(fit, v) for v in wide], axis=0))
    if fit.design.additive or slope:
        width = np.array([quantile_t(confidence, known.df(r[None])) * known.se(r) for r in rows])
        made = (middle, middle - width, middle + width)
    else:
        mean, _, low, high = OutcomeErrors(fit).interval(middle, rows, confidence)
        made = (mean, low, high)
    keys = ("estimate", "low", "high", "low_simultaneous", "high_simultaneous")
    return {key: numbers(np.where(sure, v, np.nan)) for key, v in zip(keys, (*made, *wide))}


def coefficients(fits: Sequence[Fit], confidence: float) -> list[dict[str, Any]]:
    """Estimates and intervals of every term but the intercept (all terms where there is nothing else), fit by fit."""
    rows, slopes = [], []
    for f in fits:
        cuts = {r.term for r in f.result.thresholds}
        for r in f.result.coefficients:
            if r.estimate is None:
                continue
            width = None if r.se is None else quantile_t(confidence, r.df) * r.se
            ends = (None, None) if width is None else (r.estimate - width, r.estimate + width)
            rows.append(
                {
                    "fit": f.name,
                    "term": r.term,
                    "label": r.label,
                    "estimate": r.estimate,
                    "low": ends[0],
                    "high": ends[1],
                }
            )
            slopes += [rows[-1]] if r.term not in cuts and r.term != "intercept" else []
    return slopes or rows


def observed(fit: Fit) -> Array:
    """The outcome as it is drawn, (n,): shares of trials, grades as numbers."""
    design = fit.of_table.design
    if design.trials is not None:
        return np.asarray(design.y / design.trials)
    if design.graded:
        return np.asarray(design.y + 1.0)
    return design.outcome_values


def against_rows(fit: Fit) -> list[dict[str, Any]]:
    """Observed and predicted, with the units' effects and without, for every row used (shares of trials)."""
    if fit.model.family.reads == "levels":
        raise UsageError("--kind against: of unordered levels there is no one fitted value; try --kind effects")
    rows = zip(fit.own_table.row_numbers, observed(fit), *fitted_values(fit))
    return [
        {"row": int(row), "observed": float(o), "predicted": float(p), "predicted_average": float(a)}
        for row, o, p, a in rows
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
