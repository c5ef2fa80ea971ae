"""What a sentence says, as plain frozen data; no table, no numbers.

Every node writes itself: ``str`` gives the name as tables print it, ``written`` the text that reads back as the same
node (columns in brackets where their names need them).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from bold_orchard.sentence.nodes import (
    MEAN,
    PLAIN,
    RESERVED,
    START,
    Arithmetic,
    By,
    Call,
    Column,
    Comparison,
    Condition,
    Expression,
    Factor,
    Intercept,
    Logic,
    Named,
    Node,
    Number,
    OfOutcome,
    OwnSpread,
    OwnZeros,
    Text,
    _joined,
    column_text,
)

__all__ = [
    "BY_UNIT",
    "MEAN",
    "PLAIN",
    "RESERVED",
    "START",
    "Arithmetic",
    "By",
    "Call",
    "Column",
    "Comparison",
    "Condition",
    "Each",
    "Expression",
    "Factor",
    "Intercept",
    "Logic",
    "Named",
    "Node",
    "Number",
    "OfOutcome",
    "Outcome",
    "OwnSpread",
    "OwnZeros",
    "Sentence",
    "Spread",
    "Structure",
    "Term",
    "Text",
    "Unit",
    "Within",
    "Zeros",
    "calls_of",
    "column_text",
    "columns_of",
    "named",
    "unstacked",
]


@dataclass(frozen=True)
class Term(Node):
    """A product of factors; the empty product is the intercept. ``of`` is the outcome, of several, that it is written for alone."""

    factors: tuple[Factor, ...]
    place: tuple[int, int] = field(default=START, compare=False)
    of: str | None = None

    @property
    def is_intercept(self) -> bool:
        return not self.factors

    @property
    def is_spread(self) -> bool:
        """Whether it is the unit's own residual spread."""
        return len(self.factors) == 1 and isinstance(self.factors[0], OwnSpread)

    @property
    def is_zeros(self) -> bool:
        """Whether it is the unit's own probability of zeros."""
        return len(self.factors) == 1 and isinstance(self.factors[0], OwnZeros)

    @cached_property
    def key(self) -> frozenset[str]:
        """What makes two terms the same: their factors in any order."""
        own = {f.written for f in self.factors}
        return frozenset(own if self.of is None else own | {f"{self.of}:"})

    @property
    def outcome(self) -> str | None:
        """The outcome whose rows it is of, over stacked rows."""
        first = self.factors[0] if self.factors else None
        return first.name if isinstance(first, OfOutcome) else None

    @property
    def alone(self) -> Term:
        """The same without the outcome that it is of."""
        return Term(self.factors[1:] if self.outcome is not None else self.factors, self.place)

    @property
    def prefix(self) -> str:
        """What stands before its columns' names: the outcome or predictor that it is of, nothing for the mean's."""
        return "" if self.outcome in (None, MEAN) else f"{self.outcome}: "

    @property
    def bare(self) -> str | None:
        """The predictor whose name it bears, of a term of an each clause."""
        first = self.factors[0] if self.factors else None
        return first.name if isinstance(first, OfOutcome) and first.bare else None

    def text(self, brackets: bool) -> str:
        if self.bare is not None:
            return self.bare
        of = self.of if self.outcome is None else self.outcome
        if of is not None and of != MEAN:
            return f"{column_text(of) if brackets else of}: {self.alone.text(brackets)}"
        factors = self.alone.factors
        return _joined("*", factors, brackets) if factors else "intercept"


@dataclass(frozen=True)
class Unit(Node):
    """A unit of grouping: ``tree in orchard`` has the columns (tree, orchard). That of a curve's wiggle bears the curve's ``name`` and holds all rows."""

    columns: tuple[Column, ...]
    place: tuple[int, int] = field(default=START, compare=False)
    name: str | None = None

    def text(self, brackets: bool) -> str:
        return self.name if self.name is not None else _joined(" in ", self.columns, brackets)


@dataclass(frozen=True)
class Structure(Node):
    """``kind`` by name, with the file or the columns it needs; ``over`` is 'units' for ``given units``."""

    kind: str
    file: str | None = None
    columns: tuple[Column, ...] = ()
    over: str | None = None
    place: tuple[int, int] = field(default=START, compare=False)

    @property
    def column(self) -> Column | None:
        """The first column, along which rows stand in order."""
        return self.columns[0] if self.columns else None

    def text(self, brackets: bool) -> str:
        if self.columns:
            return f"{self.kind}({_joined(', ', self.columns, brackets)})"
        over = f" {self.over}" if self.over else ""
        return self.kind + (over + f" {Text(self.file).text(brackets)}" if self.file is not None else "")


