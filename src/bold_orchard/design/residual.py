"""The within and spread clauses: row order, time, and the columns a spread depends on."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.design.model_matrix import ModelMatrix, build_part
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.sentence import tree

Array = NDArray[Any]


@dataclass(frozen=True)
class ResidualPart:
    """``kind`` is 'independent', 'ar1', 'exchangeable' or 'unstructured'; ``codes`` (n,) number the units.

    ``time`` (n,) is the numeric time of ar1 or the code of the occasion, whose ``labels`` are in order; ``spread`` holds
    the columns of the spread clause, without an intercept.
    """

    kind: str
    unit: str | None = None
    codes: Array | None = None
    time: Array | None = None
    labels: tuple[str, ...] = ()
    spread: ModelMatrix | None = None


def build_residual(sentence: tree.Sentence, maker: ColumnMaker, codes: Array | None, texts: list[str]) -> ResidualPart:
    """Read the clauses on the rows used; raises for a time that occurs twice in a unit and a constant spread."""
    spread = _spread(sentence, maker)
    if sentence.within is None:
        return ResidualPart("independent", spread=spread)
    assert codes is not None
    structure, unit = sentence.within.structure, str(sentence.within.unit)
    time, labels = _time(structure, maker, sentence)
    if time is not None:
        _no_ties(time, codes, texts, structure, unit, maker)
    if residual_structure_of(structure.kind).takes == "occasions" and len(np.unique(codes)) <= len(labels):
        raise OrchardError(
            f"{len(np.unique(codes))} levels of {unit} are too few for a covariance of {len(labels)} occasions, which needs more levels "
            f"than occasions; write within {unit}: exchangeable, or ar1 of a time"
        )
    if len(np.unique(codes)) == len(codes):
        raise OrchardError(f"no {unit} has two rows, so rows inside one cannot be correlated; leave out: within {unit}")
    return ResidualPart(structure.kind, unit, codes, time, labels, spread)


def _spread(sentence: tree.Sentence, maker: ColumnMaker) -> ModelMatrix | None:
    if not sentence.spread:
        return None
    part = build_part(sentence.spread, True, maker).without_intercept()
    for name, column in zip(part.names, part.values):
        if np.all(column == column[0]):
            raise OrchardError(f"the residual spread cannot depend on '{name}': it is the same in every row used")
    return part


def _time(
    structure: tree.Structure, maker: ColumnMaker, sentence: tree.Sentence
) -> tuple[Array | None, tuple[str, ...]]:
    if structure.column is None:
        return None, ()
    column = structure.column
    if residual_structure_of(structure.kind).takes == "time":
        if maker.table.kind(column.name) == "category":
            days = _days(maker, column.name)
            if days is not None:
                return days, ()
            raise SentenceError(
                f"ar1 needs numbers or dates (2024-05-31) for the time, but '{column.name}' is text; number the times",
                sentence.source, column.place[0], column.place[1] - column.place[0],
            )  # fmt: skip
        return maker.numbers(column.name), ()
    labels = maker.table.labels(column.name)
    order = labels.positions
    if len(order) > 40:
        raise OrchardError(
            f"unstructured({column.name}) has {len(order)} occasions, so {len(order) * (len(order) + 1) // 2} "
            f"variances and covariances; use ar1({column.name}) or exchangeable"
        )
    place = np.empty(len(order), dtype=np.intp)
    place[order] = np.arange(len(order))
    return place[labels.codes], tuple(labels.texts[i] for i in order)


def _days(maker: ColumnMaker, column: str) -> Array | None:
    """Dates written YYYY-MM-DD as days since the first, or None when some cell is no date."""
    labels = maker.table.labels(column)
    if not all(re.fullmatch(r"\d{4}-\d{2}-\d{2}", t) for t in labels.texts):
        return None
    try:
        dates = np.array(labels.texts, dtype="datetime64[D]")
    except ValueError:
        return None
    maker.meanings[column] = f"a date, counted in days since {dates.min()}"
    return (dates - dates.min()).astype(float)[labels.codes]


def _no_ties(
    time: Array, codes: Array, texts: list[str], structure: tree.Structure, unit: str, maker: ColumnMaker
) -> None:
    order = np.lexsort((time, codes))
    same = (np.diff(codes[order]) == 0) & (np.diff(time[order]) == 0)
    if same.any():
        first = order[:-1][same][0]
        rows = maker.table.row_numbers[order[np.flatnonzero(same)[0] : np.flatnonzero(same)[0] + 2]]
        column = structure.column
        assert column is not None
        raise OrchardError(
            f"{unit} {texts[codes[first]]} has {column.name} = "
            f"{maker.table.labels(column.name).texts[maker.table.labels(column.name).codes[first]]} twice (rows {rows[0]} and "
            f"{rows[1]}), so their order is unknown; mend it, or name a unit in which times differ"
        )
