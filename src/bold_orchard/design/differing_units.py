"""Units that differ in their residual spread or in the SDs of their effects: what goes together, and what rows must tell of it."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_orchard.design.design import Block, Design, UnitCodes
from bold_orchard.design.validation import constant_inside, is_nested
from bold_orchard.errors import OrchardError, shown
from bold_orchard.sentence import tree
from bold_orchard.sentence.edit import with_clause, without_vary, without_within

# SDs from zero of a column on which SDs depend: told there they would be next to nothing or past all bounds
MOST_AWAY = 100.0
MOST_ABOVE = 3  # effects of a unit above: the nodes of their integral multiply


def random_spread(sentence: tree.Sentence, additive: bool) -> None:
    """Refuse, before anything is coded, what a unit's own residual spread does not go with; each with a sentence to try."""
    own = [i for i, e in enumerate(sentence.each) if e.has_spread]
    if not own:
        return
    place = own[0]
    clause = sentence.each[place]
    rest = tuple(t for t in clause.terms if not t.is_spread)
    without = with_clause(sentence, place, rest).source
    if not additive:
        raise OrchardError(
            "the residual spread of a unit is a matter of gaussian outcomes, and this family has no residual; write: "
            + without
        )
    if sentence.within is not None:
        raise OrchardError(
            f"a residual spread for each {clause.unit} does not go with a 'within' clause; write: "
            f"{without_within(sentence).source}  or: {without}"
        )
    if len(own) > 1:
        offer = with_clause(sentence, own[1], tuple(t for t in sentence.each[own[1]].terms if not t.is_spread)).source
        raise OrchardError(f"one unit only can have a residual spread of its own; write: {offer}  or: {without}")
    if any(e.curve for e in sentence.clauses):
        raise OrchardError(
            f"a curve, smooth(...), does not go with a residual spread for each {clause.unit}; write: {without}"
        )
    if any(sentence.each[i].vary for i in range(len(sentence.each))):
        raise OrchardError(f"vary with does not go with a spread of the unit's own; write: {without}")


def varying_family(sentence: tree.Sentence, additive: bool) -> None:
    """``vary with`` belongs to gaussian outcomes."""
    for place, clause in enumerate(sentence.each):
        if clause.vary and not additive:
            raise OrchardError(
                f"vary with is made for gaussian outcomes; write: {without_vary(sentence, place).source}  (a product with the column in the "
                "fixed part tells whether averages differ)"
            )


def varying(design: Design) -> list[str]:
    """Refuse columns after ``vary with`` that are not constant in a unit, or the same in all of them."""
    for place, clause in enumerate(design.clauses):
        if clause.vary is None:
            continue
        unit = design.units[clause.unit]
        offer = without_vary(design.sentence, place).source
        for name, values in zip(clause.vary.names, clause.vary.values):
            if not constant_inside(unit.codes, unit.size, values):
                row = next(
                    t
                    for t, o in zip(clause.vary.terms, range(len(clause.vary.terms)))
                    if name in _names_of(clause.vary, o)
                )
                raise OrchardError(
                    f"'{name}' changes inside one {unit.name}, and vary with needs what describes the {unit.name} as a whole; write the "
                    f"unit's mean, each {unit.name} (vary with {_mean_of(row, unit.name)}), or: {offer}"
                )
            if np.all(values == values[0]):
                raise OrchardError(
                    f"'{name}' is the same in every {unit.name}, so that nothing can vary with it; write: {offer}"
                )
            if abs(float(values.mean())) > MOST_AWAY * float(values.std()):
                raise OrchardError(
                    f"'{name}' lies {abs(float(values.mean())) / float(values.std()):.3g} of its SDs from zero, where the SDs of the effects of "
                    f"{unit.name} would be told; write: vary with centre({tree.column_text(name)})"
                )
        columns = np.column_stack([np.ones(len(design.y)), *clause.vary.values])
        if np.linalg.matrix_rank(columns / np.maximum(np.abs(columns).max(axis=0), 1e-300)) < columns.shape[1]:
            raise OrchardError(
                f"the columns after vary with repeat one another in the rows used ({', '.join(shown(list(clause.vary.names), 4))}); leave one out"
            )
    return []


def _names_of(part: Any, term: int) -> list[str]:
    return [n for n, o in zip(part.names, part.owner) if o == term]


def _mean_of(term: tree.Term, unit: str) -> str:
    """The mean by unit of a numeric term, where it can be written."""
    first = term.factors[0]
    if len(term.factors) == 1 and isinstance(first, (tree.Column, tree.Call)) and " in " not in unit:
        return tree.Call("mean", (first, tree.Column(unit))).written
    return "a column of its own"


def not_above(fine: UnitCodes, block: Block) -> str:
    """Why effects of a unit do not go with a residual spread of each ``fine``; empty where they do."""
    unit = block.unit
    if block.relationship_factor is not None:
        return f"levels of {unit.name} have a given covariance"
    if fine.size == unit.size and is_nested(fine, unit):
        return f"{unit.name} has the same levels"
    return "" if is_nested(fine, unit) else f"not every {fine.name} lies inside one {unit.name}"


def units_above(design: Design) -> None:
    """Refuse every other unit but one above, whose levels hold whole units, with few effects; each with a sentence to try."""
    if not design.random_spread:
        return
    own = next(c for c in design.clauses if c.has_spread)
    fine, others = design.units[own.unit], [f for f in range(len(design.blocks)) if f != own.block]
    for f in others:
        unit, clauses = design.blocks[f].unit.name, [i for i, c in enumerate(design.clauses) if c.block == f]
        effects, why = sum(len(design.clauses[i].part.names) for i in clauses), not_above(fine, design.blocks[f])
        if why:
            raise OrchardError(
                f"a residual spread for each {fine.name} goes with effects of a unit that holds whole ones, and {why}; write: "
                + _without(design, clauses[-1])
            )
        if effects > MOST_ABOVE:
            raise OrchardError(
                f"beside a residual spread for each {fine.name}, {unit} can have {MOST_ABOVE} effects at most, not {effects}; write: "
                + _without(design, clauses[-1], 1 if len(clauses) == 1 else 0)
            )
    if len(others) > 1:
        names = " and ".join(design.blocks[f].unit.name for f in others)
        raise OrchardError(
            f"a residual spread for each {fine.name} goes with effects of one unit above, and {names} are {len(others)}; write: "
            + _without(design, next(i for i, c in enumerate(design.clauses) if c.block == others[-1]))
        )


def _without(design: Design, place: int, left: int = 0) -> str:
    """The sentence with ``left`` terms in an each clause, none drop it."""
    return with_clause(design.sentence, place, design.clauses[place].part.terms[:left]).source


def spread_told(design: Design) -> list[str]:
    """Units of one row say nothing of their spread: refused where no unit has more, told where some have."""
    notes = []
    for position, clause in enumerate(design.clauses):
        if not clause.has_spread:
            continue
        unit = design.units[clause.unit]
        single = int((unit.counts < 2).sum())
        if single == unit.size:
            rest = tuple(t for t in clause.part.terms if not t.is_spread)
            offer = with_clause(design.sentence, position, rest).source
            raise OrchardError(f"every {unit.name} has one row, which tells nothing of its spread; write: {offer}")
        if single:
            notes.append(
                f"{single:,} of the {unit.size:,} levels of {unit.name} {'have' if single > 1 else 'has'} one row: their own spread "
                "is guessed from the others'."
            )
    return notes