@dataclass(frozen=True)
class Each(Node):
    """``vary`` are the terms on which the log SD of the unit's effects depends."""

    unit: Unit
    structure: Structure
    terms: tuple[Term, ...]
    vary: tuple[Term, ...] = ()

    @property
    def curve(self) -> Call | None:
        """The smooth(...) whose wiggle its effects are; None of a clause that was written."""
        factor = self.terms[0].factors[0] if self.terms and self.terms[0].factors else None
        return replace(factor, function="smooth") if isinstance(factor, Call) and factor.function == "wiggle" else None

    @property
    def has_spread(self) -> bool:
        """Whether each unit has a residual spread of its own."""
        return any(t.is_spread for t in self.terms)

    def text(self, brackets: bool) -> str:
        inside = [] if self.structure.kind == "unstructured" else [self.structure.text(brackets)]
        inside += [f"vary with {_joined(' + ', self.vary, brackets)}"] if self.vary else []
        written = f" ({', '.join(inside)})" if inside else ""
        return f"each {self.unit.text(brackets)}{written}: {_joined(' + ', self.terms, brackets)}"


@dataclass(frozen=True)
class Within(Node):
    """Residuals of one unit hang together; ``by`` is the column each of whose levels has variances and correlations of its own."""

    unit: Unit
    structure: Structure
    by: Column | None = None

    def text(self, brackets: bool) -> str:
        by = f" by {self.by.text(brackets)}" if self.by else ""
        return f"within {self.unit.text(brackets)}{by}: {self.structure.text(brackets)}"


@dataclass(frozen=True)
class Spread:
    """What the residual SD depends on, or the column in which it is known."""

    terms: tuple[Term, ...]
    known: Column | None = None
    place: tuple[int, int] = field(default=START, compare=False)


@dataclass(frozen=True)
class Zeros:
    """What the probability of zeros depends on."""

    terms: tuple[Term, ...]
    place: tuple[int, int] = field(default=START, compare=False)


def unstacked(terms: tuple[Term, ...], outcomes: tuple[str, ...]) -> tuple[Term, ...]:
    """Terms over stacked rows as they are written: once where all outcomes have them, else with the outcome's name."""
    found: dict[frozenset[str], list[Term]] = {}
    for term in terms:
        found.setdefault(term.alone.key, []).append(term)
    out: list[Term] = []
    for own in found.values():
        whole = len(own) == len(outcomes)
        out += [own[0].alone] if whole else [replace(t.alone, of=t.outcome) for t in own]
    return tuple(out)


@dataclass(frozen=True)
class Outcome(Node):
    """What is modelled: a column, a function of one, or successes out of trials; a censored column with its lower and upper ``limits``, numbers or columns,
    None where there is none. ``more`` are
    further outcomes, modelled jointly."""

    value: Column | Call | Named
    trials: Column | None = None
    limits: tuple[Expression | None, ...] = ()
    more: tuple[Column | Call | Named, ...] = ()

    @property
    def names(self) -> tuple[str, ...]:
        """The outcomes as they are printed."""
        return tuple(str(v) for v in (self.value, *self.more))

    def text(self, brackets: bool) -> str:
        value = _joined(", ", (self.value, *self.more), brackets)
        if self.limits:
            told = ", ".join("none" if limit is None else limit.text(brackets) for limit in self.limits)
            return f"censored({value}, {told})"
        return f"{value} of {self.trials.text(brackets)}" if self.trials else value


