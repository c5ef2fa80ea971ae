"""Several outcomes in one model: every row of the table becomes one for each outcome it has, and every term one for each outcome.

Errors of one row are correlated: an unstructured covariance whose occasions are the outcomes. A unit's effects are joint over outcomes and terms.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.evaluate import evaluate
from bold_orchard.data.table import Table
from bold_orchard.design.transformations import OUTCOME
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.sentence import tree

Array = NDArray[Any]
VALUE, ROW = "(value)", "(row)"
OURS = (OUTCOME, VALUE, ROW)


def is_stacked(table: Table) -> bool:
    """Whether rows are of one outcome each."""
    return table.has(OUTCOME) and table.has(ROW)


def check(sentence: tree.Sentence, family: str | None, table: Table) -> None:
    """Raise OrchardError for what several outcomes cannot have, or not yet, and for columns that bear our own names."""
    taken = [c for c in OURS if table.has(c)]
    if taken:
        raise OrchardError(
            f"a column of {table.name} is called '{taken[0]}', which several outcomes need for themselves; rename it"
        )
    beside = (
        f"the family {family}" if family not in (None, "gaussian")
        else "within" if sentence.within is not None
        else "spread" if sentence.spread or sentence.known is not None or any(e.has_spread for e in sentence.each)
        else "vary with" if any(e.vary for e in sentence.each)
        else "smooth" if any(e.curve for e in sentence.clauses)
        else next((e.structure.kind for e in sentence.each if e.structure.file is not None), "")
    )  # fmt: skip
    if beside:
        raise OrchardError(
            f"several outcomes together are gaussian, with a covariance of their own inside each row; they do not go with {beside}"
        )


def stacked(sentence: tree.Sentence, table: Table) -> tuple[tree.Sentence, Table, dict[str, int]]:
    """The sentence and the table with a row for each outcome that was observed, and how often each was.

    Raises OrchardError where an outcome is no number or is never there, and where no row has two of them.
    """
    values = [_values(v, table, sentence) for v in (sentence.outcome.value, *sentence.outcome.more)]
    names = sentence.outcome.names
    seen = np.array([np.isfinite(v) for v in values])
    for name, own in zip(names, seen):
        if not own.any():
            raise OrchardError(f"the outcome '{name}' is missing in every row that has the covariates; leave it out")
    if (seen.sum(axis=0) < 2).all():
        raise OrchardError(
            "no row has two of the outcomes, so nothing tells how they hang together; fit them one by one"
        )
    row, outcome = np.nonzero(seen.T)
    long = over(table, row, outcome, names)
    long = long.with_columns({VALUE: np.array(values)[outcome, row]})
    return stack(sentence), long, {name: int(own.sum()) for name, own in zip(names, seen)}


def over(table: Table, row: NDArray[np.intp], outcome: NDArray[np.intp], names: tuple[str, ...]) -> Table:
    """Rows of a table, each said to be of one of the outcomes."""
    texts = Texts(outcome.astype(np.intp), np.array(names, dtype=object), names)
    return table.take(row).with_columns({OUTCOME: texts, ROW: np.asarray(table.row_numbers)[row].astype(np.int64)})


def every(table: Table, sentence: tree.Sentence, asked: Sequence[str] | None = None, own: bool = False) -> Table:
    """All rows of a table, one for each outcome (or each of those ``asked`` for), with the values that it has.

    Rows of the fit's ``own`` data keep their numbers, by which their other outcomes are found; others are told apart from all of these.
    """
    assert sentence.stacked is not None
    names = sentence.stacked.names
    chosen = np.array([k for k, name in enumerate(names) if asked is None or name in asked], dtype=np.intp)
    row, outcome = np.repeat(np.arange(len(table)), len(chosen)), np.tile(chosen, len(table))
    values = [_values(v, table, sentence) for v in (sentence.stacked.value, *sentence.stacked.more)]
    long = over(table, row, outcome, names).with_columns({VALUE: np.array(values)[outcome, row]})
    return long if own else long.with_columns({ROW: -1 - row.astype(np.int64)})


def stack(sentence: tree.Sentence) -> tree.Sentence:
    """The same sentence over rows that are of one outcome each."""
    names = sentence.outcome.names
    fixed = (tree.Term(()), *sentence.terms) if sentence.intercept else sentence.terms
    each = tuple(replace(e, terms=for_all(e.terms, names)) for e in sentence.each)
    within = tree.Within(
        tree.Unit((tree.Column(ROW),), name="row"), tree.Structure("unstructured", columns=(tree.Column(OUTCOME),))
    )
    return replace(sentence, outcome=tree.Outcome(tree.Column(VALUE)), terms=for_all(fixed, names), intercept=False, each=each, within=within,
                   stacked=sentence.outcome)  # fmt: skip


def for_all(terms: tuple[tree.Term, ...], names: tuple[str, ...]) -> tuple[tree.Term, ...]:
    """Every term for every outcome, outcome by outcome, but those that are written for one."""
    return tuple(
        tree.Term((tree.OfOutcome(name), *t.factors), t.place) for name in names for t in terms if t.of in (None, name)
    )


def _values(value: Any, table: Table, sentence: tree.Sentence) -> Array:
    """An outcome as numbers (n,), NaN where it is missing or where the table does not have it."""
    columns = tree.columns_of(value)
    if not all(table.has(c.name) for c in columns):
        return np.full(len(table), np.nan)
    for c in columns:
        if table.kind(c.name) == "category":
            message = f"the outcome '{c.name}' is text, and several outcomes together are numbers"
            raise SentenceError(message, sentence.source, c.place[0], c.place[1] - c.place[0])

    def numbers(c: Any) -> Array:
        return evaluate(c.factor, numbers) if isinstance(c, tree.Named) else table.numbers(c.name)

    return np.asarray(evaluate(value, numbers), dtype=float)
