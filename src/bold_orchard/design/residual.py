"""The within and spread clauses: row order, time, and the columns a spread depends on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.data.dates import WRITTEN, days_of
from bold_orchard.design.model_matrix import ModelMatrix, build_part
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError, SentenceError, date_of
from bold_orchard.sentence import tree

Array = NDArray[Any]
MOST_OCCASIONS = 40  # of which every pair, or every distance, has a parameter of its own


@dataclass(frozen=True)
class ResidualPart:
    """``kind`` is 'independent' or the name of a structure; ``codes`` (n,) number the units.

    ``time`` (n,) is the numeric time, (n, d) places in several columns, or (n,) the code of the occasion, whose ``labels`` are in order; ``spread`` holds
    the columns of the spread clause, without an intercept. ``by`` is a column each of whose ``levels`` has variances and correlations of its own,
    ``level`` (n,) that of each row.
    """

    kind: str
    unit: str | None = None
    codes: Array | None = None
    time: Array | None = None
    labels: tuple[str, ...] = ()
    spread: ModelMatrix | None = None
    by: str | None = None
    levels: tuple[str, ...] = ()
    level: Array | None = None

    @property
    def by_occasion(self) -> bool:
        """Whether occasions have variances of their own."""
        return not residual_structure_of(self.kind).one_variance

    @property
    def variance_labels(self) -> tuple[str, ...]:
        """What has a variance of its own: the occasions, the levels, the occasions of every level; nothing where all rows have one."""
        occasions = self.labels if self.by_occasion else ()
        if self.by is None:
            return occasions
        return tuple(f"{level}, {o}" for level in self.levels for o in occasions) if occasions else self.levels

    @property
    def variance_pairs(self) -> list[tuple[int, int]]:
        """Those of them that have a covariance of their own: occasions, of one level."""
        n = len(self.labels) if self.by_occasion else 0
        starts = range(0, n * max(len(self.levels), 1), max(n, 1))
        return [(at + i, at + j) for at in starts for i in range(n) for j in range(i + 1, n)]

    def variance_codes(self, time: Array | None, level: Array | None) -> NDArray[np.intp]:
        """Which of ``variance_labels`` rows have, by their occasions and levels."""
        occasion = np.asarray(time, dtype=np.intp) if self.by_occasion else None
        if level is None:
            assert occasion is not None
            return occasion
        codes = np.asarray(level, dtype=np.intp)
        return codes if occasion is None else codes * len(self.labels) + occasion


def sorted_rows(codes: Array, time: Array | None) -> NDArray[np.intp]:
    """Rows by unit, then by time or place."""
    keys = () if time is None else tuple(time.reshape(len(time), -1).T[::-1])
    return np.lexsort((*keys, codes))


def build_residual(sentence: tree.Sentence, maker: ColumnMaker, codes: Array | None, texts: list[str]) -> ResidualPart:
    """Read the clauses on the rows used; raises for a time that occurs twice in a unit and a constant spread."""
    spread = _spread(sentence, maker)
    if sentence.within is None:
        return ResidualPart("independent", spread=spread)
    assert codes is not None
    structure, unit = sentence.within.structure, str(sentence.within.unit)
    time, labels = times_of(structure, maker, sentence)
    if time is not None:
        _no_ties(time, codes, texts, structure, unit, maker)
    by, levels, level = _levels(sentence, maker, codes, texts)
    fewest = (
        min((len(np.unique(codes[level == k])) for k in range(len(levels))), default=0)
        if level is not None
        else len(np.unique(codes))
    )
    if not residual_structure_of(structure.kind).one_variance and fewest <= len(labels):
        raise OrchardError(
            f"{fewest} levels of {unit}{f' in one level of {by}' if by else ''} are too few for a covariance of {len(labels)} occasions, which needs more levels "
            f"than occasions; write within {unit}: exchangeable, or ar1 of a time"
        )
    if len(np.unique(codes)) == len(codes):
        raise OrchardError(f"no {unit} has two rows, so rows inside one cannot be correlated; leave out: within {unit}")
    return ResidualPart(structure.kind, unit, codes, time, labels, spread, by, levels, level)


def _levels(
    sentence: tree.Sentence, maker: ColumnMaker, codes: Array, texts: list[str]
) -> tuple[str | None, tuple[str, ...], Array | None]:
    """The column of ``by``, its levels in order, and that of each row; raises OrchardError for one that differs inside a unit."""
    assert sentence.within is not None
    if sentence.within.by is None:
        return None, (), None
    name, unit = sentence.within.by.name, str(sentence.within.unit)
    level, levels = level_codes(maker, name)
    first = np.zeros(int(codes.max()) + 1, dtype=np.intp)
    first[codes[::-1]] = level[::-1]
    odd = np.flatnonzero(first[codes] != level)
    if len(odd):
        raise OrchardError(
            f"'{name}' differs inside {unit} {texts[codes[odd[0]]]}, so {unit} lies in no one level of it; write within {unit} without by, or name a "
            f"column that is constant in each {unit}"
        )
    if len(levels) > MOST_OCCASIONS:
        raise OrchardError(
            f"'{name}' has {len(levels)} levels, each with variances of its own, at most {MOST_OCCASIONS}; name a category"
        )
    for k, text in enumerate(levels):
        if len(np.unique(codes[level == k])) == np.count_nonzero(level == k):
            raise OrchardError(
                f"in {name} {text} no {unit} has two rows, so nothing tells how rows of one hang together; leave by {name} out"
            )
    return name, levels, level


def level_codes(maker: ColumnMaker, name: str) -> tuple[NDArray[np.intp], tuple[str, ...]]:
    """Levels of a column over the rows (n,), and their texts in order."""
    labels = maker.table.labels(name)
    present = np.unique(labels.codes)
    order = [i for i in labels.positions if i in set(present.tolist())]
    place = np.zeros(len(labels.texts), dtype=np.intp)
    place[order] = np.arange(len(order))
    return place[labels.codes], tuple(labels.texts[i] for i in order)


def _spread(sentence: tree.Sentence, maker: ColumnMaker) -> ModelMatrix | None:
    if not sentence.spread:
        return None
    part = build_part(sentence.spread, True, maker).without_intercept()
    for name, column in zip(part.names, part.values):
        if np.all(column == column[0]):
            raise OrchardError(f"the residual spread cannot depend on '{name}': it is the same in every row used")
    return part


def times_of(
    structure: tree.Structure, maker: ColumnMaker, sentence: tree.Sentence
) -> tuple[Array | None, tuple[str, ...]]:
    if structure.column is None:
        return None, ()
    column = structure.column
    if residual_structure_of(structure.kind).takes in ("time", "places"):
        places = [_numbers(c, structure.kind, maker, sentence) for c in structure.columns]
        return (places[0] if len(places) == 1 else np.column_stack(places)), ()
    labels = maker.table.labels(column.name)
    order = labels.positions
    if len(order) > MOST_OCCASIONS:
        free = not residual_structure_of(structure.kind).one_variance
        what = (
            f"{len(order) * (len(order) + 1) // 2} variances and covariances"
            if free
            else f"{len(order) - 1} correlations"
        )
        raise OrchardError(
            f"{structure.kind}({column.name}) has {len(order)} occasions, so {what}; use ar1({column.name}) or exchangeable"
        )
    place = np.empty(len(order), dtype=np.intp)
    place[order] = np.arange(len(order))
    return place[labels.codes], tuple(labels.texts[i] for i in order)


def _numbers(column: tree.Column, kind: str, maker: ColumnMaker, sentence: tree.Sentence) -> Array:
    """A column of numbers, or of dates as days."""
    if maker.table.kind(column.name) != "category":
        return maker.numbers(column.name)
    days = days_of(maker.table.labels(column.name))
    if days is None:
        raise SentenceError(
            f"{kind} needs numbers or dates ({WRITTEN}) for the time, but '{column.name}' is text; number the times",
            sentence.source, column.place[0], column.place[1] - column.place[0],
        )  # fmt: skip
    maker.meanings[column.name] = f"a date, counted in days since {date_of(days.min())}"
    return days - days.min()


def _no_ties(
    time: Array, codes: Array, texts: list[str], structure: tree.Structure, unit: str, maker: ColumnMaker
) -> None:
    order = sorted_rows(codes, time)
    still = np.diff(time[order].reshape(len(time), -1), axis=0) == 0
    same = (np.diff(codes[order]) == 0) & still.all(axis=1)
    if same.any():
        first = order[:-1][same][0]
        rows = maker.table.row_numbers[order[np.flatnonzero(same)[0] : np.flatnonzero(same)[0] + 2]]
        known = [(c.name, maker.table.labels(c.name)) for c in structure.columns]
        where = ", ".join(f"{name} = {labels.texts[labels.codes[first]]}" for name, labels in known)
        why = "so their order is unknown; mend it, or name a unit in which times differ"
        if len(known) > 1:
            why = "and no two rows of one unit can stand at one place; mend it, or name a unit in which places differ"
        raise OrchardError(f"{unit} {texts[codes[first]]} has {where} twice (rows {rows[0]} and {rows[1]}), {why}")
