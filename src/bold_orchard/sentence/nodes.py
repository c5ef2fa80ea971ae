"""The small pieces of a sentence: columns, numbers, functions, conditions.

Every node writes itself: ``str`` gives the name as tables print it, ``written`` the text that reads back as the same
node (columns in brackets where their names need them).
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property

START = (0, 0)  # of parts that no text wrote
PLAIN = re.compile(r"[^\W\d][\w.]*")
MEAN = "mean"  # the linear predictor of an outcome's mean, among several
RESERVED = ("intercept", "without", "each", "within", "spread", "zeros", "in", "of", "by", "and", "or", "not", "let")


class Node:
    """A piece of a sentence. ``text(brackets)`` is its text, with or without brackets around odd names."""

    def text(self, brackets: bool) -> str:
        raise NotImplementedError

    def __str__(self) -> str:
        return self.text(False)

    @cached_property
    def written(self) -> str:
        """Text that reads back as this node."""
        return self.text(True)


def column_text(name: str) -> str:
    """A column as it is written in a sentence: in brackets unless it is a plain name."""
    return name if PLAIN.fullmatch(name) and name not in RESERVED else f"[{name}]"


def _joined(glue: str, nodes: Iterable[Node], brackets: bool) -> str:
    return glue.join(n.text(brackets) for n in nodes)


@dataclass(frozen=True)
class Number(Node):
    value: float
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        short = f"{self.value:g}"
        return short if float(short) == self.value else repr(self.value)


@dataclass(frozen=True)
class Text(Node):
    value: str
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return f"'{self.value}'" if '"' in self.value else f'"{self.value}"'


@dataclass(frozen=True)
class Column(Node):
    """A column by name; ``place`` is (start, end) in the sentence."""

    name: str
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return column_text(self.name) if brackets else self.name


@dataclass(frozen=True)
class Intercept(Node):
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return "intercept"


@dataclass(frozen=True)
class OwnSpread(Node):
    """The term ``spread`` of an each clause: the log residual SD of each unit."""

    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return "spread"


@dataclass(frozen=True)
class OwnZeros(Node):
    """The term ``zeros`` of an each clause: the logit of each unit's probability of zeros."""

    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return "zeros"


@dataclass(frozen=True)
class OfOutcome(Node):
    """1 in the rows of one of several outcomes or linear predictors, 0 in the others: the first factor of every term of
    a sentence over stacked rows.
    ``bare`` is the term of an each clause that is called as its predictor is."""

    name: str
    bare: bool = False
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return column_text(self.name) if brackets else self.name


@dataclass(frozen=True)
class Arithmetic(Node):
    """``operator`` is '^', 'negative', or one sign (+ and -, or * and /) between each two of the operands."""

    operator: str
    operands: tuple[Expression, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        parts = [f"({o.text(brackets)})" if isinstance(o, Arithmetic) else o.text(brackets) for o in self.operands]
        if self.operator == "negative":
            return f"-{parts[0]}"
        if self.operator == "^":
            return "^".join(parts)
        return parts[0] + "".join(f" {sign} {part}" for sign, part in zip(self.operator, parts[1:]))


@dataclass(frozen=True)
class By(Node):
    """``by soil`` as the last argument of a function: one of it for each level of the column."""

    column: Column
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return f"by {self.column.text(brackets)}"


@dataclass(frozen=True)
class Call(Node):
    """A function of the sentence applied to its arguments."""

    function: str
    arguments: tuple[Expression, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return f"{self.function}({_joined(', ', self.arguments, brackets)})"


@dataclass(frozen=True)
class Named(Node):
    """A transformation that ``let`` gave a name: it is printed by that name and means ``factor``."""

    name: str
    factor: Factor
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        return self.name


Expression = Number | Text | Column | Intercept | OwnSpread | OwnZeros | Arithmetic | Call | Named | By | OfOutcome
Factor = Intercept | OwnSpread | OwnZeros | Column | Call | Named | OfOutcome


@dataclass(frozen=True)
class Comparison(Node):
    operator: str
    left: Expression
    right: tuple[Expression, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        right = _joined(", ", self.right, brackets)
        return f"{self.left.text(brackets)} {self.operator} " + (f"({right})" if self.operator == "in" else right)


@dataclass(frozen=True)
class Logic(Node):
    """``operator`` is 'and', 'or' or 'not'."""

    operator: str
    operands: tuple[Condition, ...]
    place: tuple[int, int] = field(default=START, compare=False)

    def text(self, brackets: bool) -> str:
        parts = [f"({o.text(brackets)})" if isinstance(o, Logic) else o.text(brackets) for o in self.operands]
        return (
            f"not ({self.operands[0].text(brackets)})" if self.operator == "not" else f" {self.operator} ".join(parts)
        )


Condition = Comparison | Logic
