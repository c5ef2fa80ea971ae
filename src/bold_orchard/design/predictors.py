"""Several linear predictors in one model: every row of the table becomes one for each of them, and every term belongs
to one.

Zeros and the spread have predictors of their own beside the mean's; an unordered outcome has one for each level but its
baseline.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from bold_orchard.data.table import Table
from bold_orchard.design.design import Design, UnitCodes
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.outcomes import OURS, for_all, over
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError
from bold_orchard.families import family_of, names
from bold_orchard.sentence import tree

WORDS = {"zeros": "zeros of their own", "spread": "spread of its own"}


def several_of(sentence: tree.Sentence, family: str, link: str) -> tuple[str, ...]:
    """What has a linear predictor of its own, the mean first; nothing where that is alone. Of an unordered outcome what
    its levels say.

    Raises OrchardError for a part that the family does not have and for what does not go with several predictors.
    """
    if sentence.predictors:
        return sentence.predictors
    kind = family_of(family, link, bool(sentence.outcome.limits))
    zeros = bool(sentence.zeros) or any(t.is_zeros for e in sentence.each for t in e.terms)
    have = [p.name for p in kind.parts]
    spread = bool(sentence.spread) or (any(e.has_spread for e in sentence.each) and "spread" in have)
    asked = [name for name, there in (("spread", spread and not kind.additive), ("zeros", zeros)) if there]
    if kind.reads == "levels":
        if asked:
            raise OrchardError(f"an unordered outcome has no {WORDS[asked[0]]}; leave out: {asked[0]}")
        asked = ["levels"]
    for name in asked if kind.reads != "levels" else ():
        if name not in have:
            able = [n for n in names() if name in [p.name for p in family_of(n).parts]]
            column = " (of a column of that name write [zeros])" if name == "zeros" else ""
            raise OrchardError(
                f"a {family} outcome has no {WORDS[name]}{column}; families that have: {', '.join(able)}"
                + (", gaussian with --link log" if name == "spread" and family == "gaussian" else "")
            )
    if asked:
        _check(sentence)
    return (tree.MEAN, *asked) if asked else ()


def _check(sentence: tree.Sentence) -> None:
    beside = (
        "within" if sentence.within is not None
        else "vary with" if any(e.vary for e in sentence.each)
        else "smooth" if any(c.function == "smooth" for c in tree.calls_of(sentence))
        else "known errors" if sentence.known is not None
        else next((f"a covariance that is {e.structure.kind}" for e in sentence.each if e.structure.kind in ("given", "exchangeable")), "")
    )  # fmt: skip
    if beside:
        raise OrchardError(
            f"several linear predictors (zeros, spread, unordered levels) do not go with {beside}; leave one out"
        )
    for term in (*sentence.zeros, *sentence.spread):
        for factor in term.factors:
            if isinstance(factor, tree.Call) and factor.function == "offset":
                raise OrchardError("an offset belongs to the mean; leave it out of zeros and spread")


def learn(sentence: tree.Sentence, maker: ColumnMaker) -> None:
    """Means, knots and levels of every transformation, over the rows of the table."""
    parts: tuple[Any, ...] = (sentence.terms, sentence.zeros, sentence.spread, *(e.terms for e in sentence.each))
    for factor in (f for terms in parts for t in terms for f in t.factors):
        if not isinstance(factor, (tree.OwnSpread, tree.OwnZeros)):
            maker.make(factor)


def stacked(
    sentence: tree.Sentence, table: Table, family: str, link: str, levels: tuple[str, ...]
) -> tuple[tree.Sentence, Table]:
    """The sentence and the table with a row for each linear predictor."""
    taken = [c for c in OURS if table.has(c)]
    if taken:
        raise OrchardError(
            f"a column of {table.name} is called '{taken[0]}', which several linear predictors need for themselves; rename it"
        )
    chosen = several_of(sentence, family, link)
    found = levels[1:] if family_of(family).reads == "levels" else chosen
    return stack(sentence, found), every(table, found)


def every(table: Table, found: tuple[str, ...]) -> Table:
    """All rows of a table, one for each linear predictor."""
    p, n = len(found), len(table)
    return over(table, np.repeat(np.arange(n), p), np.tile(np.arange(p), n), found)


def stack(sentence: tree.Sentence, found: tuple[str, ...]) -> tree.Sentence:
    """The same sentence over rows that are of one linear predictor each."""
    fixed = (tree.Term(()), *sentence.terms) if sentence.intercept else sentence.terms
    if tree.MEAN not in found:
        each = tuple(replace(e, terms=for_all(e.terms, found)) for e in sentence.each)
        return replace(sentence, terms=for_all(fixed, found), intercept=False, each=each, predictors=found)
    parts = {tree.MEAN: fixed, "spread": (tree.Term(()), *sentence.spread), "zeros": (tree.Term(()), *sentence.zeros)}
    terms = tuple(tree.Term((tree.OfOutcome(name), *t.factors), t.place) for name in found for t in parts[name])
    each = tuple(replace(e, terms=tuple(_of_clause(t) for t in e.terms)) for e in sentence.each)
    return replace(sentence, terms=terms, intercept=False, each=each, spread=(), zeros=(), predictors=found)


def _of_clause(term: tree.Term) -> tree.Term:
    if term.is_zeros or term.is_spread:
        return tree.Term((tree.OfOutcome(str(term), bare=True),), term.place)
    return tree.Term((tree.OfOutcome(tree.MEAN), *term.factors), term.place)


def over_all(one: Design, two: Design) -> tuple[str, ...] | None:
    """The linear predictors of two designs together; None where they have no such thing in common."""
    names = [
        n
        for n in (tree.MEAN, *(p.name for p in one.plain_kind.parts))
        if n in (tree.MEAN, *one.predictors, *two.predictors)
    ]
    known = (tree.MEAN, *one.predictors, *two.predictors)
    return (
        tuple(names)
        if set(known) == set(names) and set(names) <= {tree.MEAN, *(p.name for p in two.plain_kind.parts)}
        else None
    )


def over_predictors(design: Design, names: tuple[str, ...]) -> Design:
    """The same model written over rows of every one of some linear predictors, those that it lacks being one number
    each."""
    if design.predictors == names:
        return design
    have, p, n = design.predictors or (tree.MEAN,), len(names), design.n_rows
    places = np.array([names.index(name) for name in have])

    def laid(part: ModelMatrix) -> ModelMatrix:
        values = []
        for column in part.values:
            own = np.zeros((n, p))
            own[:, places] = column.reshape(n, len(have))
            values.append(own.ravel())
        return replace(part, values=tuple(values))

    def own_terms(part: ModelMatrix) -> ModelMatrix:
        """Of the mean, where the design had no other predictor."""
        if design.predictors:
            return part
        return replace(
            part, terms=tuple(tree.Term((tree.OfOutcome(tree.MEAN), *t.factors), t.place) for t in part.terms)
        )

    fixed = own_terms(laid(design.fixed))
    for name in names:
        if name not in have:
            flat = np.tile(np.array([other == name for other in names], dtype=float), n)
            term = tree.Term((tree.OfOutcome(name),))
            fixed = replace(
                fixed, terms=(*fixed.terms, term), names=(*fixed.names, str(term)), labels=(*fixed.labels, str(term)), values=(*fixed.values, flat),
                owner=(*fixed.owner, len(fixed.terms)), degrees=(*fixed.degrees, None), cells=(*fixed.cells, ()),
            )  # fmt: skip

    def codes(unit: UnitCodes) -> UnitCodes:
        return replace(unit, codes=np.repeat(unit.codes[:: len(have)], p))

    offset = None
    if design.offset is not None:
        own = np.zeros((n, p))
        own[:, places] = design.offset.reshape(n, len(have))
        offset = own.ravel()
    return replace(
        design, fixed=fixed, y=np.repeat(design.y[:: len(have)], p), offset=offset, units=tuple(map(codes, design.units)),
        clauses=tuple(replace(c, part=own_terms(laid(c.part))) for c in design.clauses), blocks=tuple(replace(b, unit=codes(b.unit)) for b in design.blocks),
        sentence=replace(design.sentence, predictors=names),
    )  # fmt: skip
