"""Text -> Sentence or Condition, by a Lark grammar; errors carry a caret."""

from __future__ import annotations

import itertools
from functools import cache
from pathlib import Path
from typing import Any

from lark import Lark, Token, Transformer, v_args
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken, VisitError

from bold_orchard.errors import SentenceError, nearest
from bold_orchard.sentence import spec
from bold_orchard.sentence.check import check_call, check_structure

CLAUSE_WORDS = ("each", "within", "spread")
WORDS = {
    "NAME": "a name",
    "BRACKETED": "a [name in brackets]",
    "NUMBER": "a number",
    "STRING": 'a "text in quotes"',
    "INTERCEPT": "'intercept'",
    "COMPARE": "a comparison such as = or <",
    "$END": "the end",
}
SPELLINGS = {"center": "centre"}


def read_sentence(text: str) -> spec.Sentence:
    """Read a model sentence (see docs/sentence.md).

    Raises SentenceError, with the place, for anything that cannot be read.
    """
    return _run(text, "sentence", "the sentence")


def read_condition(text: str) -> spec.Condition:
    """Read the expression of ``--where``. Raises SentenceError."""
    return _run(text, "condition", "the expression")


def read_combination(text: str) -> tuple[spec.Expression, float]:
    """Read a contrast: a weighted sum of names, and the number it is compared with (0 unless written)."""
    left, right = _run(text, "combination", "the contrast")
    if not isinstance(right, spec.Number):
        raise SentenceError("the right side of a contrast is a number: rain = 0", text, *_range(right))
    return left, right.value


def _range(e: Any) -> tuple[int, int]:
    return e.place[0], e.place[1] - e.place[0]