@dataclass(frozen=True)
class Sentence(Node):
    """The whole model; ``known`` is the column that holds the SD of each row's error, ``stacked`` the several outcomes of a sentence over
    rows in which each has a row of its own, ``predictors`` the linear predictors of a sentence over rows in which each
    of these has one, ``source`` the text it was read from, ``notes`` what
    reading it gave rise to."""

    outcome: Outcome
    terms: tuple[Term, ...]
    intercept: bool
    each: tuple[Each, ...] = ()
    within: Within | None = None
    spread: tuple[Term, ...] = ()
    known: Column | None = None
    zeros: tuple[Term, ...] = ()
    stacked: Outcome | None = None
    predictors: tuple[str, ...] = ()
    lets: tuple[Named, ...] = ()
    notes: tuple[str, ...] = field(default=(), compare=False)
    source: str = field(default="", compare=False)

    def _plain(self) -> Sentence:
        """A sentence over stacked rows as it is written."""
        if self.predictors:
            return self._of_one_row()
        assert self.stacked is not None
        names = self.stacked.names
        fixed = unstacked(self.terms, names)
        each = tuple(replace(e, terms=unstacked(e.terms, names), vary=e.vary) for e in self.each)
        return replace(self, outcome=self.stacked, terms=tuple(t for t in fixed if t.factors), each=each, within=None, stacked=None,
                       intercept=any(not t.factors and t.of is None for t in fixed))  # fmt: skip

    def _of_one_row(self) -> Sentence:
        """A sentence over rows of one linear predictor each as it is written."""
        own = {n: tuple(t.alone for t in self.terms if t.outcome == n and t.alone.factors) for n in self.predictors}
        if MEAN not in self.predictors:
            fixed = unstacked(self.terms, self.predictors)
            each = tuple(replace(e, terms=unstacked(e.terms, self.predictors)) for e in self.each)
            intercept = any(not t.factors for t in fixed)
            return replace(
                self, terms=tuple(t for t in fixed if t.factors), each=each, predictors=(), intercept=intercept
            )
        intercept = any(t.outcome == MEAN and not t.alone.factors for t in self.terms)
        parts: dict[str, Factor] = {"spread": OwnSpread(), "zeros": OwnZeros()}
        each = tuple(
            replace(e, terms=tuple(t.alone if t.bare is None else Term((parts[t.bare],)) for t in e.terms))
            for e in self.each
        )
        spread, zeros = (own.get(n, ()) for n in ("spread", "zeros"))
        return replace(self, terms=own[MEAN], each=each, predictors=(), intercept=intercept, spread=spread, zeros=zeros)

    @property
    def of_rows(self) -> Sentence:
        """The sentence over rows of the table, where it is over rows of one linear predictor each."""
        return replace(self._of_one_row(), source=self.source) if self.predictors else self

    @property
    def smooths(self) -> tuple[Call, ...]:
        """The curves of the fixed part."""
        return tuple(f for t in self.terms for f in t.factors if isinstance(f, Call) and f.function == "smooth")

    @cached_property
    def lags(self) -> tuple[Call, ...]:
        """Every lag(...) of the sentence, once each."""
        return tuple({c.written: c for c in calls_of(self) if c.function == "lag"}.values())

    @cached_property
    def dated(self) -> tuple[str, ...]:
        """Columns that may be dates: those in since(...) that are no unit."""
        units = {c.name for e in self.each for c in e.unit.columns}
        named = (c.arguments[0] for c in calls_of(self) if c.function == "since")
        return tuple({a.name: a for a in named if isinstance(a, Column) and a.name not in units})

    @cached_property
    def clauses(self) -> tuple[Each, ...]:
        """All each clauses: those that were written, an intercept beside a unit's own curve, then the wiggle of every curve."""
        own = tuple(
            e if not _curves(e) or any(t.is_intercept for t in e.terms) else replace(e, terms=(Term(()), *e.terms))
            for e in self.each
        )
        of_all = tuple(_wiggle(Unit((), name=str(s)), s) for s in self.smooths)
        return (*own, *of_all, *(_wiggle(e.unit, s) for e in self.each for s in _curves(e)))

    def text(self, brackets: bool) -> str:
        if self.stacked is not None or self.predictors:
            return self._plain().text(brackets)
        fixed = _joined(" + ", self.terms, brackets) or "intercept"
        parts = [f"let {n.name} = {n.factor.text(brackets)}" for n in self.lets]
        parts += [f"{self.outcome.text(brackets)} = {fixed}" + ("" if self.intercept else " without intercept")]
        parts += [e.text(brackets) for e in self.each]
        parts += [self.within.text(brackets)] if self.within else []
        parts += [f"spread = {_joined(' + ', self.spread, brackets)}"] if self.spread else []
        parts += [f"spread = known({self.known.text(brackets)})"] if self.known else []
        parts += [f"zeros = {_joined(' + ', self.zeros, brackets)}"] if self.zeros else []
        return "; ".join(parts)


def _curves(each: Each) -> tuple[Call, ...]:
    """A unit's own curves."""
    return tuple(f for t in each.terms for f in t.factors if isinstance(f, Call) and f.function == "smooth")


def _wiggle(unit: Unit, smooth: Call) -> Each:
    return Each(unit, Structure("identity"), (Term((replace(smooth, function="wiggle"),)),))


BY_UNIT = ("centre", "mean", "split", "since", "min", "max", "lag")


def columns_of(item: object, units: bool = True) -> list[Column]:
    """All columns named anywhere inside a piece of a sentence, in reading order, once each.

    Without ``units`` those that only name the unit of a mean, as orchard in centre(rain, orchard), are left out.
    """
    found: dict[str, Column] = {}

    def walk(x: object) -> None:
        if isinstance(x, Column):
            found.setdefault(x.name, x)
        elif isinstance(x, Call) and x.function in BY_UNIT and not units:
            walk(x.arguments[:1])
        else:
            for part in _parts(x):
                walk(part)

    walk(item)
    return list(found.values())


def _parts(x: object) -> list[object]:
    """What a piece of a sentence is made of, in reading order."""
    if isinstance(x, (tuple, list)):
        return list(x)
    return [getattr(x, name) for name in getattr(x, "__dataclass_fields__", ())]


def calls_of(item: object) -> list[Call]:
    """All functions called anywhere inside a piece of a sentence, in reading order."""
    own = [item] if isinstance(item, Call) else []
    return own + [call for part in _parts(item) for call in calls_of(part)]


def named(item: Any, lets: Mapping[str, Named]) -> Any:
    """A piece of a sentence with the names that ``let`` gave in the place of columns of that name."""
    if isinstance(item, Column):
        return replace(lets[item.name], place=item.place) if item.name in lets else item
    if isinstance(item, tuple):
        return tuple(named(i, lets) for i in item)
    if isinstance(item, (Call, Arithmetic, Term, Each, Spread, Zeros, Outcome)):
        changes = {
            f: named(getattr(item, f), lets)
            for f in ("arguments", "operands", "factors", "terms", "vary", "value", "more")
            if hasattr(item, f)
        }
        return replace(item, **changes)
    return item
