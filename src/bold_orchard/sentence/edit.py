"""Sentences made from others by editing the tree, so that whatever is proposed reads back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from bold_orchard.errors import UsageError, unknown_name
from bold_orchard.sentence import tree
from bold_orchard.sentence.parse import read_sentence


def _again(sentence: tree.Sentence) -> tree.Sentence:
    """The edited sentence as if it had been typed."""
    return replace(sentence, source=sentence.written, notes=())


def with_clause(
    sentence: tree.Sentence,
    position: int,
    terms: tuple[tree.Term, ...],
    structure: str | None = None,
    vary: tuple[tree.Term, ...] | None = None,
) -> tree.Sentence:
    """Other terms in the each clause number ``position``, and another structure or terms under `vary with` if given.

    No terms drop the clause.
    """
    each = list(sentence.each)
    if terms:
        kept = each[position].structure if structure is None else tree.Structure(structure)
        kept_vary = each[position].vary if vary is None else vary
        each[position] = replace(each[position], terms=terms, structure=kept, vary=kept_vary)
    else:
        del each[position]
    return _again(replace(sentence, each=tuple(each)))


def lowered(terms: tuple[tree.Term, ...], term: tree.Term) -> tuple[tree.Term, ...]:
    """The terms with one made simpler: power(x, 3) becomes power(x, 2), that becomes x; anything else is left out."""
    out: list[tree.Term] = []
    for t in terms:
        if t is not term:
            out.append(t)
            continue
        factor = t.factors[0] if len(t.factors) == 1 else None
        if (
            isinstance(factor, tree.Call)
            and factor.function == "power"
            and isinstance(factor.arguments[1], tree.Number)
        ):
            x, degree = factor.arguments[0], factor.arguments[1].value
            if degree > 2:
                out.append(tree.Term((tree.Call("power", (x, tree.Number(degree - 1))),)))
            elif isinstance(x, (tree.Column, tree.Call)):
                out.append(tree.Term((x,)))
    return tuple(out)


def with_unit(sentence: tree.Sentence, unit: str) -> tree.Sentence:
    """One more clause: each ``unit``: intercept; ``unit`` is its name as printed, 'tree in orchard'."""
    made = tree.Each(unit_of(unit), tree.Structure("unstructured"), (tree.Term(()),))
    return _again(replace(sentence, each=(*sentence.each, made)))


def with_units_named(sentence: tree.Sentence, old: str, new: str) -> tree.Sentence:
    """The unit ``old`` (as printed) replaced by ``new`` in every clause."""
    unit = unit_of(new)
    each = tuple(replace(e, unit=unit) if str(e.unit) == old else e for e in sentence.each)
    within = sentence.within
    if within is not None and str(within.unit) == old:
        within = replace(within, unit=unit)
    return _again(replace(sentence, each=each, within=within))


def with_within(sentence: tree.Sentence, unit: str, kind: str, column: str) -> tree.Sentence:
    """The residual correlation within ``unit``: kind(column)."""
    structure = tree.Structure(kind, columns=(tree.Column(column),))
    return _again(replace(sentence, within=tree.Within(unit_of(unit), structure)))


def without_within(sentence: tree.Sentence) -> tree.Sentence:
    """No correlation of the residuals."""
    return _again(replace(sentence, within=None))


def without_vary(sentence: tree.Sentence, position: int) -> tree.Sentence:
    """Effects of one SD in the each clause number ``position``."""
    each = list(sentence.each)
    each[position] = replace(each[position], vary=())
    return _again(replace(sentence, each=tuple(each)))


def with_outcome(sentence: tree.Sentence, function: str) -> tree.Sentence:
    """A function of the outcome in its place."""
    value = tree.Call(function, (sentence.outcome.value,))
    return _again(replace(sentence, outcome=tree.Outcome(value)))


def with_part(sentence: tree.Sentence, part: str, term: str) -> tree.Sentence:
    """One more term, as it is printed, on which the zeros or the spread depend."""
    own = next(t for t in sentence.terms if str(t) == term)
    if part == "zeros":
        return _again(replace(sentence, zeros=(*sentence.zeros, own)))
    return _again(replace(sentence, spread=(*sentence.spread, own)))


def with_curve(sentence: tree.Sentence, column: str, pieces: int | None = None) -> tree.Sentence:
    """smooth(column), or spline(column, pieces), in place of the column's own term, or beside the others when it has none."""
    named = tree.Column(column)
    call = tree.Call("smooth", (named,)) if pieces is None else tree.Call("spline", (named, tree.Number(float(pieces))))
    curve = tree.Term((call,))
    terms = list(sentence.terms)
    for place, term in enumerate(terms):
        if len(term.factors) == 1 and [c.name for c in tree.columns_of(term)] == [column]:
            terms[place] = curve
            return _again(replace(sentence, terms=tuple(terms)))
    return _again(replace(sentence, terms=(*terms, curve)))


