"""What is checked before a fit, and the words for it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.codes import Seen
from bold_orchard.data.natural_order import natural_order
from bold_orchard.data.table import Table
from bold_orchard.data.units import is_time, which_repeats
from bold_orchard.design.transformations import OUTCOME
from bold_orchard.errors import OrchardError, SentenceError, a_or_an, shown
from bold_orchard.families import family_of
from bold_orchard.sentence import tree
from bold_orchard.sentence.edit import with_clause, with_units_named

if TYPE_CHECKING:
    from bold_orchard.design.design import Design, UnitCodes

Array = NDArray[Any]
SMALL = 5  # levels below which a variance between them is hardly told
MANY_COUNTED = 30.0  # mean above which counts are as good as measurements
MANY_LEVELS = 15  # levels that a person still reads as treatments
MOST_ORDERED = 10_000  # levels that are put in order where two are named as an example
MOST_COUNTED = 100  # levels up to which labels that count 1, 2, 3, ... may start anew under every parent


def few_values(sentence: tree.Sentence, table: Table, known: set[float]) -> set[float]:
    """The values of a plain outcome that pieces have shown, three at most where there are more.

    Raises SentenceError for text.
    """
    outcome = sentence.outcome
    column = tree.columns_of(outcome)[0].name
    if table.kind(column) == "category":
        outcome_kind(sentence, table, None, "gaussian")
    if len(known) > 2 or not isinstance(outcome.value, tree.Column) or table.kind(column) != "number":
        return known
    values = table.numbers(column)
    head = np.unique(values[:1000])
    found = head if len(known | set(head.tolist())) > 3 else np.unique(values)
    return known | set(found[~np.isnan(found)][:3].tolist())


def outcome_kind(sentence: tree.Sentence, table: Table, asked: str | None, family: str) -> None:
    """A Gaussian outcome must be numbers with more than two values, unless the family was named."""
    outcome = sentence.outcome
    column = tree.columns_of(outcome)[0]
    width = column.place[1] - column.place[0]
    kind = table.kind(column.name)
    if kind == "empty":
        raise OrchardError(f"the outcome '{column.name}' is missing in every row of {table.name}")
    coded = family_of(family).reads != "numbers" and outcome.trials is None
    if kind == "category" and not coded:
        levels = table.labels(column.name).ordered[0]
        offer = (
            "--family binomial"
            if len(levels) == 2
            else "--family ordinal for grades, nominal for levels without an order"
        )
        odd = table.odd_cells(column.name) or f"; {offer}"
        raise SentenceError(
            f"the outcome '{column.name}' is text ({', '.join(shown(levels, 4))}), and a {family} model needs numbers{odd}",
            sentence.source, column.place[0], width,
        )  # fmt: skip
    if asked is None and kind == "number" and isinstance(outcome.value, tree.Column) and outcome.trials is None:
        values = table.numbers(column.name)
        distinct = sorted(set(values[:1000][~np.isnan(values[:1000])].tolist()))
        if len(distinct) <= 2:
            distinct = np.unique(values[~np.isnan(values)]).tolist()
        if len(distinct) == 2:
            raise SentenceError(
                f"the outcome '{column.name}' has only the two values {distinct[0]:g} and {distinct[1]:g}; say which model is "
                "meant: --family binomial for the chance of the second, or --family gaussian",
                sentence.source, column.place[0], width,
            )  # fmt: skip


def outcome_notes(sentence: tree.Sentence, seen: dict[str, Seen], asked: str | None) -> list[str]:
    """Counts that were given no family: whole numbers with zeros and a small mean."""
    value = sentence.outcome.value
    if asked is not None or not isinstance(value, tree.Column) or sentence.outcome.trials is not None:
        return []
    y = seen[value.name].without([])
    if not y.whole or y.low != 0 or y.mean > MANY_COUNTED or y.high < 3:
        return []
    return [
        f"{sentence.outcome} looks like counts (whole numbers from 0 to {y.high:g}): a gaussian model lets them vary alike "
        "everywhere and predicts negative ones; --family poisson or negative-binomial is made for them, --family gaussian "
        "silences this note."
    ]


def many_levels(design: Design) -> list[str]:
    """Categories of the fixed part and of the spread with so many levels that they are rather units."""
    notes, units = [], [u.name for u in design.groups]
    for place, terms in (("the fixed part", design.fixed.terms), ("spread", design.sentence.spread)):
        for column in dict.fromkeys(c.name for c in tree.columns_of(terms, units=False)):
            if design.table.kind(column) != "category" or column in units:
                continue
            size = len(np.unique(design.table.labels(column).codes))
            if size > MANY_LEVELS:
                one = size - 1
                notes.append(
                    f"{column} has {size:,} levels in {place}, which costs {one:,} coefficients: where they are a sample of all "
                    f"such levels, write each {tree.column_text(column)}: intercept"
                    + (
                        " instead."
                        if place == "the fixed part"
                        else ", and let the spread depend on what the levels have in common."
                    )
                )
    return notes


def residual_clauses(sentence: tree.Sentence, additive: bool) -> None:
    """Only a Gaussian model has residuals whose correlation or spread can be written down."""
    if additive:
        return
    for word, clause in (("within", sentence.within), ("spread", sentence.spread)):
        if clause:
            raise OrchardError(
                f"'{word}' describes gaussian residuals, which this family does not have; leave it out, or give one effect per row: "
                "each ROW: intercept"
            )


def known_errors(sentence: tree.Sentence, additive: bool, weights: str | None) -> None:
    """Raise OrchardError for what does not go with errors whose SDs are known."""
    if sentence.known is None:
        return
    beside = (
        "a family that is not gaussian" if not additive
        else "--weights" if weights is not None
        else "within" if sentence.within is not None
        else "a spread of each unit" if any(e.has_spread for e in sentence.each)
        else ""
    )  # fmt: skip
    if beside:
        raise OrchardError(
            f"spread = known({sentence.known}) gives the errors of a gaussian outcome whole; it does not go with {beside}"
        )


def enough_rows(design: Design) -> None:
    n, p = design.n_rows, len(design.fixed.names)
    if n <= p:
        raise OrchardError(
            f"the fixed part has {p} columns but only {n} rows can be used; "
            "leave terms out or find out why rows were lost (orchard scout)"
        )


def units_and_slopes(design: Design, force: bool) -> list[str]:
    """Refuse units and slopes that cannot be estimated; returns notes on those that are merely weak."""
    notes = []
    for unit in design.groups:
        weighted = design.weights is not None and design.counts is None
        structures = {c.structure.kind for c in design.clauses if design.units[c.unit].name == unit.name}
        if unit.size == 1 and structures != {"given"}:
            raise OrchardError(
                f"'{unit.name}' has one level only ('{unit.texts[0]}') in the rows used, so nothing varies between "
                f"levels; leave out: each {unit.name}"
            )
        alone = unit.size == design.n_rows and not weighted and design.additive
        if alone and not _known(design, unit.name):
            raise OrchardError(
                f"'{unit.name}' has as many levels as there are rows ({unit.size:,}), so its effects cannot be told "
                f"from the residual; choose a column that repeats (orchard scout {design.table.name})"
            )
        if not force and told_by_one_row(design):
            raise OrchardError(f"{told_by_one_row(design)} (or add --force to go on)")
        if unit.size < SMALL:
            notes.append(
                f"There are only {unit.size} levels of {unit.name}: its variance is estimated from {unit.size} "
                f"effects and is very uncertain. With so few, {unit.name} may serve better as a fixed term."
            )
    for position in range(len(design.clauses)):
        notes += _constant_slopes(design, position, force)
    if not force:
        _enough_levels(design)
    notes += _crossed_labels(design) + repeated_labels(design, lambda: design.table)
    total = sum(design.units[c.unit].size * len(c.part.names) for c in design.clauses)
    n = design.n_rows
    for clause in design.clauses:
        count = design.units[clause.unit].size * len(clause.part.names)
        if clause.wiggle:
            continue
        if count >= n and len(clause.part.names) > 1 and not force and clause.structure.kind not in ("known", "given"):
            raise OrchardError(
                f"each {design.units[clause.unit].name} asks for {count:,} random effects "
                f"({design.units[clause.unit].size:,} levels x {len(clause.part.names)} terms) from {n:,} rows; "
                f"leave terms out of the clause ({total:,} effects in all), or add --force"
            )
    return notes


def told_by_one_row(design: Design) -> str | None:
    """Of 0/1 outcomes and grades: a unit that has one row per level, whose variance nothing can tell."""
    whole = design.trials is not None and bool((design.trials > 1).any())
    reads = family_of(design.family).reads
    if reads == "numbers" or whole:
        return None
    for unit in design.groups:
        if unit.size == design.n_rows:
            return (
                f"every {unit.name} has one row, and one row of a {'grade' if reads == 'grades' else 'yes or no'} cannot tell "
                f"the {unit.name}'s effect from chance: its variance is not identified. Leave out: each {unit.name}"
            )
    return None


def _enough_levels(design: Design) -> None:
    """Refuse an unstructured covariance with more parameters than there are effects to estimate it from."""
    for position, clause in enumerate(design.clauses):
        unit, k = design.units[clause.unit], len(clause.part.names)
        count = k * (k + 1) // 2
        if clause.structure.kind == "unstructured" and count > unit.size * k:
            offer = with_clause(design.sentence, position, clause.part.terms, "diagonal").source
            raise OrchardError(
                f"each {unit.name} asks for {count:,} variances and covariances from the {unit.size * k:,} effects of "
                f"{unit.size:,} levels; write: {offer}  (or add --force)"
            )


def _known(design: Design, unit: str) -> bool:
    return any(c.structure.kind in ("known", "given") for c in design.clauses if design.units[c.unit].name == unit)


def _constant_slopes(design: Design, position: int, force: bool) -> list[str]:
    clause = design.clauses[position]
    unit = design.units[clause.unit]
    notes: list[str] = []
    if clause.wiggle:
        return notes
    for index, term in enumerate(clause.part.terms):
        rows = rows_of_term(design, term)
        columns = [v[rows] for v, o in zip(clause.part.values, clause.part.owner) if o == index]
        by_level = not clause.part.intercept and len(columns) > 1  # one variance per level of a category
        if (
            not term.alone.factors
            or term.is_spread
            or by_level
            or not all(constant_inside(unit.codes[rows], unit.size, c) for c in columns)
        ):
            continue
        rest = tuple(t for t in clause.part.terms if t is not term) or (tree.Term(()),)
        message = (
            f"'{term}' does not vary inside any {unit.name} (it describes the {unit.name}, not the row: "
            f"{_examples(design, unit, term)}), so {a_or_an(unit.name)} cannot have its own {term} effect"
        )
        if not force:
            offer = with_clause(design.sentence, position, rest).source
            scatter = _scatter(design, position, rest, term)
            more = f"  or: {scatter}" if scatter else ""
            known = ", though their spread may differ with it" if scatter else ""
            raise OrchardError(f"{message}{known}; write: {offer}{more}  (or add --force to go on)")
        notes.append(f"{message[0].upper()}{message[1:]}; fitted all the same because of --force.")
    return notes


def _scatter(design: Design, position: int, rest: tuple[tree.Term, ...], term: tree.Term) -> str:
    """The sentence in which units differ more at one value of a term than at another, where there is one."""
    each = design.sentence.each[position]
    if design.family != "gaussian" or term.outcome is not None or len(each.terms) == len(rest) or each.vary:
        return ""
    return with_clause(design.sentence, position, rest, vary=(term,)).source


def rows_of_term(design: Design, term: tree.Term) -> Any:
    """The rows in which a term stands: all, or those of its outcome or linear predictor."""
    if term.outcome is None:
        return slice(None)
    labels = design.table.labels(OUTCOME)
    return np.array([t == term.outcome for t in labels.texts])[labels.codes]


def _examples(design: Design, unit: UnitCodes, term: tree.Term) -> str:
    column = tree.columns_of(term)[0].name
    labels = design.table.labels(column)
    order = natural_order(unit.texts) if unit.size <= MOST_ORDERED else range(unit.size)
    first = [int(np.argmax(unit.codes == level)) for level in list(order)[:2]]
    number = design.table.kind(column) == "number"
    texts = [f"{labels.raw[labels.codes[r]]:g}" if number else labels.texts[labels.codes[r]] for r in first]
    return ", ".join(f"{unit.texts[unit.codes[r]]} has {text}" for r, text in zip(first, texts)) + ", ..."


def constant_inside(codes: NDArray[np.intp], size: int, values: Array) -> bool:
    """True when ``values`` (n,) take one value in every level of ``codes`` (n,)."""
    for stop in (2000, len(codes)):
        first = np.zeros(size)
        first[codes[:stop][::-1]] = values[:stop][::-1]
        if not np.array_equal(first[codes[:stop]], values[:stop]):
            return False
    return True


def repeated_labels(design: Design, rows: Callable[[], Table]) -> list[str]:
    """A unit numbered 1, 2, 3 ... whose labels start again under some column of ``rows`` that the sentence does not use."""
    notes: list[str] = []
    counted = [u for u in design.groups if " in " not in u.name and u.size <= MOST_COUNTED and _counted(u)]
    counted = [u for u in counted if not _crossed_with(design, u)]  # of which a note tells already
    if not counted:
        return notes
    table = rows()
    table.data.fetch(table.columns)
    named = {c.name for c in tree.columns_of((design.sentence.terms, design.sentence.each))}
    for unit in counted:
        parents = [c for c in table.columns if c not in (*named, OUTCOME) and table.kind(c) == "category"]
        labels = {c: table.labels(c) for c in table.columns if table.kind(c) != "empty"} if parents else {}
        for parent in parents:
            found = which_repeats(unit.name, parent, labels)
            if found and found["unit"] == unit.name:
                notes.append(
                    f"The labels of {unit.name} seem to start again in every {parent}: as written, {unit.name} "
                    f"{unit.texts[0]} of every {parent} is one and the same {unit.name}. If they are different, write: "
                    f"{_nested(design, unit.name, parent)}"
                )
                break
    return notes


def _crossed_labels(design: Design) -> list[str]:
    """A numbered unit whose labels occur under several levels of another: crossed, or repeated labels?"""
    return [
        f"{fine.name} and {coarse.name} are crossed: {a_or_an(fine.name)} label that occurs under several "
        f"levels of {coarse.name} counts as one and the same {fine.name}. If labels start again under "
        f"every {coarse.name}, write: {_nested(design, fine.name, coarse.name)}"
        for fine in design.groups
        for coarse in _crossed_with(design, fine)
    ]


def _crossed_with(design: Design, fine: UnitCodes) -> list[UnitCodes]:
    """Units that share no column with a numbered one and are crossed with it."""
    if fine.size > MOST_COUNTED or not _counted(fine) or is_time(fine.name):
        return []
    own = set(fine.name.split(" in "))
    others = [u for u in design.groups if u is not fine and not is_time(u.name) and not own & set(u.name.split(" in "))]
    return [u for u in others if not is_nested(fine, u) and not is_nested(u, fine)]


def _counted(unit: UnitCodes) -> bool:
    return all(t.isdigit() or len(t) == 1 for t in unit.texts)


def _nested(design: Design, unit: str, parent: str) -> str:
    return with_units_named(design.sentence, unit, f"{unit} in {parent}").source


def is_nested(fine: UnitCodes, coarse: UnitCodes) -> bool:
    """Whether every level of ``fine`` belongs to one level of ``coarse``."""
    return constant_inside(fine.codes, fine.size, coarse.codes)
