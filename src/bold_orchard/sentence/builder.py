"""Lark tree -> the sentence as frozen data."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace
from typing import Any

from lark import Token, v_args
from lark.visitors import Transformer_NonRecursive

from bold_orchard.errors import SentenceError, shown
from bold_orchard.sentence import tree
from bold_orchard.sentence.signatures import ALONE, check_call, check_effects, check_extreme, check_structure

SPELLINGS = {"center": "centre"}
MOST_CROSSED = 10  # cross(...) of ten parts writes 1,023 terms
CENSORED = "censored"
MOST_OUTCOMES = 12  # jointly: 12 outcomes have 66 correlations of rows alone
MOST_CLAUSES = 40  # clauses: more is a slip of a script, not a model


@v_args(meta=True)
class Builder(Transformer_NonRecursive[Any, Any]):
    """Lark tree -> spec; ``text`` is kept for carets."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.text = text

    def fail(self, message: str, place: tuple[int, int]) -> SentenceError:
        return SentenceError(message, self.text, place[0], place[1] - place[0])

    # -- small parts
    def column(self, meta: Any, parts: list[Token]) -> tree.Column:
        raw = str(parts[0])
        name = raw[1:-1].strip() if raw.startswith("[") else raw
        return tree.Column(name, _place(meta))

    def number(self, meta: Any, parts: list[Token]) -> tree.Number:
        value = float(parts[0])
        if not math.isfinite(value):
            raise self.fail(f"{parts[0]} is too large for a number", _place(meta))
        return tree.Number(value, _place(meta))

    def string(self, meta: Any, parts: list[Token]) -> tree.Text:
        return tree.Text(str(parts[0])[1:-1], _place(meta))

    def intercept(self, meta: Any, _: list[Token]) -> tree.Intercept:
        return tree.Intercept(_place(meta))

    def _own_zeros(self, term: tree.Term) -> tree.Term:
        """The bare word zeros of an each clause is no column."""
        first = term.factors[0] if len(term.factors) == 1 else None
        if isinstance(first, tree.Column) and first.name == "zeros" and self.text[first.place[0]] != "[":
            return replace(term, factors=(tree.OwnZeros(first.place),))
        return term

    def own_spread(self, meta: Any, _: list[Token]) -> tree.OwnSpread:
        return tree.OwnSpread(_place(meta))

    def call(self, meta: Any, parts: list[Any]) -> tree.Call:
        name = SPELLINGS.get(str(parts[0]), str(parts[0]))
        call = tree.Call(name, tuple(parts[1:]), _place(meta))
        if name != CENSORED:  # an outcome, which says itself what it takes
            check_call(call, self.fail)
        if name == "cross" and len(call.arguments) > MOST_CROSSED:
            n = len(call.arguments)
            raise self.fail(
                f"cross of {n} columns would write {2**n - 1:,} terms; at most {MOST_CROSSED} can be crossed",
                call.place,
            )
        return call

    def by(self, meta: Any, parts: list[Any]) -> tree.By:
        return tree.By(parts[0], _place(meta))

    def _chain(self, meta: Any, parts: list[Any], signs: str) -> tree.Expression:
        """a + b - c as one node; a chain in brackets at its head is the same chain."""
        operator, operands = "".join(map(str, parts[1::2])), tuple(parts[0::2])
        first = operands[0]
        if isinstance(first, tree.Arithmetic) and set(first.operator) <= set(signs):
            operator, operands = first.operator + operator, first.operands + operands[1:]
        return tree.Arithmetic(operator, operands, _place(meta))

    def sum(self, meta: Any, parts: list[Any]) -> tree.Expression:
        return self._chain(meta, parts, "+-")

    def product(self, meta: Any, parts: list[Any]) -> tree.Expression:
        return self._chain(meta, parts, "*/")

    def signed(self, meta: Any, parts: list[Any]) -> tree.Expression:
        """Signs before a number or a name; two of them cancel."""
        value: tree.Expression = parts[-1]
        return value if len(parts) % 2 else tree.Arithmetic("negative", (value,), _place(meta))

    def raised(self, meta: Any, parts: list[Any]) -> tree.Expression:
        return tree.Arithmetic("^", tuple(parts), _place(meta))

    # -- conditions
    def comparison(self, meta: Any, parts: list[Any]) -> tree.Comparison:
        operator = {"==": "="}.get(str(parts[1]), str(parts[1]))
        return tree.Comparison(operator, parts[0], (parts[2],), _place(meta))

    def compare(self, meta: Any, parts: list[Token]) -> str:
        return str(parts[0])

    def member(self, meta: Any, parts: list[Any]) -> tree.Comparison:
        return tree.Comparison("in", parts[0], tuple(parts[1:]), _place(meta))

    def either(self, meta: Any, parts: list[Any]) -> tree.Logic:
        return tree.Logic("or", tuple(parts), _place(meta))

    def both(self, meta: Any, parts: list[Any]) -> tree.Logic:
        return tree.Logic("and", tuple(parts), _place(meta))

    def negated(self, meta: Any, parts: list[Any]) -> tree.Condition:
        value: tree.Condition = parts[-1]
        return value if len(parts) % 2 else tree.Logic("not", (value,), _place(meta))

    def condition(self, meta: Any, parts: list[Any]) -> tree.Condition:
        return parts[0]

    def combination(self, meta: Any, parts: list[Any]) -> tuple[Any, Any]:
        return parts[0], (parts[1] if len(parts) == 2 else tree.Number(0.0))

    # -- terms
    def term(self, meta: Any, factors: list[Any]) -> list[tree.Term]:
        place = _place(meta)
        if isinstance(factors[0], tree.OfOutcome):
            name = factors[0].name
            return [replace(t, of=name) for t in self.term(meta, factors[1:])]
        if len(factors) == 1 and isinstance(factors[0], tree.Intercept):
            return [tree.Term((), place)]
        if len(factors) == 1 and isinstance(factors[0], tree.Call) and factors[0].function == "cross":
            return [t for c in _crossed(factors[0]) for t in _parted(c, place)]
        if len(factors) > 1:
            factors = [tree.Column("spread", f.place) if isinstance(f, tree.OwnSpread) else f for f in factors]
        if len(factors) > MOST_CROSSED:
            raise self.fail(f"a product has at most {MOST_CROSSED} parts, not {len(factors)}", place)
        for f in factors:
            check_extreme(f, self.fail)
            if isinstance(f, tree.Intercept):
                raise self.fail("the intercept cannot be part of a product; leave it out of the *", f.place)
            if len(factors) > 1 and isinstance(f, tree.Call) and f.function in ALONE:
                raise self.fail(f"{f.function}(...) stands alone, not inside a product", f.place)
        return _parted(tuple(factors), place)

    def of_outcome(self, meta: Any, parts: list[tree.Column]) -> tree.OfOutcome:
        return tree.OfOutcome(parts[0].name, place=_place(meta))

    def terms(self, meta: Any, groups: list[list[tree.Term]]) -> tuple[tree.Term, ...]:
        """All terms in order, once each (``a*b`` and ``b*a`` are the same term)."""
        seen: dict[frozenset[str], tree.Term] = {}
        for term in itertools.chain(*groups):
            seen.setdefault(term.key, term)
        return tuple(seen.values())

    # -- clauses
    def unit(self, meta: Any, columns: list[tree.Column]) -> tree.Unit:
        names = [c.name for c in columns]
        for i, c in enumerate(columns):
            if c.name in names[:i]:
                raise self.fail(f"'{c.name}' cannot be nested in itself", c.place)
        return tree.Unit(tuple(columns), _place(meta))

    def structure_plain(self, meta: Any, parts: list[Token]) -> tree.Structure:
        return tree.Structure(str(parts[0]), place=_place(meta))

    def structure_columns(self, meta: Any, parts: list[Any]) -> tree.Structure:
        return tree.Structure(str(parts[0]), columns=tuple(parts[1:]), place=_place(meta))

    def structure_file(self, meta: Any, parts: list[Token]) -> tree.Structure:
        over = str(parts[1]) if len(parts) == 3 else None
        return tree.Structure(str(parts[0]), file=str(parts[-1])[1:-1], over=over, place=_place(meta))

    def vary(self, meta: Any, parts: list[Any]) -> tuple[str, tuple[tree.Term, ...]]:
        terms = tuple(t for t in _plain(parts[-1]) if not t.is_intercept)
        if not terms:
            raise self.fail("vary with needs columns that describe the unit: vary with soil", _place(meta))
        return ("vary", terms)

    def covariance(self, meta: Any, parts: list[Any]) -> list[Any]:
        return parts

    def each(self, meta: Any, parts: list[Any]) -> tree.Each:
        inside = [p for part in parts[1:-1] for p in (part if isinstance(part, list) else [part])]
        structures = [p for p in inside if isinstance(p, tree.Structure)]
        vary = next((p[1] for p in inside if not isinstance(p, tree.Structure)), ())
        structure = structures[0] if structures else tree.Structure("unstructured")
        check_structure(structure, "each", self.fail)
        terms = tuple(self._own_zeros(t) for t in parts[-1])
        check_effects(structure, terms, bool(vary), self.fail)
        for t in terms:
            if any(isinstance(f, tree.Call) and f.function == "offset" for f in t.factors):
                raise self.fail("an offset belongs to the fixed part, not to an each clause", t.place)
            curves = [f for f in t.factors if isinstance(f, tree.Call) and f.function == "smooth"]
            if curves and isinstance(curves[0].arguments[-1], tree.By):
                raise self.fail("a unit's own curve has no 'by': each tree: smooth(age)", t.place)
            if curves and (structure.kind not in ("unstructured", "diagonal") or vary):
                raise self.fail(
                    f"a unit's own curve goes with no {'vary with' if vary else structure.kind}; leave it out", t.place
                )
        return tree.Each(parts[0], structure, terms, vary)

    def within(self, meta: Any, parts: list[Any]) -> tree.Within:
        check_structure(parts[-1], "within", self.fail)
        return tree.Within(parts[0], parts[-1], parts[1] if len(parts) == 3 else None)

    def spread(self, meta: Any, parts: list[Any]) -> tree.Spread:
        terms, place = _plain(parts[-1]), _place(meta)
        calls = [f for t in terms for f in t.factors if isinstance(f, tree.Call) and f.function == "known"]
        if not calls:
            return tree.Spread(tuple(t for t in terms if not t.is_intercept), None, place)
        if len(terms) > 1 or len(terms[0].factors) > 1:
            raise self.fail(
                "known errors leave nothing to be estimated: spread = known(se) stands alone", calls[0].place
            )
        column = calls[0].arguments[0]
        assert isinstance(column, tree.Column)
        return tree.Spread((), column, place)

    def part(self, meta: Any, parts: list[Any]) -> tree.Zeros:
        name, place = str(parts[0]), _place(meta)
        if name != "zeros":
            raise self.fail(
                f"'{name} =' is no clause; a sentence has one outcome side and clauses that begin with each, within, spread = or zeros =",
                place,
            )
        return tree.Zeros(tuple(t for t in _plain(parts[-1]) if not t.is_intercept), place)

    # -- the whole
    def without(self, meta: Any, _: list[Any]) -> str:
        return "without"

    def plain_outcome(self, meta: Any, parts: list[Any]) -> tree.Outcome:
        value = parts[0]
        check_extreme(value, self.fail)
        if isinstance(value, tree.Call) and value.function == CENSORED:
            if len(parts) > 1:
                raise self.fail("censored(...) stands alone as the outcome", value.place)
            return self._censored(value)
        if isinstance(value, tree.Intercept):
            raise self.fail("the outcome must be a column or a function of one", value.place)
        made = [tree.Column("spread", v.place) if isinstance(v, tree.OwnSpread) else v for v in parts]
        if len(made) > MOST_OUTCOMES:
            raise self.fail(
                f"at most {MOST_OUTCOMES} outcomes can be modelled together, not {len(made)}", made[-1].place
            )
        for k, other in enumerate(made[1:], start=1):
            if isinstance(other, tree.Intercept) or (isinstance(other, tree.Call) and other.function == CENSORED):
                raise self.fail("several outcomes are columns or functions of one each", other.place)
            check_extreme(other, self.fail)
            if str(other) in [str(m) for m in made[:k]]:
                raise self.fail(f"'{other}' stands twice among the outcomes", other.place)
        return tree.Outcome(made[0], more=tuple(made[1:]))

    def _censored(self, call: tree.Call) -> tree.Outcome:
        example = "censored(residue, 0.5) or censored(time, none, limit)"
        column, *limits = call.arguments or (tree.Number(0.0),)
        if not isinstance(column, tree.Column) or not 1 <= len(limits) <= 2:
            raise self.fail(f"censored takes a column, its lower limit and its upper one: {example}", call.place)
        made: list[tree.Expression | None] = []
        for limit in limits:
            negative = (
                isinstance(limit, tree.Arithmetic)
                and limit.operator == "negative"
                and isinstance(limit.operands[0], tree.Number)
            )
            if not (isinstance(limit, (tree.Number, tree.Column)) or negative):
                raise self.fail(f"a limit is a number, a column or none: {example}", limit.place)
            made.append(None if isinstance(limit, tree.Column) and limit.name == "none" else limit)
        if all(m is None for m in made):
            raise self.fail(f"censored needs a limit: {example}", call.place)
        return tree.Outcome(column, limits=tuple(made))

    def trials_outcome(self, meta: Any, parts: list[Any]) -> tree.Outcome:
        return tree.Outcome(parts[0], parts[1])

    def let(self, meta: Any, parts: list[Any]) -> tree.Named:
        name, factor = str(parts[0]), parts[1]
        if name in tree.RESERVED:
            raise self.fail(
                f"'{name}' is a word of the sentence itself; give the transformation another name", _place(meta)
            )
        if isinstance(factor, tree.Intercept) or (
            isinstance(factor, tree.Call) and factor.function in (*ALONE, "split", "smooth")
        ):
            raise self.fail("let gives a name to one transformation: let years = rescale(month, 12)", factor.place)
        return tree.Named(name, factor, _place(meta))

    def _lets(self, parts: list[Any]) -> tuple[dict[str, tree.Named], list[Any]]:
        """The names given, each with those before it put in its place, and the other parts with all of them."""
        lets: dict[str, tree.Named] = {}
        rest = [p for p in parts if not isinstance(p, tree.Named)]
        for given in parts[: len(parts) - len(rest)]:
            if given.name in lets:
                raise self.fail(
                    f"'{given.name}' is named twice; give each transformation a name of its own", given.place
                )
            lets[given.name] = tree.Named(given.name, tree.named(given.factor, lets), given.place)
        if not lets:
            return lets, rest
        units: list[Any] = [c.unit for c in rest if isinstance(c, (tree.Each, tree.Within))]
        units += [
            a
            for c in _calls(rest)
            if c.function in tree.BY_UNIT
            for a in c.arguments[0 if c.function == "lag" else 1 :]
        ]
        for column in tree.columns_of(units):
            if column.name in lets:
                raise self.fail(f"'{column.name}' is a let; a unit is a column of the table", column.place)
        return lets, [tree.named(p, lets) for p in rest]

    def sentence(self, meta: Any, parts: list[Any]) -> tree.Sentence:
        lets, parts = self._lets(parts)
        outcome, terms, *rest = parts
        terms = _plain(terms)
        intercept = "without" not in rest
        fixed = tuple(t for t in terms if not t.is_intercept)
        if not intercept and len(fixed) < len(terms):
            place = next(t.place for t in terms if t.is_intercept)
            raise self.fail("the sentence both names the intercept and leaves it out", place)
        if not fixed and not intercept:
            raise self.fail("nothing is left in the fixed part", (0, len(self.text)))
        self._outcome_not_among(outcome, (fixed, rest))
        self._for_an_outcome(
            outcome, [*fixed, *(t for c in rest if isinstance(c, tree.Each) for t in (*c.terms, *c.vary))]
        )
        each = tuple(c for c in rest if isinstance(c, tree.Each))
        if len(each) > MOST_CLAUSES:
            raise self.fail(
                f"{len(each)} each clauses are more than can be fitted together (at most {MOST_CLAUSES})",
                each[-1].unit.place,
            )
        self._no_clause_twice(each)
        within = [c for c in rest if isinstance(c, tree.Within)]
        spread = [c for c in rest if isinstance(c, tree.Spread)]
        zeros = [c for c in rest if isinstance(c, tree.Zeros)]
        if len(zeros) > 1:
            raise self.fail("only one 'zeros' clause is possible", zeros[1].place)
        if len(within) > 1:
            raise self.fail("only one 'within' clause is possible", within[1].unit.place)
        if len(spread) > 1:
            raise self.fail("only one 'spread' clause is possible", spread[1].place)
        for call in _calls([outcome, fixed, each, within, spread, zeros, lets]):
            if call.function == CENSORED:
                raise self.fail("censored(...) is an outcome: censored(residue, 0.5) = dose", call.place)
            if call.function == "known":
                raise self.fail("known(...) gives the SDs of the rows' errors: write spread = known(se)", call.place)
        return tree.Sentence(
            source=self.text,
            outcome=outcome,
            terms=fixed,
            intercept=intercept,
            each=each,
            within=within[0] if within else None,
            spread=spread[0].terms if spread else (),
            known=spread[0].known if spread else None,
            zeros=zeros[0].terms if zeros else (),
            lets=tuple(lets.values()),
            notes=_missing_parts(fixed),
        )

    def _for_an_outcome(self, outcome: tree.Outcome, terms: list[tree.Term]) -> None:
        """Refuse a term that is written for an outcome that is none of several."""
        names = outcome.names
        for term in terms:
            if term.of is not None and (term.of not in names or not outcome.more):
                told = f"the outcomes are {', '.join(names)}" if outcome.more else "the sentence has one outcome"
                raise self.fail(f"'{term.of}:' marks a term of one of several outcomes, and {told}", term.place)

    def _no_clause_twice(self, each: tuple[tree.Each, ...]) -> None:
        """A term in two clauses of one unit: nothing could tell the two variances apart."""
        seen: set[tuple[str, frozenset[str]]] = set()
        for clause in each:
            if clause.structure.kind in ("known", "given"):
                continue
            for term in clause.terms:
                key = (clause.unit.written, term.key)
                if key in seen:
                    raise self.fail(
                        f"'{term}' stands in two clauses of {clause.unit}, and no data can tell its two variances apart; "
                        "leave one out", clause.unit.place,
                    )  # fmt: skip
                seen.add(key)

    def _outcome_not_among(self, outcome: tree.Outcome, others: object) -> None:
        names = {c.name for c in tree.columns_of(outcome)}
        for column in tree.columns_of(others):
            if column.name in names and column.name != getattr(outcome.trials, "name", None):
                raise self.fail(f"'{column.name}' is the outcome and cannot also be a term or a unit", column.place)


