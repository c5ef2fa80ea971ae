"""Average changes of the outcome's mean, one variable at a time, every column that holds it moved along."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.build import fixed_part, split_offsets
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.transformations import Category, ColumnMaker, Numeric
from bold_orchard.inference.coefficients.curves import average_curves
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.response_scale import outcome_mean, population_mean
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.averages import effect_variances
from bold_orchard.sentence import tree

Array = NDArray[Any]
STEP = 1e-4  # of a variable's SD, for its slope


@dataclass(frozen=True)
class Move:
    """Two states of the rows between which one variable changes, by ``span`` (n,) or a number: makers of their columns."""

    term: str
    ends: tuple[ColumnMaker, ColumnMaker]
    span: Array | float


def average_effects(fit: Fit) -> list[dict[str, Any]]:
    """Per variable of the fixed part the average change of the outcome's mean, unit-specific and population-averaged.

    A category is moved from its baseline to each level in every row, a two-valued number from its low to its high value, of other numbers
    the slope is averaged; all columns that hold the variable move with it, units' slopes too. The unit-specific figure keeps each row at
    its unit's average (effect zero), the other integrates over units.
    """
    if fit.design.graded:
        return []
    out = []
    for move in _moves(fit):
        ends = [_means(fit, maker) for maker in move.ends]
        own, over = (np.mean((b - a) / move.span) for a, b in zip(*ends))
        out.append({"term": move.term, "unit_specific": number(own), "population": number(over)})
    return out


def _means(fit: Fit, maker: ColumnMaker) -> tuple[Array, Array]:
    """The outcome's mean of every row for an average unit, and averaged over units."""
    design, e = fit.design, fit.evaluation
    offset, plain = split_offsets(design.sentence.terms, maker)
    fixed = fixed_part(plain, design.sentence, maker, design.family)
    eta = np.zeros(len(design.y)) if offset is None else offset.copy()
    for b, column in zip(e.b, fit.model.kept):
        eta += b * fixed.values[column]
    eta += average_curves(fit, maker)
    parts = [build_part(each.terms, False, maker) for each in design.sentence.clauses]
    variance = effect_variances(fit.model, parts)
    return outcome_mean(fit, eta), population_mean(lambda at: outcome_mean(fit, at), eta, variance)


def _moves(fit: Fit) -> Iterator[Move]:
    design, maker = fit.design, fit.design.maker()
    factors = {f.written: f for t in design.fixed.terms for f in t.factors}
    done: set[str] = set()
    for key, factor in factors.items():
        made = maker.make(factor)
        if key in done:
            continue
        if isinstance(made, Category):
            done.add(key)
            for i in range(1, len(made.levels)):
                low, high = (
                    _with(fit, {key: Category(made.name, made.column, made.levels, np.full_like(made.codes, j))})
                    for j in (0, i)
                )
                yield Move(f"{made.name}[{made.levels[i]}]", (low, high), 1.0)
            continue
        column, beside = _shared(factor, factors)
        if column is None or (len(beside) == 1 and len(made.names) == 1):
            done.add(key)
            yield from _of_factor(fit, key, made)
            continue
        done |= {f for f in beside if {c.name for c in _moving(factors[f])} == {column}}
        yield from _of_column(fit, column)


def _moving(factor: tree.Factor) -> list[tree.Column]:
    """Raw columns that a row's own value enters by; a mean of its unit is a variable of the unit."""
    inner = factor.factor if isinstance(factor, tree.Named) else factor
    if isinstance(inner, tree.Call) and inner.function in ("mean", "min", "max"):
        return []
    return tree.columns_of((factor,), units=False)


def _shared(factor: tree.Factor, factors: dict[str, tree.Factor]) -> tuple[str | None, list[str]]:
    """The raw column by which a factor moves, and all factors that move with it; None for what has no one column."""
    own = {c.name for c in _moving(factor)}
    if len(own) != 1:
        return None, []
    column = own.pop()
    return column, [k for k, f in factors.items() if column in {c.name for c in _moving(f)}]


def _with(fit: Fit, made: dict[str, Numeric | Category]) -> ColumnMaker:
    """The columns of the fit's rows with some factors set."""
    maker = fit.design.maker()
    maker.set(made)
    return maker


def _of_factor(fit: Fit, key: str, made: Numeric) -> Iterator[Move]:
    for k, (name, values) in enumerate(zip(made.names, made.values)):
        low, high, span = _states(values)
        one, two = (Numeric(made.names, (*made.values[:k], v, *made.values[k + 1 :]), made.zero) for v in (low, high))
        if np.any(span):
            yield Move(name, (_with(fit, {key: one}), _with(fit, {key: two})), span)


def _of_column(fit: Fit, column: str) -> Iterator[Move]:
    design = fit.design
    values = design.table.numbers(column)
    low, high, span = _states(values)
    if np.any(span):
        one, two = (
            ColumnMaker(design.table.with_columns({column: v}), design.memory, learn=False) for v in (low, high)
        )
        yield Move(column, (one, two), span)


def _states(values: Array) -> tuple[Array, Array, Array | float]:
    """The two states of a number, and how far they are apart."""
    first, last = float(values.min()), float(values.max())
    if len(np.unique(values[:10_000])) <= 2 and np.isin(values, (first, last)).all():
        return np.full(len(values), first), np.full(len(values), last), 1.0 if last > first else 0.0
    h = STEP * float(values.std())
    return values - h, values + h, 2.0 * h
