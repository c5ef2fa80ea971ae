"""What a sentence says, as plain frozen data; no table, no numbers."""

from __future__ import annotations

from dataclasses import dataclass, field

START = (0, 0)


@dataclass(frozen=True)
class Number:
    value: float
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        return f"{self.value:g}"


@dataclass(frozen=True)
class Text:
    value: str
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        return f'"{self.value}"'


@dataclass(frozen=True)
class Column:
    """A column by name; ``place`` is (start, end) in the sentence."""

    name: str
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        return self.name


@dataclass(frozen=True)
class Intercept:
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        return "intercept"


@dataclass(frozen=True)
class Arithmetic:
    """``operator`` is one of + - * / ^ or 'negative'; one or two operands."""

    operator: str
    operands: tuple[Expression, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        if self.operator == "negative":
            return f"-{_in_brackets(self.operands[0])}"
        a, b = self.operands
        glue = self.operator if self.operator == "^" else f" {self.operator} "
        return f"{_in_brackets(a)}{glue}{_in_brackets(b)}"


@dataclass(frozen=True)
class Call:
    """A function of the sentence applied to its arguments."""

    function: str
    arguments: tuple[Expression, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        return f"{self.function}({', '.join(map(str, self.arguments))})"


Expression = Number | Text | Column | Arithmetic | Call
Factor = Intercept | Column | Call


@dataclass(frozen=True)
class Comparison:
    operator: str
    left: Expression
    right: tuple[Expression, ...]
    place: tuple[int, int] = field(default=START, compare=False)


@dataclass(frozen=True)
class Logic:
    """``operator`` is 'and', 'or' or 'not'."""

    operator: str
    operands: tuple[Condition, ...]
    place: tuple[int, int] = field(default=START, compare=False)


Condition = Comparison | Logic


def _in_brackets(e: Expression) -> str:
    return f"({e})" if isinstance(e, Arithmetic) else str(e)


@dataclass(frozen=True)
class Term:
    """A product of factors; the empty product is the intercept."""

    factors: tuple[Factor, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    @property
    def is_intercept(self) -> bool:
        return not self.factors

    def __str__(self) -> str:
        return "*".join(map(str, self.factors)) if self.factors else "intercept"


@dataclass(frozen=True)
class Unit:
    """A unit of grouping: ``tree in orchard`` has the columns (tree, orchard)."""

    columns: tuple[Column, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def __str__(self) -> str:
        return " in ".join(c.name for c in self.columns)


@dataclass(frozen=True)
class Structure:
    """``kind`` by name, with the file or the column it needs; ``over`` is 'units' for ``given units``."""

    kind: str
    file: str | None = None
    column: Column | None = None
    over: str | None = None
    place: tuple[int, int] = field(default=START, compare=False)


@dataclass(frozen=True)
class Each:
    unit: Unit
    structure: Structure
    terms: tuple[Term, ...]


@dataclass(frozen=True)
class Within:
    unit: Unit
    structure: Structure


@dataclass(frozen=True)
class Outcome:
    """What is modelled: a column, a function of one, or successes out of trials."""

    value: Column | Call
    trials: Column | None = None

    def __str__(self) -> str:
        return f"{self.value} of {self.trials}" if self.trials else str(self.value)


@dataclass(frozen=True)
class Sentence:
    text: str
    outcome: Outcome
    terms: tuple[Term, ...]
    intercept: bool
    each: tuple[Each, ...] = ()
    within: Within | None = None
    spread: tuple[Term, ...] = ()
    notes: tuple[str, ...] = ()


BY_UNIT = ("centre", "mean", "split")


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
        elif isinstance(x, (tuple, list)):
            for part in x:
                walk(part)
        elif hasattr(x, "__dataclass_fields__"):
            for name in x.__dataclass_fields__:
                walk(getattr(x, name))

    walk(item)
    return list(found.values())