def _plain(terms: tuple[tree.Term, ...]) -> tuple[tree.Term, ...]:
    """Terms of a part in which no unit has a spread of its own: there spread is a column like any other."""
    return tuple(replace(t, factors=(tree.Column("spread", t.factors[0].place),)) if t.is_spread else t for t in terms)


def _place(meta: Any) -> tuple[int, int]:
    return (getattr(meta, "start_pos", 0), getattr(meta, "end_pos", 1))


def _calls(item: Any) -> list[tree.Call]:
    """All functions anywhere inside a piece of a sentence."""
    found, stack = [], [item]
    while stack:
        here = stack.pop()
        found += [here] if isinstance(here, tree.Call) else []
        if isinstance(here, (tuple, list)):
            stack += here
        elif hasattr(here, "__dataclass_fields__"):
            stack += [getattr(here, f) for f in here.__dataclass_fields__]
    return found


def _crossed(call: tree.Call) -> list[tuple[Any, ...]]:
    """All non-empty products of the arguments of ``cross``, main effects first."""
    sizes = range(1, len(call.arguments) + 1)
    return [c for size in sizes for c in itertools.combinations(call.arguments, size)]


def _parted(factors: tuple[Any, ...], place: tuple[int, int]) -> list[tree.Term]:
    """The terms of a product: split(x, g) in it stands for two, centre(x, g) and mean(x, g)."""
    choices = [
        [tree.Call(name, f.arguments, f.place) for name in ("centre", "mean")]
        if isinstance(f, tree.Call) and f.function == "split"
        else [f]
        for f in factors
    ]
    return [tree.Term(c, place) for c in itertools.product(*choices)]


def _missing_parts(terms: tuple[tree.Term, ...]) -> tuple[str, ...]:
    """A note for every product some of whose parts are not in the sentence themselves."""
    have = {t.key for t in terms}
    notes = []
    for term in terms:
        sizes = range(1, len(term.factors))
        parts = [tree.Term(c) for size in sizes for c in itertools.combinations(term.factors, size)]
        absent = [p for p in parts if p.key not in have]
        if absent:
            notes.append(
                f"The product {term} stands without {' and '.join(shown(absent))}: its coefficient then also carries "
                f"what they would explain. To have them, write {tree.Call('cross', term.factors).written}."
            )
    return tuple(notes)
