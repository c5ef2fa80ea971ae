"""Which covariates have gaps: of what kind they are, at which level they were measured, and which gaps hang together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.table import Table
from bold_orchard.design.build import unit_codes
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError, UsageError, counted, unknown_name
from bold_orchard.imputing.latent import Binary, Latent, Ordered, Unordered, latent_of_numbers
from bold_orchard.sentence import tree

Array = NDArray[np.float64]
Places = NDArray[np.intp]
FEWEST = 10  # observed values of a covariate below which no model of it is fitted
SEEN_TWICE = 3  # units with two observed values or more that must agree, to say that a column is one value a unit


@dataclass(frozen=True)
class Covariate:
    """A covariate of the sentence, or one that only helps to draw others.

    ``cell`` (n,) numbers each row's value: a row each, or a level of ``unit`` where the column is constant in it; ``x`` (cells,) are its values
    as numbers, places among ``levels`` of a category, NaN where there is a gap; ``block`` (cells,) numbers cells whose values move the
    linear predictor of the same rows.
    """

    column: str
    latent: Latent
    levels: tuple[str | float, ...]
    unit: str | None
    cell: Places
    x: Array
    block: Places

    @property
    def gaps(self) -> Places:
        """Cells without a value."""
        return np.flatnonzero(np.isnan(self.x))

    @property
    def categorical(self) -> bool:
        """Whether its levels are names: a category, or two numbers."""
        return bool(self.levels) and (isinstance(self.levels[0], str) or len(self.levels) == 2)

    def numbers(self, values: Array) -> Array:
        """Values as the data have them, of places among levels the levels."""
        return np.asarray(self.levels, dtype=float)[values.astype(int)] if self.levels else values

    def written(self, table: Table, values: Array) -> Array | Texts:
        """The column of rows of a table, (m,), at ``values`` (m,)."""
        old = table.column(self.column)
        if isinstance(old, Texts):
            places = {str(t): i for i, t in enumerate(old.raw)}
            codes = np.array([places[str(level)] for level in self.levels] + [-1], dtype=np.intp)
            return Texts(codes[self._places(values)], old.raw, old.order)
        return np.append(np.asarray(self.levels, dtype=float), np.nan)[self._places(values)] if self.levels else values

    def _places(self, values: Array) -> Places:
        """Places among the levels, the one after the last for a value that is not there."""
        return np.where(np.isnan(values), len(self.levels), np.nan_to_num(values)).astype(np.intp)


@dataclass(frozen=True)
class Gaps:
    """The rows of a table whose gaps can be filled: all that has units, weights and what else is never drawn.

    ``kept`` (n,) tells which of them have an outcome and so are of the analysis; rows of one number in ``together`` (n,) share a mean, least or
    largest value of a unit. ``covariates`` are all of the sentence and beside it, with gaps or without.
    """

    table: Table
    kept: NDArray[np.bool_]
    together: Places
    covariates: tuple[Covariate, ...]
    dropped: list[dict[str, Any]]
    notes: tuple[str, ...]

    @property
    def with_gaps(self) -> list[Covariate]:
        return [c for c in self.covariates if len(c.gaps)]

    @property
    def incomplete(self) -> list[Covariate]:
        """Those that some row of the table lacks, be it that other rows of its unit tell the value."""
        return [c for c in self.covariates if self.table.is_missing(c.column).any()]

    def missing(self, covariate: Covariate) -> int:
        """Rows of the analysis in which a covariate is not there."""
        return int((np.isnan(covariate.x)[covariate.cell] & self.kept).sum())


def gaps_of(sentence: tree.Sentence, table: Table, options: Options, beside: Sequence[str]) -> Gaps:
    """What there is to draw. ``beside`` are columns that help to draw others.

    Raises UsageError for columns that are not there and OrchardError for sentences and columns whose gaps cannot be drawn.
    """
    refused(sentence)
    for name in beside:
        if not table.has(name):
            raise UsageError(unknown_name("column", name, table.columns, table.name) + " (in --impute-with)")
    parts = (sentence.terms, tuple((e.terms, e.vary) for e in sentence.clauses))
    names = [c.name for c in tree.columns_of(parts, units=False)]
    outcome = [c.name for c in tree.columns_of(sentence.outcome)]
    never = [
        c.name
        for c in tree.columns_of((sentence.clauses, sentence.terms, sentence.within, sentence.spread, sentence.known))
    ]
    never = [n for n in dict.fromkeys([*never, *([options.weights] if options.weights else [])]) if n not in names]
    for name in (n for n in beside if n in outcome or n in never):
        raise UsageError(
            f"--impute-with {name}: the sentence has it already, as its outcome or as a unit; leave it out"
        )
    keep = np.all([~table.is_missing(n) for n in never], axis=0) if never else np.ones(len(table), dtype=bool)
    if not keep.any():
        raise OrchardError(f"no row of {table.name} has all of {', '.join(never)}, which are never drawn")
    dropped = _dropped(table, [*outcome, *never])
    rows = table if keep.all() else table.take(keep)
    kept = np.all([~rows.is_missing(n) for n in outcome], axis=0)
    as_category = _categories(parts)
    wanted = list(dict.fromkeys([*names, *(b for b in beside if b not in names)]))
    units = {str(e.unit): unit_codes(e.unit, rows).codes for e in sentence.clauses}
    made, notes = [], []
    for name in wanted:
        covariate, known = _covariate(name, rows, units, name in as_category, _units_of(parts, name))
        made.append(covariate)
        if known:
            notes.append(
                f"{counted(known, 'gap')} of {name} {'was' if known == 1 else 'were'} filled with the value of the same {covariate.unit}: it is one a {covariate.unit}."
            )
    together = np.arange(len(rows))
    for unit in _units_of(parts, None):
        together = _joined(together, np.arange(len(rows)), rows.labels(unit).codes)
    return Gaps(rows, kept, together, tuple(made), dropped, tuple(notes))


def _dropped(table: Table, columns: Sequence[str]) -> list[dict[str, Any]]:
    """Rows lost, each under the first column that lost it."""
    keep, out = np.ones(len(table), dtype=bool), []
    for name in columns:
        lost = keep & table.is_missing(name)
        if lost.any():
            out.append({"column": name, "rows": int(lost.sum())})
            keep &= ~lost
    return out


def refused(sentence: tree.Sentence) -> None:
    """Raise OrchardError for sentences whose gaps are not drawn."""
    reasons = {
        "several outcomes": bool(sentence.outcome.more),
        "errors that are correlated (within)": sentence.within is not None,
        "SDs that vary with columns or units (spread, vary with)": bool(sentence.spread)
        or any(e.vary for e in sentence.clauses)
        or any(isinstance(f, tree.OwnSpread) for e in sentence.clauses for t in e.terms for f in t.factors),
        "probabilities of zeros that vary (zeros)": bool(sentence.zeros)
        or any(t.is_zeros for e in sentence.each for t in e.terms),
        "values of an earlier row (lag)": bool(sentence.lags),
        "curves (smooth)": bool(sentence.smooths)
        or any(c.function == "smooth" for c in tree.calls_of(sentence.clauses)),
    }
    for reason, there in reasons.items():
        if there:
            raise OrchardError(
                f"--impute does not draw covariates beside {reason}; leave that out of the sentence, or fit the complete rows"
            )


def _categories(parts: object) -> set[str]:
    """Columns of numbers that the sentence takes as categories."""
    return {c.name for call in tree.calls_of(parts) if call.function == "category" for c in tree.columns_of(call)}


def _units_of(parts: object, name: str | None) -> list[str]:
    """Units whose mean, least or largest value of a column (of any, None) stands in the sentence."""
    calls = [c for c in tree.calls_of(parts) if c.function in tree.BY_UNIT and len(c.arguments) > 1]
    named = [(c.arguments[1], [column.name for column in tree.columns_of(c.arguments[:1])]) for c in calls]
    return [unit.name for unit, columns in named if isinstance(unit, tree.Column) and name in (None, *columns)]


def _covariate(
    name: str, rows: Table, units: dict[str, Places], as_category: bool, together: Sequence[str]
) -> tuple[Covariate, int]:  # fmt: skip
    """One covariate, and how many of its gaps the other rows of their unit fill."""
    x, latent, levels = _values(name, rows, as_category)
    unit, cell = None, np.arange(len(rows))
    own = [(codes.max() + 1, u, codes) for u, codes in units.items() if _constant(x, codes)]
    known = 0
    if own:
        _, unit, cell = min(own, key=lambda o: o[0])
        values = np.full(int(cell.max()) + 1, np.nan)
        there = ~np.isnan(x)
        values[cell[there]] = x[there]
        known = int((~there & ~np.isnan(values[cell])).sum())
        x = values
    block = np.arange(len(x))
    for other in together:
        labels = rows.labels(other).codes
        block = _joined(block, cell, labels)
    return Covariate(name, latent, levels, unit, cell, x, block), known


def _values(name: str, rows: Table, as_category: bool) -> tuple[Array, Latent, tuple[str | float, ...]]:
    """A column as numbers or places among its levels, with its latent variable."""
    missing = rows.is_missing(name)
    if missing.all() or (~missing).sum() < min(FEWEST, len(rows)):
        raise OrchardError(
            f"'{name}' has {counted(int((~missing).sum()), 'value')} only, too few to draw the others from; leave it out of the sentence"
        )
    if rows.kind(name) == "category" or as_category:
        labels = rows.labels(name)
        texts, place = labels.ordered
        used = np.unique(place[labels.codes[~missing]])
        codes = np.searchsorted(used, place[np.maximum(labels.codes, 0)]).astype(float)
        found = [texts[i] for i in used]
        if len(found) < 2:
            raise OrchardError(f"'{name}' has one level only in the rows used ('{found[0]}'); leave it out")
        ordered = as_category or bool(labels.order)
        seen = codes[~missing]
        latent: Latent = (
            Binary(seen, 2) if len(found) == 2 else Ordered(seen, len(found)) if ordered else Unordered(len(found))
        )
        levels = tuple(float(t) for t in found) if rows.kind(name) == "number" else tuple(found)
        return np.where(missing, np.nan, codes), latent, levels
    values = rows.numbers(name)
    if np.ptp(values[~missing]) == 0:
        raise OrchardError(f"'{name}' is the same in every row that has it; leave it out of the sentence")
    latent, steps = latent_of_numbers(values[~missing])
    if not len(steps):
        return values.astype(float), latent, ()
    places = np.searchsorted(steps, np.where(missing, steps[0], values)).astype(float)
    return np.where(missing, np.nan, places), latent, tuple(float(v) for v in steps)


def _constant(x: Array, codes: Places) -> bool:
    """Whether observed values agree within every level, in some of which there are two."""
    there = ~np.isnan(x)
    size = int(codes.max()) + 1
    low, high = np.full(size, np.inf), np.full(size, -np.inf)
    np.minimum.at(low, codes[there], x[there])
    np.maximum.at(high, codes[there], x[there])
    twice = np.bincount(codes[there], minlength=size) > 1
    return bool(twice.sum() >= SEEN_TWICE and (low[twice] == high[twice]).all())


def _joined(block: Places, cell: Places, labels: Places) -> Places:
    """Blocks of cells joined where their rows meet in a level."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    size = int(block.max()) + 1
    nodes = size + int(labels.max()) + 1
    links = coo_matrix((np.ones(len(cell)), (block[cell], size + labels)), shape=(nodes, nodes))
    part = connected_components(links, directed=False)[1]
    return np.unique(part[block], return_inverse=True)[1].astype(np.intp)
