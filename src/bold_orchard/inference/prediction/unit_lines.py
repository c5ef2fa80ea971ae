"""Each unit's own line along a predictor, beside the average line, all at the same values of everything else."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.table import Table
from bold_orchard.design.build import covariate_columns, fixed_part, split_offsets
from bold_orchard.design.design import UnitCodes
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.transformations import OUTCOME, Category, ColumnMaker
from bold_orchard.design.validation import constant_inside
from bold_orchard.inference.coefficients.curves import average_curves
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.average_lines import POINTS, places
from bold_orchard.inference.prediction.response_scale import outcome_mean
from bold_orchard.sentence.tree import BY_UNIT, MEAN, calls_of, columns_of

Array = NDArray[Any]


@dataclass(frozen=True)
class UnitLines:
    """Lines of the levels ``shown`` of a unit along a predictor, on the outcome's scale.

    ``x[i]`` and ``y[i]`` (points,) belong to level ``shown[i]``; ``at`` and ``average`` are the average line. A category's
    values are places 0, 1, ... named by ``ticks``; ``held`` says at what values of all else the lines stand.
    """

    unit: UnitCodes
    along: str
    ticks: tuple[str, ...]
    shown: NDArray[np.intp]
    x: list[Array]
    y: list[Array]
    at: Array
    average: Array
    held: str = ""


def unit_lines(fit: Fit, unit: UnitCodes, along: str, levels: NDArray[np.intp], by: str | None = None) -> UnitLines:
    """Each level's own line over its own range of the predictor: the average line plus its effects and those of the units it belongs to.

    All lines and the average stand at the same values, numbers at their means and categories at equal weights (where ``by`` names a
    category of the fixed part, each level's at its own), so that they differ by the units' effects alone; what a
    function takes from the unit
    itself, as centre(rain, orchard) does, each line has of its own. Units that cross this one have effect zero, but for
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
    at = np.arange(len(ticks), dtype=float) if ticks else np.linspace(float(x.min()), float(x.max()), POINTS)
    each = fit.each_predictor or [fit]
    of_units, of_average, held = [], [], ""
    for one in each:
        rows = Lines(one, along, ticks, _own_columns(fit, unit, by, along))
        eta, parts = rows.at(values, who)
        of_units.append(eta + _own_effects(fit, unit, who, along, values, ticks, parts))
        of_average.append(Lines(one, along, ticks).at(at, np.zeros(len(at), dtype=np.intp))[0])
        held = rows.held()
    y, average = (_on_outcome_scale(fit, made) for made in (of_units, of_average))
    own = np.split(y, np.cumsum([len(g) for g in grids])[:-1])
    return UnitLines(unit, along, ticks, levels, grids, own, at, average, held)


def _on_outcome_scale(fit: Fit, predictors: list[Array]) -> Array:
    """The outcome's mean at linear predictors (n,), of a part that is asked about what it says."""
    if fit.one in fit.design.predictors and fit.one != MEAN:
        own = predictors[fit.design.predictors.index(fit.one)]
        return np.exp(own) if fit.one == "spread" else np.asarray(1.0 / (1.0 + np.exp(-own)))
    return outcome_mean(fit, np.stack(predictors, axis=1).ravel() if len(predictors) > 1 else predictors[0])


def _own_columns(fit: Fit, unit: UnitCodes, by: str | None, along: str) -> dict[str, Array]:
    """Columns that every level of the unit has at its own value, raw (levels,): ``by`` where the fixed part holds it,
    and those of the unit
    itself, and of the units it belongs to, in functions such as centre(rain, orchard)."""
    design, coded = fit.design, fit.design.coded_columns()
    terms = (design.sentence.terms, tuple(e.terms for e in design.sentence.clauses))
    wanted = [by] if by in coded else []
    wanted += [c.name for call in calls_of(terms) if call.function in BY_UNIT for c in columns_of(call.arguments[1:2])]
    out, first = {}, np.zeros(unit.size, dtype=np.intp)
    first[unit.codes[::-1]] = np.arange(len(unit.codes))[::-1]
    for name in dict.fromkeys(wanted):
        labels = design.table.labels(name)
        if name is None or name == along or (name != by and name in coded):
            continue
        if name == by or constant_inside(unit.codes, unit.size, labels.codes.astype(float)):
            out[name] = labels.raw[labels.codes[first]]
    return out


class Lines:
    """Typical rows along a predictor: numbers at their means over the rows used, categories at equal weights over their levels.

    Combinations of categories that the fit's rows do not tell have no part in the average.
    """

    def __init__(self, fit: Fit, along: str, ticks: tuple[str, ...], own: Mapping[str, Array] | None = None) -> None:
        self.fit, self.along, self.ticks, self.own = fit, along, ticks, own or {}
        design, table = fit.design, fit.design.table
        self.training = design.maker()
        factors = [f for e in design.sentence.clauses for t in e.terms for f in t.factors if not t.is_spread]
        coded = {m.column for m in map(self.training.make, factors) if isinstance(m, Category)} | set(
            design.coded_columns()
        )
        held = {along, *self.own}
        names = dict.fromkeys(covariate_columns(design.sentence))
        self.numbers = {
            n: design.mean_of(table.numbers(n)) for n in names if n not in coded | held and table.kind(n) == "number"
        }
        self.free = {n: table.labels(n) for n in names if n not in self.numbers and n not in held}

    def held(self) -> str:
        """At what values the lines stand, in words; empty where nothing else is in the model."""
        words = [f"{n} = {v:.4g} (its mean)" for n, v in self.numbers.items()]
        words += [f"{n} at equal weights" for n in self.free]
        words += [f"{n} as each level has it" for n in self.own]
        return ", ".join(words)

    def at(self, values: Array, who: NDArray[np.intp]) -> tuple[Array, list[Array]]:
        """X b (n,) at each value for each level of the unit, and the columns of every clause, each (n, k)."""
        fit, design = self.fit, self.fit.design
        eta, count = np.zeros(len(values)), np.zeros(len(values))
        parts = [np.zeros((len(values), len(c.part.names))) for c in design.clauses]
        for cell in itertools.product(*(labels.positions for labels in self.free.values())):
            table = self._table(values, who, cell)
            maker = ColumnMaker(
                table, design.memory, learn=False, reference=self.training, own_units=frozenset(self.own)
            )
            offset, plain = split_offsets(design.sentence.terms, maker)
            fixed = fixed_part(plain, design.sentence, maker, design.family)
            sure = (
                fit.model.column_space.answers(np.column_stack(fixed.values))
                if fixed.values
                else np.ones(len(values), dtype=bool)
            )
            own = np.zeros(len(values)) if offset is None else offset.copy()
            for b, column in zip(fit.evaluation.b, fit.model.kept):
                own += b * fixed.values[column]
            own += average_curves(fit, maker)
            eta += np.where(sure, own, 0.0)
            count += sure
            for out, each in zip(parts, design.sentence.clauses):
                out += np.where(sure[:, None], np.column_stack(build_part(each.terms, False, maker).values), 0.0)
        with np.errstate(all="ignore"):
            return eta / count, [p / count[:, None] for p in parts]

    def _table(self, values: Array, who: NDArray[np.intp], cell: tuple[int, ...]) -> Table:
        n = len(values)
        columns: dict[str, Any] = {c: np.full(n, v) for c, v in self.numbers.items()}
        for (name, labels), place in zip(self.free.items(), cell):
            columns[name] = np.full(n, labels.raw[place], dtype=labels.raw.dtype)
        columns |= {name: values_of[who] for name, values_of in self.own.items() if name != self.along}
        columns[self.along] = values
        if self.ticks:
            levels = self.fit.design.table.labels(self.along)
            columns[self.along] = levels.raw[np.array(levels.positions)][values.astype(np.intp)]
        for call in self.fit.design.sentence.lags:
            columns[call.written] = np.full(n, self.fit.design.mean_of(self.fit.design.table.numbers(call.written)))
        names = self.fit.design.stacked_names
        if names:
            code = names.index(self.fit.one) if self.fit.one is not None else 0
            columns[OUTCOME] = Texts(np.full(n, code, dtype=np.intp), np.array(names, dtype=object), names)
        return Table(columns, "the lines", n)


def _own_effects(
    fit: Fit, unit: UnitCodes, who: Array, along: str, values: Array, ticks: tuple[str, ...], parts: list[Array]
) -> Array:
    """Z u of some levels of a unit and of the units that they belong to, from the columns of every clause."""
    design, total = fit.design, np.zeros(len(who))
    for clause, z in zip(design.clauses, parts):
        if design.units[clause.unit].curve:  # among the average
            continue
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
        effects = fit.evaluation.effects(clause.block)[0][:, clause.columns]
        total += np.einsum("nk,nk->n", z, effects[level[at]])
    return total
