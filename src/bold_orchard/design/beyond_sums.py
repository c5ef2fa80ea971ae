"""What sums of rows by cell do not answer: for that the rows are laid down on disk, or must be in memory."""

from __future__ import annotations

import numpy as np

from bold_orchard.data.table import Table
from bold_orchard.design.build import check_columns, unit_codes
from bold_orchard.design.design import Options
from bold_orchard.design.validation import is_nested
from bold_orchard.errors import OrchardError
from bold_orchard.families import family_of
from bold_orchard.sentence import tree

NOT_SUMMED = ("spline", "lag")
WAY_OUT = "give it more --memory, or fit a part of the rows with --where"


class RowsNeeded(Exception):
    """A sum by cell does not hold what the sentence needs; the text says what does."""


def check_in_pieces(sentence: tree.Sentence) -> None:
    """Raise OrchardError for a sentence whose rows must be in memory together."""
    for word, there in (
        ("a model of several outcomes", bool(sentence.outcome.more)),
        ("'within'", sentence.within is not None),
        ("'spread'", bool(sentence.spread) or sentence.known is not None),
        ("'zeros'", bool(sentence.zeros) or any(t.is_zeros for e in sentence.each for t in e.terms)),
        ("a curve, smooth(...),", any(e.curve for e in sentence.clauses)),
        ("a spread of each unit", any(e.has_spread for e in sentence.clauses)),
    ):
        if there:
            raise OrchardError(
                f"{word} needs rows in memory, and they are larger than --memory; leave it out, or {WAY_OUT}"
            )


CROSSING = (
    "units that cross, or whose levels have a known covariance, need the rows of this model in memory, and they are larger than "
    f"--memory; write units inside others as 'each tree in orchard', or {WAY_OUT}"
)


def check_nested(sentence: tree.Sentence, rows: Table) -> None:
    """Raise OrchardError for units that some rows show to cross already: a likelihood by sweeps has one top unit."""
    check_columns(sentence, rows)
    kept = np.ones(len(rows), dtype=bool)
    for column in {c.name for e in sentence.clauses for c in e.unit.columns}:
        kept &= ~rows.is_missing(column)
    units = {str(e.unit): unit_codes(e.unit, rows.take(kept)) for e in sentence.clauses} if kept.any() else {}
    ordered = sorted(units.values(), key=lambda u: -u.size)
    for place, fine in enumerate(ordered):
        if not all(is_nested(fine, coarse) for coarse in ordered[place + 1 :]):
            raise OrchardError(CROSSING)


def asks_for_rows(sentence: tree.Sentence, family: str, link: str, options: Options) -> str | None:
    """What it is that sums by cell do not answer."""
    censored = bool(sentence.outcome.limits)
    if not family_of(family, link, censored).additive:
        return f"a {'censored ' if censored else ''}{family} model"
    if options.weights:
        return "--weights"
    if options.fill_mean:
        return "--fill-mean"
    called = tree.calls_of((sentence.outcome, sentence.terms, sentence.clauses))
    return next((f"{c.function}(...)" for c in called if c.function in NOT_SUMMED), None)
