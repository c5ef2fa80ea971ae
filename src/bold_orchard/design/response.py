"""The outcome as its family needs it: numbers, successes of trials, two levels or grades, checked against the support."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.evaluate import evaluate
from bold_orchard.data.grades import usual_order
from bold_orchard.data.table import Table
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError, SentenceError, UsageError, nearest, shown
from bold_orchard.families import family_of, names
from bold_orchard.sentence import tree

Array = NDArray[Any]
CENSORED = ("gaussian", "lognormal", "student")  # whose distribution functions are known in closed form
MOST_LEVELS = 12  # of an unordered outcome, each of which has an equation of its own
MOST_GRADES = 50  # grades beyond which a column is rather a number


@dataclass(frozen=True)
class Response:
    """``y`` (n,) as the family counts it, ``trials`` (n,) or None, ``levels`` of a coded outcome in order, ``limits`` (n,) below and above."""

    y: Array
    trials: Array | None = None
    levels: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    limits: tuple[Array, Array] | None = None


def family_and_link(sentence: tree.Sentence, family: str | None, link: str | None) -> tuple[str, str]:
    """The family and its link; raises UsageError for a pair that does not exist."""
    chosen = family or ("binomial" if sentence.outcome.trials is not None else "gaussian")
    if chosen not in names():
        raise UsageError(f"there is no family '{chosen}'; there are: {', '.join(names())}")
    kind = family_of(chosen)
    links = kind.links
    if link is not None and link not in links:
        raise UsageError(f"--link {link} does not go with {chosen}; it takes {' or '.join(links)}")
    if sentence.outcome.trials is not None and kind.measure != "trials":
        place = sentence.outcome.trials.place
        raise SentenceError(
            f"'successes of trials' is a binomial outcome, not {chosen}; leave out --family", sentence.source, place[0]
        )
    if sentence.outcome.limits and (chosen not in CENSORED or link == "log" != links[0]):
        kinds = ", ".join(CENSORED)
        raise OrchardError(
            f"censored(...) is for the families {kinds}, each with its own link; not for {chosen}{' with a log link' if link else ''}"
        )
    return chosen, link or links[0]


def read_response(
    sentence: tree.Sentence,
    maker: ColumnMaker,
    table: Table,
    family: str,
    link: str,
    success: str | None = None,
    grades: tuple[str, ...] = (),
    baselines: Mapping[str, str] | None = None,
) -> Response:
    """Read and check the outcome on the rows used; raises OrchardError with the column and the first bad rows."""
    name = str(sentence.outcome)
    kind = family_of(family, link)
    if success is not None and kind.reads != "two levels":
        raise UsageError("--success belongs to --family binomial")
    if grades and kind.reads != "grades":
        raise UsageError("--grades belongs to --family ordinal")
    if kind.wants_trials and sentence.outcome.trials is None:
        raise OrchardError(
            f"{family} is for successes of trials: write '{name} of TRIALS', the column of the trials after of"
        )
    if kind.reads == "two levels":
        return _binomial(sentence, maker, table, success)
    if kind.reads == "grades":
        return _grades(sentence, table, grades)
    if kind.reads == "levels":
        return _unordered(sentence, table, baselines or {})
    y, limits = _numeric(sentence, maker), limits_of(sentence, table)
    if limits is not None:  # what lies beyond a limit is known by the limit alone
        y = np.clip(y, *limits)
    if limits is not None and ((y <= limits[0]) | (y >= limits[1])).all():
        raise OrchardError(
            f"every value of '{sentence.outcome.value}' lies at or beyond a limit, so nothing tells how they vary; check the limits"
        )
    if kind.support is not None:
        bad = ~kind.support.holds(y)
        mend = kind.support.mend(y, sentence.outcome.written) if bad.any() else ""
        _check(bad, y, f"'{name}' must be {kind.support.words} for {family}", table, mend)
    if np.all(y == 0) and kind.measure == "counts":
        raise OrchardError(
            f"'{name}' is 0 in every row used: the average count is then 0, and its logarithm, which the model estimates, minus "
            "infinity; look for rows that were lost, or for another outcome"
        )
    if np.all(y == y[0]):
        raise OrchardError(f"the outcome '{name}' is {y[0]:g} in every row used; there is nothing to explain")
    return Response(y, limits=limits)


def limits_of(sentence: tree.Sentence, table: Table) -> tuple[Array, Array] | None:
    """The lower and the upper limit of every row, infinite where there is none; None for an outcome that is not censored.

    Raises OrchardError for limits that cross.
    """
    limits = sentence.outcome.limits
    if not limits:
        return None
    ends = [np.full(len(table), side) for side in (-np.inf, np.inf)]
    for k, limit in enumerate(limits):
        if limit is not None:
            made = np.asarray(evaluate(limit, lambda c: table.numbers(c.name)), dtype=float)
            ends[k] = np.broadcast_to(made, (len(table),)).copy()
    crossed = ends[0] >= ends[1]
    if crossed.any():
        row = table.row_numbers[crossed][0]
        raise OrchardError(f"the lower limit of '{sentence.outcome.value}' is not below the upper one in row {row}")
    return ends[0], ends[1]


def _numeric(sentence: tree.Sentence, maker: ColumnMaker) -> Array:
    made = maker.numeric(sentence.outcome.value, "the outcome")
    if len(made.values) != 1:
        raise OrchardError(f"the outcome {sentence.outcome.value} makes {len(made.values)} columns; it must be one")
    return made.values[0]


def _check(bad: Array, y: Array, needs: str, table: Table, mend: str = "") -> None:
    if bad.any():
        rows = table.row_numbers[bad]
        examples = ", ".join(f"row {r} has {v:g}" for r, v in zip(rows[:3], y[bad][:3]))
        raise OrchardError(
            f"{needs}, but {int(bad.sum()):,} rows are not: {examples}{', ...' if len(rows) > 3 else ''}"
            + (f"; {mend}" if mend else "")
        )


def _binomial(sentence: tree.Sentence, maker: ColumnMaker, table: Table, success: str | None) -> Response:
    outcome = sentence.outcome
    if outcome.trials is not None:
        return _of_trials(sentence, maker, table)
    column = outcome.value
    if not isinstance(column, tree.Column):
        y = _numeric(sentence, maker)
        _check((y != 0) & (y != 1), y, f"'{outcome}' must be 0 or 1", table)
        return Response(y)
    levels, codes = _levels(table, column.name)
    if len(levels) == 1:
        raise OrchardError(f"the outcome '{column.name}' is {levels[0]} in every row used; there is nothing to explain")
    if len(levels) > 2:
        more = f"'{column.name}' has {len(levels):,} values ({', '.join(shown(levels, 4))}), and a binomial outcome has two"
        raise OrchardError(f"{more}; write successes of trials, or --family ordinal for grades")
    if success is not None and success not in levels:
        near = nearest(success, levels)
        raise OrchardError(f"--success: '{column.name}' has no level '{success}'; it has {levels[0]} and {levels[1]}"
                           + (f"; did you mean '{near}'?" if near else ""))  # fmt: skip
    chosen = success or levels[1]
    plain = table.kind(column.name) == "number" and set(levels) == {"0", "1"} and success is None
    note = (
        ()
        if plain
        else (f"Success is {column.name} = {chosen}; effects are on the chance of it (--success LEVEL for the other).",)
    )
    return Response((codes == levels.index(chosen)).astype(float), None, tuple(levels), note)


def _of_trials(sentence: tree.Sentence, maker: ColumnMaker, table: Table) -> Response:
    assert sentence.outcome.trials is not None
    y, m = _numeric(sentence, maker), table.numbers(sentence.outcome.trials.name)
    name, of = sentence.outcome.value, sentence.outcome.trials.name
    _check((y < 0) | (y != np.round(y)), y, f"'{name}' must be whole numbers of zero or more", table)
    _check((m < 1) | (m != np.round(m)), m, f"'{of}' must be whole numbers of one or more", table)
    bad = y > m
    if bad.any():
        rows = table.row_numbers[bad][:3]
        listed = ", ".join(f"row {r} has {a:g} of {b:g}" for r, a, b in zip(rows, y[bad], m[bad]))
        raise OrchardError(f"'{name}' is above '{of}' in {int(bad.sum()):,} rows: {listed}")
    if np.all(y == 0) or np.all(y == m):
        raise OrchardError(
            f"'{name} of {of}' is {'none' if y[0] == 0 else 'all'} in every row used; there is nothing to explain"
        )
    return Response(y, m)


def _categories(sentence: tree.Sentence, table: Table, wanted: str) -> tuple[str, list[str], Array]:
    """The outcome's column, its levels and the level of every row (n,); raises for anything but a column of two levels
    or more."""
    if not isinstance(sentence.outcome.value, tree.Column):
        raise OrchardError(f"{wanted}, not {sentence.outcome}")
    name = sentence.outcome.value.name
    levels, codes = _levels(table, name)
    if len(levels) == 1:
        raise OrchardError(f"the outcome '{name}' is {levels[0]} in every row used; there is nothing to explain")
    return name, levels, codes


def _grades(sentence: tree.Sentence, table: Table, asked: tuple[str, ...]) -> Response:
    name, levels, codes = _categories(sentence, table, "an ordinal outcome is a column of grades")
    if len(levels) > MOST_GRADES:
        raise OrchardError(
            f"'{name}' has {len(levels):,} grades; an ordinal model is for a few ({MOST_GRADES} at most)"
        )
    ordered = list(asked) if asked else levels if table.labels(name).order else usual_order(levels)
    unknown = [g for g in levels if g not in ordered]
    if asked and unknown:
        raise OrchardError(
            f"--grades leaves out {', '.join(shown(unknown))}, which '{name}' holds; name every grade, lowest first"
        )
    ordered = [g for g in ordered if g in levels]
    place = np.array([ordered.index(g) for g in levels])
    note = f"Grades of {name}, lowest first: {', '.join(ordered)} (--grades for another order). A positive effect moves towards the last."
    return Response(place[codes].astype(float), None, tuple(ordered), (note,))


def _unordered(sentence: tree.Sentence, table: Table, baselines: Mapping[str, str]) -> Response:
    name, levels, codes = _categories(sentence, table, "a nominal outcome is a column of categories")
    if len(levels) > MOST_LEVELS:
        raise OrchardError(
            f"'{name}' has {len(levels):,} levels, and a nominal model has an equation for each but one; it is for a few ({MOST_LEVELS} at most)"
        )
    base = baselines.get(name, levels[0])
    if base not in levels:
        near = nearest(base, levels)
        raise UsageError(f"--baseline: '{name}' has no level '{base}'" + (f"; did you mean '{near}'?" if near else ""))
    ordered = [base, *(level for level in levels if level != base)]
    place = np.array([ordered.index(level) for level in levels])
    note = f"Each equation compares a level of {name} with its baseline {base} (--baseline {name}=LEVEL for another)."
    return Response(place[codes].astype(float), None, tuple(ordered), (note,))


def _levels(table: Table, column: str) -> tuple[list[str], Array]:
    labels = table.labels(column)
    ordered, place = labels.ordered
    codes = place[labels.codes]
    present = np.unique(codes)
    return [ordered[i] for i in present], np.searchsorted(present, codes)
