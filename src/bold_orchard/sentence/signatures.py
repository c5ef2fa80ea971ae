"""What the functions and structures of a sentence accept; errors say it in words."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from bold_orchard.errors import SentenceError, nearest
from bold_orchard.sentence import tree

Fail = Callable[[str, tuple[int, int]], SentenceError]


@dataclass(frozen=True)
class Signature:
    """Arguments by kind: 'x' a numeric expression, 'unit' a column, 'number', 'any'."""

    arguments: tuple[str, ...]
    optional: int = 0
    example: str = ""


FUNCTIONS = {
    "log": Signature(("x",), example="log(rain)"),
    "sqrt": Signature(("x",), example="sqrt(rain)"),
    "exp": Signature(("x",), example="exp(rain)"),
    "abs": Signature(("x",), example="abs(rain)"),
    "calc": Signature(("arithmetic",), example="calc(rain / 10)"),
    "centre": Signature(("x", "unit"), optional=1, example="centre(rain) or centre(rain, orchard)"),
    "mean": Signature(("x", "unit"), example="mean(rain, orchard)"),
    "split": Signature(("x", "unit"), example="split(rain, orchard)"),
    "zscore": Signature(("x",), example="zscore(rain)"),
    "since": Signature(("x", "unit"), optional=1, example="since(week) or since(week, tree)"),
    "min": Signature(("x", "unit"), example="min(week, tree)"),
    "max": Signature(("x", "unit"), example="max(week, tree)"),
    "lag": Signature(("column", "unit", "column"), example="lag(rain, tree, week)"),
    "rescale": Signature(("x", "number"), example="rescale(rain, 12)"),
    "power": Signature(("x", "whole"), example="power(rain, 3)"),
    "spline": Signature(("x", "whole"), example="spline(rain, 4)"),
    "smooth": Signature(("x", "knots"), optional=1, example="smooth(age), smooth(age, 12) or smooth(age, by soil)"),
    "category": Signature(("column",), example="category(season)"),
    "offset": Signature(("x",), example="offset(log(trees))"),
    "known": Signature(("column",), example="spread = known(se)"),
}
EXTREMES = ("min", "max")
ALONE = ("cross", "offset", "known", "smooth")  # whole terms, never parts of a product or arguments of a function
ARITHMETIC_ONLY = ("log", "sqrt", "exp", "abs", "min", "max")
EACH_STRUCTURES = ["unstructured", "diagonal", "identity", "exchangeable", "known", "given"]
# those after within, with an example of the column that each takes
WITHIN_STRUCTURES: dict[str, str | None] = {
    "ar1": "ar1(season)",
    "exchangeable": None,
    "exponential": "exponential(week) or exponential(east, north)",
    "toeplitz": "toeplitz(visit)",
    "unstructured": "unstructured(visit)",
}

IN_SPACE = ("exponential",)  # those that take several columns


def check_call(call: tree.Call, fail: Fail) -> None:
    """Raise (through ``fail``) when a function is unknown or its arguments do not fit."""
    name = call.function
    if name == "cross":
        if len(call.arguments) < 2:
            raise fail("cross needs two or more parts: cross(rain, pruning)", call.place)
        for a in call.arguments:
            if not isinstance(a, (tree.Column, tree.Call, tree.Named)):
                raise fail("the parts of cross(...) are columns or functions of columns", a.place)
            _not_alone(a, fail)
        return
    if name not in FUNCTIONS:
        near = nearest(name, [*FUNCTIONS, "cross"])
        hint = f"did you mean '{near}'?" if near else "there are: " + ", ".join([*FUNCTIONS, "cross"])
        raise fail(f"there is no function '{name}'; {hint}", (call.place[0], call.place[0] + len(name)))
    if name in EXTREMES and len(call.arguments) > 1 and not of_unit(call):
        return  # the larger of two values: right inside calc(...), refused elsewhere by whoever holds it
    signature = FUNCTIONS[name]
    by = [a for a in call.arguments if isinstance(a, tree.By)]
    if by and name != "smooth":
        raise fail(f"{name} has no 'by'; {FUNCTIONS['smooth'].example}", by[0].place)
    if by:
        call = replace(call, arguments=call.arguments[:-1])
    most, least = len(signature.arguments), len(signature.arguments) - signature.optional
    if not least <= len(call.arguments) <= most:
        needs = f"{least} argument{'s' * (least != 1)}" if least == most else f"{least} or {most} arguments"
        raise fail(f"{name} takes {needs}: {signature.example}", call.place)
    for kind, argument in zip(signature.arguments, call.arguments):
        _check_argument(name, kind, argument, signature.example, fail)


def of_unit(call: tree.Call) -> bool:
    """Whether min or max is written with a unit, min(week, tree), not as arithmetic, min(x, 0)."""
    return (
        len(call.arguments) == 2
        and isinstance(call.arguments[1], tree.Column)
        and isinstance(call.arguments[0], (tree.Column, tree.Call, tree.Named))
    )


def check_extreme(item: object, fail: Fail) -> None:
    """Refuse arithmetic min and max outside calc(...)."""
    if isinstance(item, tree.Call) and item.function in EXTREMES and not of_unit(item):
        raise fail(f"arithmetic belongs in calc(...): calc({item.written})", item.place)


def _not_alone(argument: tree.Expression, fail: Fail) -> None:
    check_extreme(argument, fail)
    if isinstance(argument, tree.Call) and argument.function in ALONE:
        raise fail(
            f"{argument.function}(...) is a term of its own; it cannot stand inside another function", argument.place
        )


def _check_argument(name: str, kind: str, argument: tree.Expression, example: str, fail: Fail) -> None:
    place = argument.place
    if kind == "arithmetic":
        _only_arithmetic(argument, fail)
    elif kind == "x":
        if isinstance(argument, tree.Arithmetic):
            raise fail(f"arithmetic belongs in calc(...): {name}(calc({argument.written}))", place)
        if not isinstance(argument, (tree.Column, tree.Call, tree.Named)):
            raise fail(f"{name} needs a column here: {example}", place)
        _not_alone(argument, fail)
    elif kind in ("unit", "column"):
        if not isinstance(argument, tree.Column):
            raise fail(f"{name} needs the name of a column here: {example}", place)
    elif not isinstance(argument, tree.Number) or argument.value == 0:
        raise fail(f"{name} needs a number other than zero here: {example}", place)
    elif kind == "knots":
        if argument.value != int(argument.value) or not 3 <= argument.value <= 100:
            raise fail(f"{name} takes 3 to 100 knots here: {example}", place)
    elif kind == "whole" and (argument.value != int(argument.value) or not 1 <= argument.value <= 30):
        raise fail(f"{name} needs a whole number from 1 to 30 here: {example}", place)


def _only_arithmetic(e: tree.Expression, fail: Fail) -> None:
    if isinstance(e, tree.Text):
        raise fail("calc(...) works on numbers; a text cannot stand here", e.place)
    if isinstance(e, tree.Arithmetic):
        for part in e.operands:
            _only_arithmetic(part, fail)
    if isinstance(e, tree.Call) and e.function in ("min", "max") and len(e.arguments) < 2:
        raise fail(f"inside calc(...) {e.function} compares two or more values: {e.function}(x, 0)", e.place)
    if isinstance(e, tree.Call) and e.function not in (*ARITHMETIC_ONLY, "calc"):
        raise fail(f"inside calc(...) only {', '.join(ARITHMETIC_ONLY)} can stand, not '{e.function}'", e.place)


def check_structure(structure: tree.Structure, clause: str, fail: Fail) -> None:
    """Raise (through ``fail``) when a structure is unknown in this clause or written wrongly."""
    known = EACH_STRUCTURES if clause == "each" else list(WITHIN_STRUCTURES)
    kind = structure.kind
    if kind not in known:
        near = nearest(kind, known)
        hint = f"did you mean '{near}'?" if near else "there are: " + ", ".join(known)
        raise fail(f"there is no structure '{kind}' in '{clause}'; {hint}", structure.place)
    example = WITHIN_STRUCTURES.get(kind) if clause == "within" else None
    wants_file, wants_column = kind in ("known", "given"), example is not None
    if wants_file != (structure.file is not None):
        raise fail(
            f'{kind} needs a file in quotes: {kind} "file.csv"' if wants_file else f"{kind} takes no file",
            structure.place,
        )
    if wants_column != (structure.column is not None):
        raise fail(
            f"{kind} needs a column: {example}" if wants_column else f"{kind} takes no column here",
            structure.place,
        )
    if len(structure.columns) > 1 and kind not in IN_SPACE:
        raise fail(f"{kind} takes one column: {example}", structure.place)
    if structure.over not in (None, "units") or (structure.over and kind != "given"):
        raise fail('only given can be followed by units: given units "g.csv"', structure.place)


def check_effects(structure: tree.Structure, terms: tuple[tree.Term, ...], vary: bool, fail: Fail) -> None:
    """Raise (through ``fail``) where a unit's own spread, or ``vary with``, does not go with the structure."""
    for term in terms:
        if (term.is_spread or term.is_zeros) and structure.kind not in ("unstructured", "diagonal"):
            raise fail(
                f"{term} is on another scale than the unit's other effects, so {structure.kind} cannot hold it; leave the structure "
                "out, or write (diagonal)", term.factors[0].place,
            )  # fmt: skip
    if vary and structure.kind in ("known", "given"):
        raise fail(f"vary with does not go with a covariance that is {structure.kind}; leave one out", structure.place)
