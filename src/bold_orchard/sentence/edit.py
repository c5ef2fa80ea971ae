"""Sentences made from others by editing the tree, so that whatever is proposed reads back."""

from __future__ import annotations

from dataclasses import replace

from bold_orchard.sentence import spec


def _again(sentence: spec.Sentence) -> spec.Sentence:
    """The edited sentence as if it had been typed."""
    return replace(sentence, source=sentence.written, notes=())


def with_clause(
    sentence: spec.Sentence, position: int, terms: tuple[spec.Term, ...], structure: str | None = None
) -> spec.Sentence:
    """Other terms in the each clause number ``position``, and another structure if named; no terms drop the clause."""
    each = list(sentence.each)
    if terms:
        kept = each[position].structure if structure is None else spec.Structure(structure)
        each[position] = replace(each[position], terms=terms, structure=kept)
    else:
        del each[position]
    return _again(replace(sentence, each=tuple(each)))


def lowered(terms: tuple[spec.Term, ...], term: spec.Term) -> tuple[spec.Term, ...]:
    """The terms with one made simpler: power(x, 3) becomes power(x, 2), that becomes x; anything else is left out."""
    out: list[spec.Term] = []
    for t in terms:
        if t is not term:
            out.append(t)
            continue
        factor = t.factors[0] if len(t.factors) == 1 else None
        if (
            isinstance(factor, spec.Call)
            and factor.function == "power"
            and isinstance(factor.arguments[1], spec.Number)
        ):
            x, degree = factor.arguments[0], factor.arguments[1].value
            if degree > 2:
                out.append(spec.Term((spec.Call("power", (x, spec.Number(degree - 1))),)))
            elif isinstance(x, (spec.Column, spec.Call)):
                out.append(spec.Term((x,)))
    return tuple(out)


def with_unit(sentence: spec.Sentence, unit: str) -> spec.Sentence:
    """One more clause: each ``unit``: intercept; ``unit`` is its name as printed, 'tree in orchard'."""
    made = spec.Each(unit_of(unit), spec.Structure("unstructured"), (spec.Term(()),))
    return _again(replace(sentence, each=(*sentence.each, made)))


def with_units_named(sentence: spec.Sentence, old: str, new: str) -> spec.Sentence:
    """The unit ``old`` (as printed) replaced by ``new`` in every clause."""
    unit = unit_of(new)
    each = tuple(replace(e, unit=unit) if str(e.unit) == old else e for e in sentence.each)
    within = sentence.within
    if within is not None and str(within.unit) == old:
        within = replace(within, unit=unit)
    return _again(replace(sentence, each=each, within=within))


def with_within(sentence: spec.Sentence, unit: str, kind: str, column: str) -> spec.Sentence:
    """The residual correlation within ``unit``: kind(column)."""
    structure = spec.Structure(kind, column=spec.Column(column))
    return _again(replace(sentence, within=spec.Within(unit_of(unit), structure)))


def with_outcome(sentence: spec.Sentence, function: str) -> spec.Sentence:
    """A function of the outcome in its place."""
    value = spec.Call(function, (sentence.outcome.value,))
    return _again(replace(sentence, outcome=spec.Outcome(value)))


def with_curve(sentence: spec.Sentence, column: str, pieces: int) -> spec.Sentence:
    """spline(column, pieces) in place of the column's own term, or beside the others when it has none."""
    curve = spec.Term((spec.Call("spline", (spec.Column(column), spec.Number(float(pieces)))),))
    terms = list(sentence.terms)
    for place, term in enumerate(terms):
        if len(term.factors) == 1 and [c.name for c in spec.columns_of(term)] == [column]:
            terms[place] = curve
            return _again(replace(sentence, terms=tuple(terms)))
    return _again(replace(sentence, terms=(*terms, curve)))


def with_centred(sentence: spec.Sentence, column: str) -> spec.Sentence:
    """centre(column) in place of the plain column in the fixed part and in the each clauses."""

    def moved(item: spec.Factor) -> spec.Factor:
        if isinstance(item, spec.Column) and item.name == column:
            return spec.Call("centre", (item,))
        if isinstance(item, spec.Call) and item.function in ("power", "spline", "rescale", "exp"):
            first = item.arguments[0]
            if isinstance(first, (spec.Column, spec.Call)):
                return replace(item, arguments=(moved(first), *item.arguments[1:]))
        return item

    def terms(old: tuple[spec.Term, ...]) -> tuple[spec.Term, ...]:
        return tuple(spec.Term(tuple(moved(f) for f in t.factors)) for t in old)

    each = tuple(replace(e, terms=terms(e.terms)) for e in sentence.each)
    return _again(replace(sentence, terms=terms(sentence.terms), each=each))


def unit_of(name: str) -> spec.Unit:
    """The unit printed as ``name``: 'tree in orchard'."""
    return spec.Unit(tuple(spec.Column(part) for part in name.split(" in ")))
