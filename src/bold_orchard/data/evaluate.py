"""Arithmetic and conditions on the columns of a table."""

from __future__ import annotations

import operator
from collections.abc import Callable
from functools import reduce
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, SentenceError, unknown_name
from bold_orchard.sentence import tree
from bold_orchard.sentence.parse import read_condition

Array = NDArray[Any]
ARITHMETIC: dict[str, Callable[..., Any]] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.divide,
    "^": np.power,
}
EXTREMES: dict[str, Callable[..., Any]] = {"min": np.minimum, "max": np.maximum}
SIMPLE = {"log": np.log, "sqrt": np.sqrt, "exp": np.exp, "abs": np.abs}
COMPARE: dict[str, Callable[..., Any]] = {
    "=": operator.eq,
    "!=": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
Asked = dict[
    tuple[str, str], tuple[bool, tuple[int, int]]
]  # (column, level) -> whether any piece has it, and where it is written


def evaluate(expression: tree.Expression, column: Callable[[Any], Array]) -> Array:
    """Arithmetic over whole columns, (n_rows,); ``column`` delivers the values of a name."""
    if isinstance(expression, tree.Number):
        return np.asarray(float(expression.value))
    if isinstance(expression, (tree.Column, tree.Named)):
        return column(expression)
    with np.errstate(all="ignore"):
        if isinstance(expression, tree.Arithmetic):
            first, *rest = (evaluate(o, column) for o in expression.operands)
            if expression.operator == "negative":
                return np.negative(first)
            return reduce(
                lambda total, step: ARITHMETIC[step[0]](total, step[1]), zip(expression.operator, rest), first
            )
        if isinstance(expression, tree.Call) and expression.function in EXTREMES:
            return reduce(EXTREMES[expression.function], (evaluate(a, column) for a in expression.arguments))
        if isinstance(expression, tree.Call) and expression.function in (*SIMPLE, "calc"):
            value = evaluate(expression.arguments[0], column)
            return SIMPLE[expression.function](value) if expression.function in SIMPLE else value
    raise OrchardError(f"'{expression}' cannot be used in arithmetic")


def filter_rows(table: Table, text: str) -> Table:
    """The rows for which the ``--where`` expression holds; a missing value never holds."""
    keep = _truth(read_condition(text), table, text, None) == 1.0
    if not keep.any():
        raise nothing_left(table.name, text)
    return table.take(keep)


def nothing_left(name: str, text: str) -> OrchardError:
    return OrchardError(f"no row of {name} satisfies --where {text!r}; nothing is left to work on")


def filter_piece(table: Table, text: str, asked: Asked) -> Table:
    """The same of a piece, which may be left without rows and lack levels that others have; ``asked`` keeps which were found."""
    return table.take(_truth(read_condition(text), table, text, asked) == 1.0)


def check_asked(asked: Asked, text: str) -> None:
    """Raise SentenceError for a level that no piece has."""
    for (column, wanted), (found, place) in asked.items():
        if not found:
            message = f"there is no level '{wanted}' in column '{column}' of any part"
            raise SentenceError(message, text, place[0], place[1] - place[0])


def _truth(c: tree.Condition, table: Table, text: str, asked: Asked | None) -> Array:
    """1 true, 0 false, NaN unknown, per row (Kleene's three-valued logic)."""
    if isinstance(c, tree.Logic):
        parts = [_truth(o, table, text, asked) for o in c.operands]
        if c.operator == "not":
            return 1.0 - parts[0]
        decisive = 1.0 if c.operator == "or" else 0.0
        known = np.any([p == decisive for p in parts], axis=0)
        unknown = np.any([np.isnan(p) for p in parts], axis=0)
        return np.where(known, decisive, np.where(unknown, np.nan, 1.0 - decisive))
    if c.operator == "in":
        options = [_compare("=", c.left, r, table, text, asked) for r in c.right]
        return np.max(options, axis=0)
    return _compare(c.operator, c.left, c.right[0], table, text, asked)


def _compare(
    sign: str, left: tree.Expression, right: tree.Expression, table: Table, text: str, asked: Asked | None
) -> Array:
    for a, b in ((left, right), (right, left)):
        if isinstance(a, tree.Column) and table.has(a.name) and table.kind(a.name) == "category":
            if sign not in ("=", "!="):
                raise SentenceError(f"'{a.name}' holds text; it can be compared by = and != only", text, a.place[0])
            return _compare_label(sign, a, b, table, text, asked)

    def column(c: tree.Column) -> Array:
        if not table.has(c.name):
            message = unknown_name("column", c.name, table.columns, table.name)
            raise SentenceError(message, text, c.place[0], c.place[1] - c.place[0])
        return table.numbers(c.name)

    for side in (left, right):
        if isinstance(side, tree.Text):
            raise SentenceError("a text is compared with a number here", text, side.place[0])
    one, two = evaluate(left, column), evaluate(right, column)
    truth = COMPARE[sign](one, two).astype(float)
    return np.where(np.isnan(one) | np.isnan(two), np.nan, truth) * np.ones(len(table))


def _compare_label(
    sign: str, column: tree.Column, value: tree.Expression, table: Table, text: str, asked: Asked | None
) -> Array:
    labels = table.labels(column.name)
    wanted = value.value if isinstance(value, tree.Text) else str(value)
    if not isinstance(value, (tree.Text, tree.Column, tree.Number)):
        raise SentenceError(f"'{column.name}' holds text; compare it with one of its levels", text, value.place[0])
    known = wanted in labels.texts
    if asked is not None:
        asked[column.name, wanted] = (known or asked.get((column.name, wanted), (False,))[0], value.place)
    elif not known:
        message = unknown_name("level", wanted, labels.ordered[0], f"column '{column.name}'")
        raise SentenceError(message, text, value.place[0], value.place[1] - value.place[0])
    same = (labels.codes == labels.texts.index(wanted)).astype(float) if known else np.zeros(len(table))
    truth = same if sign == "=" else 1.0 - same
    return np.where(labels.codes < 0, np.nan, truth)
