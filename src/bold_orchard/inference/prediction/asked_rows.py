"""Rows for which predictions are asked: what the model needs of them, and the outcome where it was measured."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.evaluate import evaluate
from bold_orchard.data.table import Table
from bold_orchard.design.build import covariate_columns, rebuild_parts
from bold_orchard.design.design import UnitCodes
from bold_orchard.design.made_columns import with_made_columns
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.tree import Named, columns_of

Array = NDArray[Any]
UNTOLD = "there is no estimate there, since the rows of the fit do not tell its coefficients apart (empty combinations of categories, or aliased terms)"


@dataclass(frozen=True)
class Needed:
    """Rows that can be predicted: those of ``table`` that are ``complete``, as ``used``, with columns ``x`` (n, p') of coefficients with an
    estimate, the columns of every clause, and the offset (n,).
    """

    table: Table
    complete: NDArray[np.bool_]
    used: Table
    x: Array
    parts: tuple[Any, ...]
    offset: Array | None


class NoRow(OrchardError):
    """No row of a table can be predicted."""


def needed(fit: Fit, table: Table, new_observation: bool) -> Needed:
    """Raises NoRow where no row has all covariates, or none rests on coefficients that have estimates."""
    table = lagged(fit, table)
    complete = complete_rows(fit, table, new_observation)
    if not complete.any():
        raise NoRow(no_row(table))
    made = _of(fit, table, complete)
    if len(fit.model.kept) == len(fit.design.fixed.names):
        return made
    told = answered(fit, made.used)
    if told.all():
        return made
    if not told.any():
        raise NoRow(f"no row of {table.name} can be predicted: {UNTOLD}")
    complete = complete.copy()
    complete[complete] = told
    return _of(fit, table, complete)


def _of(fit: Fit, table: Table, complete: NDArray[np.bool_]) -> Needed:
    used = table.take(complete)
    fixed, parts, offset = rebuild_parts(fit.design, used)
    kept = fit.model.kept
    x = np.column_stack([fixed.values[c] for c in kept]) if kept else np.zeros((len(used), 0))
    return Needed(table, complete, used, x, parts, offset)


def answered(fit: Fit, used: Table) -> NDArray[np.bool_]:
    """Whether each of some complete rows is told by coefficients that have estimates, (n,)."""
    fixed, _, _ = rebuild_parts(fit.design, used)
    return fit.model.column_space.answers(np.column_stack(fixed.values))


def refused(fit: Fit, table: Table, new_observation: bool) -> NDArray[np.intp]:
    """Numbers of the rows that have all covariates and no prediction all the same."""
    if len(fit.model.kept) == len(fit.design.fixed.names) or fit.design.predictors:
        return np.zeros(0, dtype=np.intp)
    complete = complete_rows(fit, table, new_observation)
    return np.asarray(table.row_numbers[complete][~answered(fit, table.take(complete))])


def no_row(table: Table) -> str:
    """That nothing can be predicted."""
    return f"no row of {table.name} has all covariates of the model"


def lagged(fit: Fit, table: Table) -> Table:
    """The table with what its rows take from the rows before them."""
    return with_made_columns(fit.design.sentence, table)[0]


def complete_rows(fit: Fit, table: Table, new_observation: bool) -> NDArray[np.bool_]:
    """Rows with all covariates, (n,)."""
    design, complete = fit.design, np.ones(len(table), dtype=bool)
    for column in dict.fromkeys(
        [
            *covariate_columns(design.sentence),
            *(c.written for c in design.sentence.lags),
            *(spread_columns(fit) if new_observation else []),
        ]
    ):
        complete &= ~table.is_missing(column)
    return complete


def scattered(at: Needed, values: Array) -> Array:
    """Values (n, ...) of the rows that can be predicted at their places among all rows, NaN elsewhere."""
    out = np.full((len(at.table), *values.shape[1:]), np.nan)
    out[at.complete] = values
    return out


def spread_columns(fit: Fit) -> list[str]:
    """Columns on which a row's residual variance depends."""
    within, spread = fit.design.sentence.within, [c.name for c in columns_of(fit.design.sentence.spread)]
    if within is None:
        return spread
    occasion = within.structure.column if fit.design.residual.by_occasion else None
    return [*spread, *(c.name for c in (occasion, within.by) if c is not None)]


def variance_places(fit: Fit, used: Table) -> NDArray[np.intp]:
    """Row -> which of the variances of the fit's residuals it has, (n,); raises OrchardError for an occasion or level that was not in it."""
    residual, within = fit.design.residual, fit.design.sentence.within
    assert within is not None
    time = _known(used, within.structure.columns[0].name, residual.labels) if residual.by_occasion else None
    level = None if within.by is None else _known(used, within.by.name, residual.levels)
    return residual.variance_codes(time, level)


def _known(used: Table, column: str, known: Sequence[str]) -> NDArray[np.intp]:
    labels = used.labels(column)
    place = {label: i for i, label in enumerate(known)}
    new = [t for t in labels.texts if t not in place]
    if new:
        raise OrchardError(
            f"{column} {new[0]} was not in the fit, so the variance there is unknown; leave out --new-observation"
        )
    return np.array([place[t] for t in labels.texts], dtype=np.intp)[labels.codes]


def trials_of(fit: Fit, used: Table) -> Array | None:
    """Trials of each row, (n,), of an outcome that has them; raises UsageError for rows without that column."""
    outcome = fit.design.sentence.outcome
    if outcome.trials is None:
        return None
    if not used.has(outcome.trials.name):
        raise UsageError(f"--new-observation needs the trials of every row: a column '{outcome.trials.name}'")
    return np.asarray(used.numbers(outcome.trials.name))


def outside(fit: Fit, table: Table) -> list[tuple[str, int]]:
    """Covariates with rows beyond the values of the fit's own data, and how many."""
    found = []
    for column in dict.fromkeys(covariate_columns(fit.design.sentence)):
        if column in fit.design.ends and table.kind(column) == "number":
            low, high = fit.design.ends[column]
            values = table.numbers(column)
            beyond = int(np.sum((values < low) | (values > high)))
            found += [(column, beyond)] if beyond else []
    return found


def outcome_of(fit: Fit, table: Table) -> Array:
    """The outcome as modelled, NaN where it is missing or absent from the table."""
    outcome = fit.design.sentence.outcome
    value = outcome.value
    names = [c.name for c in columns_of(outcome)]
    if not all(table.has(n) for n in names):
        return np.full(len(table), np.nan)
    if fit.design.graded:
        labels = table.labels(names[0])
        place = {level: float(k) for k, level in enumerate(fit.design.levels, start=1)}
        return np.array([*(place.get(t, np.nan) for t in labels.texts), np.nan])[labels.codes]
    if fit.design.levels:
        return _success(fit, table, names[0])
    if outcome.trials is not None:
        return np.asarray(table.numbers(names[0]) / table.numbers(names[1]))
    return np.asarray(evaluate(value, lambda c: _raw(c, table)), dtype=float)


def _raw(c: Any, table: Table) -> Array:
    return evaluate(c.factor, lambda inner: _raw(inner, table)) if isinstance(c, Named) else table.numbers(c.name)


def _success(fit: Fit, table: Table, column: str) -> Array:
    """1 where a two-level outcome is the success, 0 where it is the other level, NaN elsewhere."""
    labels = table.labels(column)
    texts = np.array([*labels.texts, ""], dtype=object)[labels.codes]
    fitted = fit.design.table.labels(column)
    won = {fitted.texts[c] for c in np.unique(fitted.codes[fit.design.y == 1])}
    inside = np.isin(texts, list(fit.design.levels))
    return np.where(inside, np.isin(texts, list(won)).astype(float), np.nan)


def places_of(wanted: UnitCodes, fitted: UnitCodes) -> Array:
    """Row -> level of the fit, -1 for a level that was not in it and for a row without a label."""
    if (numbers := _whole(wanted)) is not None and (known := _whole(fitted)) is not None and len(known):
        order = np.argsort(known)
        at = order[np.minimum(np.searchsorted(known, numbers, sorter=order), len(known) - 1)]
        return np.append(np.where(known[at] == numbers, at, -1), -1)[wanted.codes]
    return np.array([*(fitted.places.get(t, -1) for t in wanted.texts), -1], dtype=np.intp)[wanted.codes]


def _whole(unit: UnitCodes) -> Array | None:
    """The labels (levels,) of a unit numbered by whole numbers, by level; None of others."""
    if unit.labels or len(unit.parts) != 1:
        return None
    labels, index = unit.parts[0]
    return labels.raw[index] if labels.raw.dtype.kind in "iu" else None


def level_places(wanted: UnitCodes, fitted: UnitCodes) -> tuple[Array, Array, int]:
    """Row -> level of the fit as ``places_of`` has it, row -> its place among levels that were not in the fit, and how many these are."""
    place = places_of(wanted, fitted)
    unseen = np.unique(wanted.codes[place < 0])
    return place, np.minimum(np.searchsorted(unseen, wanted.codes), max(len(unseen) - 1, 0)), len(unseen)