def with_line(sentence: tree.Sentence, curve: tree.Call, unit: str | None = None) -> tree.Sentence:
    """A curve's straight part in its place, for each level of ``by`` its own: in the fixed part, or in the clauses of a unit."""
    x = curve.arguments[0]
    assert isinstance(x, (tree.Column, tree.Call, tree.Named))
    by = tuple(a.column for a in curve.arguments if isinstance(a, tree.By))

    def plain(terms: tuple[tree.Term, ...]) -> tuple[tree.Term, ...]:
        made = [tree.Term((x, *by)) if t.factors and t.factors[0] == curve else t for t in terms]
        return tuple({t.key: t for t in made}.values())

    if unit is None:
        return _again(replace(sentence, terms=plain(sentence.terms)))
    whole = sentence.clauses[: len(sentence.each)]  # with the intercept that goes with a curve
    each = tuple(replace(w, terms=plain(w.terms)) if str(e.unit) == unit else e for e, w in zip(sentence.each, whole))
    return _again(replace(sentence, each=each))


def with_centred(sentence: tree.Sentence, column: str) -> tree.Sentence:
    """centre(column) in place of the plain column in the fixed part and in the each clauses."""

    def moved(item: tree.Factor) -> tree.Factor:
        if isinstance(item, tree.Column) and item.name == column:
            return tree.Call("centre", (item,))
        if isinstance(item, tree.Call) and item.function in ("power", "spline", "rescale", "exp"):
            first = item.arguments[0]
            if isinstance(first, (tree.Column, tree.Call)):
                return replace(item, arguments=(moved(first), *item.arguments[1:]))
        return item

    def terms(old: tuple[tree.Term, ...]) -> tuple[tree.Term, ...]:
        return tuple(tree.Term(tuple(moved(f) for f in t.factors)) for t in old)

    each = tuple(replace(e, terms=terms(e.terms)) for e in sentence.each)
    return _again(replace(sentence, terms=terms(sentence.terms), each=each))


def with_terms(sentence: tree.Sentence, text: str) -> tree.Sentence:
    """More terms in the fixed part. Raises SentenceError for text that reads as none, UsageError for a term that is there."""
    more = _read(sentence, f"{sentence.outcome.written} = {text}").terms
    there = {t.key for t in sentence.terms}
    for term in more:
        if term.key in there:
            raise UsageError(f"'{term}' stands in the sentence already: {sentence}")
    return _again(replace(sentence, terms=(*sentence.terms, *more)))


def without_terms(sentence: tree.Sentence, text: str) -> tree.Sentence:
    """Fewer terms in the fixed part. Raises UsageError, with the nearest name, for a term that is not there."""
    dropped = _read(sentence, f"{sentence.outcome.written} = {text}").terms
    if not dropped:
        raise UsageError("the intercept is not dropped so; write the whole sentence, ending in: without intercept")
    for term in dropped:
        if term.key not in {t.key for t in sentence.terms}:
            raise UsageError(
                unknown_name("term", str(term), [str(t) for t in sentence.terms], f"the fixed part of: {sentence}")
            )
    gone = {t.key for t in dropped}
    return _again(replace(sentence, terms=tuple(t for t in sentence.terms if t.key not in gone)))


def with_each(sentence: tree.Sentence, text: str) -> tree.Sentence:
    """One more each clause, written "UNIT: TERMS", or another one in the place of those of its unit."""
    (made,) = _read(sentence, f"{sentence.outcome.written} = intercept; each {text}").each
    kept, done = [], False
    for clause in sentence.each:
        if clause.unit.written != made.unit.written:
            kept.append(clause)
        elif not done:
            kept.append(made)
            done = True
    return _again(replace(sentence, each=tuple(kept if done else [*kept, made])))


def without_each(sentence: tree.Sentence, unit: str) -> tree.Sentence:
    """No each clause of a unit. Raises UsageError, with the nearest name, where it has none."""
    wanted = " ".join(unit.split())
    kept = tuple(e for e in sentence.each if wanted not in (str(e.unit), e.unit.written))
    if len(kept) == len(sentence.each):
        known = list(dict.fromkeys(str(e.unit) for e in sentence.each)) or ["(none)"]
        raise UsageError(unknown_name("unit", wanted, known, f"the each clauses of: {sentence}"))
    return _again(replace(sentence, each=kept))


def of_outcome(sentence: tree.Sentence, text: str) -> tree.Sentence:
    """Another outcome in the same sentence, which must not be among its terms."""
    return read_sentence(replace(sentence, outcome=_read(sentence, f"{text} = intercept").outcome).written)


@dataclass(frozen=True)
class Edits:
    """What is changed of a sentence: terms of the fixed part, each clauses ("UNIT: TERMS"), units left out, the outcome."""

    add: Sequence[str] = ()
    drop: Sequence[str] = ()
    each: Sequence[str] = ()
    without_each: Sequence[str] = ()
    outcome: str | None = None

    def of(self, sentence: tree.Sentence) -> tree.Sentence:
        """The edited sentence; raises SentenceError and UsageError for edits that cannot be made."""
        for change, texts in (
            (without_terms, self.drop),
            (without_each, self.without_each),
            (with_terms, self.add),
            (with_each, self.each),
        ):
            for text in texts:
                sentence = change(sentence, text)
        return sentence if self.outcome is None else of_outcome(sentence, self.outcome)


def _read(sentence: tree.Sentence, text: str) -> tree.Sentence:
    """A piece read with the names that the sentence gives by let."""
    return read_sentence("".join(f"let {n.name} = {n.factor.written}; " for n in sentence.lets) + text)


def unit_of(name: str) -> tree.Unit:
    """The unit printed as ``name``: 'tree in orchard'."""
    return tree.Unit(tuple(tree.Column(part) for part in name.split(" in ")))