@cache
def _grammar(start: str) -> Lark:
    source = (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8")
    return Lark(source, parser="lalr", start=start, propagate_positions=True)


def _run(text: str, start: str, what: str) -> Any:
    line = " ".join(text.split("\n")).strip()
    if not line:
        raise SentenceError(f"{what} is empty; write for example: yield = rain; each orchard: intercept")
    try:
        return _Builder(line).transform(_grammar(start).parse(line))
    except VisitError as e:
        if isinstance(e.orig_exc, SentenceError):
            raise e.orig_exc from None
        raise
    except UnexpectedInput as e:
        raise _explain(e, line, start, what) from None


def _explain(e: UnexpectedInput, text: str, start: str, what: str) -> SentenceError:
    """Say what was found and what could have stood there."""
    if isinstance(e, UnexpectedCharacters):
        place = e.pos_in_stream or 0
        message = f"{what} cannot be read at {text[place]!r}: that sign has no meaning here"
        return SentenceError(message, text, place)
    if isinstance(e, UnexpectedToken) and e.token.type != "$END":
        place, found, expected = e.token.start_pos or 0, repr(str(e.token)), e.accepts or e.expected
    else:
        place, found = len(text), "the end"
        expected = set(e.expected) if isinstance(e, (UnexpectedToken, UnexpectedEOF)) else set()
    width = len(str(e.token)) if isinstance(e, UnexpectedToken) and found != "the end" else 1
    message = f"{what} cannot be read at {found}; expected {_options(start, set(expected or ()))}"
    word = found.strip("'")
    near = nearest(word, CLAUSE_WORDS) if ";" in text[:place] else None
    if near and near != word:
        message += f"; did you mean '{near}'?"
    return SentenceError(message, text, place, width)


def _options(start: str, names: set[str]) -> str:
    terminals = {t.name: t.pattern.value for t in _grammar(start).terminals}
    words = sorted(WORDS.get(n) or f"'{terminals.get(n, n)}'" for n in names if n != "WS")
    if len(words) > 1:
        return ", ".join(words[:-1]) + " or " + words[-1]
    return words[0] if words else "something else"


@v_args(meta=True)
class _Builder(Transformer[Any, Any]):
    """Lark tree -> spec; ``text`` is kept for carets."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.text = text

    def fail(self, message: str, place: tuple[int, int]) -> SentenceError:
        return SentenceError(message, self.text, place[0], place[1] - place[0])

    # -- small parts
    def column(self, meta: Any, parts: list[Token]) -> spec.Column:
        raw = str(parts[0])
        name = raw[1:-1].strip() if raw.startswith("[") else raw
        return spec.Column(name, _place(meta))

    def number(self, meta: Any, parts: list[Token]) -> spec.Number:
        return spec.Number(float(parts[0]), _place(meta))

    def string(self, meta: Any, parts: list[Token]) -> spec.Text:
        return spec.Text(str(parts[0])[1:-1], _place(meta))

    def intercept(self, meta: Any, _: list[Token]) -> spec.Intercept:
        return spec.Intercept(_place(meta))

    def call(self, meta: Any, parts: list[Any]) -> spec.Call:
        name = SPELLINGS.get(str(parts[0]), str(parts[0]))
        call = spec.Call(name, tuple(parts[1:]), _place(meta))
        check_call(call, self.fail)
        return call

    def _arithmetic(self, operator: str, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return spec.Arithmetic(operator, tuple(parts), _place(meta))

    def add(self, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return self._arithmetic("+", meta, parts)

    def subtract(self, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return self._arithmetic("-", meta, parts)

    def multiply(self, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return self._arithmetic("*", meta, parts)

    def divide(self, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return self._arithmetic("/", meta, parts)

    def raised(self, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return self._arithmetic("^", meta, parts)

    def negative(self, meta: Any, parts: list[Any]) -> spec.Arithmetic:
        return self._arithmetic("negative", meta, parts)

    # -- conditions
    def comparison(self, meta: Any, parts: list[Any]) -> spec.Comparison:
        operator = {"==": "="}.get(str(parts[1]), str(parts[1]))
        return spec.Comparison(operator, parts[0], (parts[2],), _place(meta))

    def compare(self, meta: Any, parts: list[Token]) -> str:
        return str(parts[0])

    def member(self, meta: Any, parts: list[Any]) -> spec.Comparison:
        return spec.Comparison("in", parts[0], tuple(parts[1:]), _place(meta))

    def either(self, meta: Any, parts: list[Any]) -> spec.Logic:
        return spec.Logic("or", tuple(parts), _place(meta))

    def both(self, meta: Any, parts: list[Any]) -> spec.Logic:
        return spec.Logic("and", tuple(parts), _place(meta))

    def not_(self, meta: Any, parts: list[Any]) -> spec.Logic:
        return spec.Logic("not", tuple(parts), _place(meta))

    def condition(self, meta: Any, parts: list[Any]) -> spec.Condition:
        return parts[0]

    def combination(self, meta: Any, parts: list[Any]) -> tuple[Any, Any]:
        return parts[0], (parts[1] if len(parts) == 2 else spec.Number(0.0))

    # -- terms
    def term(self, meta: Any, factors: list[Any]) -> list[spec.Term]:
        place = _place(meta)
        if len(factors) == 1 and isinstance(factors[0], spec.Intercept):
            return [spec.Term((), place)]
        if len(factors) == 1 and isinstance(factors[0], spec.Call) and factors[0].function == "cross":
            return [spec.Term(c, place) for c in _crossed(factors[0])]
        for f in factors:
            if isinstance(f, spec.Intercept):
                raise self.fail("the intercept cannot be part of a product; leave it out of the *", f.place)
            if len(factors) > 1 and isinstance(f, spec.Call) and f.function in ("cross", "offset"):
                raise self.fail(f"{f.function}(...) stands alone, not inside a product", f.place)
        return [spec.Term(tuple(factors), place)]

    def terms(self, meta: Any, groups: list[list[spec.Term]]) -> tuple[spec.Term, ...]:
        """All terms in order, once each (``a*b`` and ``b*a`` are the same term)."""
        seen: dict[frozenset[str], spec.Term] = {}
        for term in itertools.chain(*groups):
            seen.setdefault(frozenset(map(str, term.factors)), term)
        return tuple(seen.values())

    # -- clauses
    def unit(self, meta: Any, columns: list[spec.Column]) -> spec.Unit:
        names = [c.name for c in columns]
        for i, c in enumerate(columns):
            if c.name in names[:i]:
                raise self.fail(f"'{c.name}' cannot be nested in itself", c.place)
        return spec.Unit(tuple(columns), _place(meta))

    def structure_plain(self, meta: Any, parts: list[Token]) -> spec.Structure:
        return spec.Structure(str(parts[0]), place=_place(meta))

    def structure_column(self, meta: Any, parts: list[Any]) -> spec.Structure:
        return spec.Structure(str(parts[0]), column=parts[1], place=_place(meta))

    def structure_file(self, meta: Any, parts: list[Token]) -> spec.Structure:
        over = str(parts[1]) if len(parts) == 3 else None
        return spec.Structure(str(parts[0]), file=str(parts[-1])[1:-1], over=over, place=_place(meta))

    def each(self, meta: Any, parts: list[Any]) -> spec.Each:
        structure = parts[1] if len(parts) == 3 else spec.Structure("unstructured")
        check_structure(structure, "each", self.fail)
        terms: tuple[spec.Term, ...] = parts[-1]
        for t in terms:
            if any(isinstance(f, spec.Call) and f.function == "offset" for f in t.factors):
                raise self.fail("an offset belongs to the fixed part, not to an each clause", t.place)
        return spec.Each(parts[0], structure, terms)

    def within(self, meta: Any, parts: list[Any]) -> spec.Within:
        check_structure(parts[1], "within", self.fail)
        return spec.Within(parts[0], parts[1])

    def spread(self, meta: Any, parts: list[Any]) -> tuple[str, tuple[spec.Term, ...], tuple[int, int]]:
        return ("spread", parts[0], _place(meta))

    # -- the whole
    def without(self, meta: Any, _: list[Any]) -> str:
        return "without"

    def plain_outcome(self, meta: Any, parts: list[Any]) -> spec.Outcome:
        value = parts[0]
        if isinstance(value, spec.Intercept):
            raise self.fail("the outcome must be a column or a function of one", value.place)
        return spec.Outcome(value)

    def trials_outcome(self, meta: Any, parts: list[Any]) -> spec.Outcome:
        return spec.Outcome(parts[0], parts[1])

    def sentence(self, meta: Any, parts: list[Any]) -> spec.Sentence:
        outcome, terms, *rest = parts
        intercept = "without" not in rest
        fixed = tuple(t for t in terms if not t.is_intercept)
        if not intercept and len(fixed) < len(terms):
            place = next(t.place for t in terms if t.is_intercept)
            raise self.fail("the sentence both names the intercept and leaves it out", place)
        if not fixed and not intercept:
            raise self.fail("nothing is left in the fixed part", (0, len(self.text)))
        self._outcome_not_among(outcome, (fixed, rest))
        each = tuple(c for c in rest if isinstance(c, spec.Each))
        within = [c for c in rest if isinstance(c, spec.Within)]
        spread = [c for c in rest if isinstance(c, tuple)]
        if len(within) > 1:
            raise self.fail("only one 'within' clause is possible", within[1].unit.place)
        if len(spread) > 1:
            raise self.fail("only one 'spread' clause is possible", spread[1][2])
        return spec.Sentence(
            text=self.text,
            outcome=outcome,
            terms=fixed,
            intercept=intercept,
            each=each,
            within=within[0] if within else None,
            spread=tuple(t for t in spread[0][1] if not t.is_intercept) if spread else (),
            notes=_missing_parts(fixed),
        )

    def _outcome_not_among(self, outcome: spec.Outcome, others: object) -> None:
        names = {c.name for c in spec.columns_of(outcome)}
        for column in spec.columns_of(others):
            if column.name in names and column.name != getattr(outcome.trials, "name", None):
                raise self.fail(f"'{column.name}' is the outcome and cannot also be a term or a unit", column.place)


def _place(meta: Any) -> tuple[int, int]:
    return (getattr(meta, "start_pos", 0), getattr(meta, "end_pos", 1))


def _crossed(call: spec.Call) -> list[tuple[Any, ...]]:
    """All non-empty products of the arguments of ``cross``, main effects first."""
    sizes = range(1, len(call.arguments) + 1)
    return [c for size in sizes for c in itertools.combinations(call.arguments, size)]


def _missing_parts(terms: tuple[spec.Term, ...]) -> tuple[str, ...]:
    """A note for every product some of whose parts are not in the sentence themselves."""
    have = {frozenset(map(str, t.factors)) for t in terms}
    notes = []
    for term in terms:
        names = list(map(str, term.factors))
        parts = [c for size in range(1, len(names)) for c in itertools.combinations(names, size)]
        absent = ["*".join(p) for p in parts if frozenset(p) not in have]
        if absent:
            notes.append(
                f"The product {term} stands without {' and '.join(absent)}: its coefficient then also carries "
                f"what they would explain. To have them, write cross({', '.join(names)})."
            )
    return tuple(notes)
