"""Columns made over all rows of a table before any is left out: the value before, lag(x, unit, time), and dates of
since(date) as days."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.dates import COUNTED, WRITTEN, days_of
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, counted
from bold_orchard.sentence import tree


def with_made_columns(sentence: tree.Sentence, table: Table) -> tuple[Table, list[str]]:
    """The table with a column for every lag of the sentence, named as it is written, with days in the place of dates
    whose distance from the first
    the sentence takes, and what is to be said of gaps; what is there already stays.

    Raises OrchardError for a time that is no number or occurs twice in a unit.
    """
    notes: list[str] = []
    made: dict[str, NDArray[np.float64]] = {}
    table = with_dates(sentence, table)
    for call in sentence.lags:
        if table.has(call.written):
            continue
        x, unit, time = (a.name for a in call.arguments if isinstance(a, tree.Column))
        values, gaps = _before(table, x, unit, time)
        made[call.written] = values
        usual = np.median(gaps) if len(gaps) else 0.0
        odd = int(np.count_nonzero(gaps != usual))
        if odd:
            notes.append(
                f"{call}: the row before lies {usual:g} of {time} back as a rule, but another distance in {counted(odd, 'row')}; "
                "there it is the last row seen, not the value one step before."
            )
    return (table.with_columns(made) if made else table), notes


def with_dates(sentence: tree.Sentence, table: Table) -> Table:
    """The table with days in the place of dates that the sentence counts."""
    made = _days(sentence, table)
    return table.with_columns(made) if made else table


def dates_of(sentence: tree.Sentence, table: Table) -> dict[str, str]:
    """The columns of dates whose days the sentence counts, and what their numbers mean."""
    return dict.fromkeys(_days(sentence, table), COUNTED)


def _days(sentence: tree.Sentence, table: Table) -> dict[str, NDArray[np.float64]]:
    there = (c for c in sentence.dated if table.has(c) and table.kind(c) == "category")
    return {c: days for c in there if (days := days_of(table.labels(c))) is not None}


def _before(table: Table, x: str, unit: str, time: str) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """x of the row before in the unit, NaN in a unit's first row and where a label or time is missing; the distances."""
    values, labels = table.numbers(x), table.labels(unit)
    when = _times(table, time)
    known = np.flatnonzero((labels.codes >= 0) & np.isfinite(when))
    order = known[np.lexsort((when[known], labels.codes[known]))]
    same = np.diff(labels.codes[order]) == 0
    gaps = np.diff(when[order])[same]
    if (gaps == 0).any():
        first = order[:-1][same][gaps == 0][0]
        raise OrchardError(
            f"lag needs one row of each {unit} at a time, but {unit} {labels.texts[labels.codes[first]]} has {time} = {when[first]:g} twice"
        )
    out = np.full(len(values), np.nan)
    out[order[1:][same]] = values[order[:-1][same]]
    return out, gaps


def _times(table: Table, time: str) -> NDArray[np.float64]:
    """The time as numbers; dates count in days."""
    if table.kind(time) != "category":
        return table.numbers(time)
    days = days_of(table.labels(time))
    if days is None:
        raise OrchardError(f"lag needs numbers or dates ({WRITTEN}) for the time, but '{time}' is text")
    return days
