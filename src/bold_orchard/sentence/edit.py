"""Sentences made from others by editing the tree, so that whatever is proposed reads back."""

from __future__ import annotations

from dataclasses import replace

from bold_orchard.sentence import tree


def _again(sentence: tree.Sentence) -> tree.Sentence:
    """The edited sentence as if it had been typed."""
    return replace(sentence, source=sentence.written, notes=())


def with_clause(
    sentence: tree.Sentence, position: int, terms: tuple[tree.Term, ...], structure: str | None = None
) -> tree.Sentence:
    """Other terms in the each clause number ``position``, and another structure if named; no terms drop the clause."""
    each = list(sentence.each)
    if terms:
        kept = each[position].structure if structure is None else tree.Structure(structure)
        each[position] = replace(each[position], terms=terms, structure=kept)
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


def with_curve(sentence: tree.Sentence, column: str, pieces: int) -> tree.Sentence:
    """spline(column, pieces) in place of the column's own term, or beside the others when it has none."""
    curve = tree.Term((tree.Call("spline", (tree.Column(column), tree.Number(float(pieces)))),))
    terms = list(sentence.terms)
    for place, term in enumerate(terms):
        if len(term.factors) == 1 and [c.name for c in tree.columns_of(term)] == [column]:
            terms[place] = curve
            return _again(replace(sentence, terms=tuple(terms)))
    return _again(replace(sentence, terms=(*terms, curve)))


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


def unit_of(name: str) -> tree.Unit:
    """The unit printed as ``name``: 'tree in orchard'."""
    return tree.Unit(tuple(tree.Column(part) for part in name.split(" in ")))
