"""The sentence's functions: one factor of a term -> named numeric columns or a category.

What a function learns from the rows used (means, minima, knots, levels) goes into a memory, a plain
dictionary, so that new rows get the same transformation later.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.dates import WRITTEN, days_of
from bold_orchard.data.evaluate import evaluate
from bold_orchard.data.table import Table
from bold_orchard.design.cubic_spline import KNOTS, CubicSpline, knots_of
from bold_orchard.errors import OrchardError, shown, unknown_name
from bold_orchard.sentence import tree

Array = NDArray[Any]
OUTCOME = "(outcome)"  # column that says which of several outcomes a stacked row is of
TAKEN = ("intercept", "spread")  # names of terms: columns called so keep the brackets in which they are written


@dataclass(frozen=True)
class Numeric:
    """Columns made by one factor: names, values each (n,), and where each factor is zero."""

    names: tuple[str, ...]
    values: tuple[Array, ...]
    zero: str


@dataclass(frozen=True)
class Category:
    """A coded category: ``codes`` (n,) index ``levels``; ``levels[0]`` is the baseline; ``column`` is the raw column."""

    name: str
    column: str
    levels: tuple[str, ...]
    codes: NDArray[np.intp]


@dataclass
class ColumnMaker:
    """Turns factors into columns over the rows of ``table`` (the rows used).

    With ``learn`` False the memory is only read: the transformation of an earlier fit. With a ``reference``, the maker
    over the rows of that fit, the rows are typical ones of an average unit, but of their own in the columns
    ``own_units``: see ``typical_mean``. Where rows stand for several, these
    are their ``counts`` (n,). Where it is not ``strict`` a value may be no finite number, for whoever asks to judge.
    """

    table: Table
    memory: dict[str, Any]
    baselines: dict[str, str] = field(default_factory=dict)
    learn: bool = True
    text: str = ""
    meanings: dict[str, str] = field(default_factory=dict)
    reference: ColumnMaker | None = None
    own_units: frozenset[str] = frozenset()
    counts: Array | None = None
    strict: bool = True
    _cache: dict[str, Numeric | Category] = field(default_factory=dict)
    _typical: dict[str, float | None] = field(default_factory=dict)

    @cached_property
    def ones(self) -> Array:
        """The intercept's column, (n,)."""
        return np.ones(len(self.table))

    def make(self, factor: tree.Factor) -> Numeric | Category:
        key = factor.written
        if key not in self._cache:
            self._cache[key] = self._make(factor)
        return self._cache[key]

    def set(self, made: Mapping[str, Numeric | Category]) -> None:
        """Columns of some factors, by their written form, as they are to be instead of what the table says."""
        self._cache |= made

    def _make(self, factor: tree.Factor) -> Numeric | Category:
        if isinstance(factor, tree.Column):
            if self._is_category(factor.name):
                return self.category(factor.name, factor.name)
            name = f"[{factor.name}]" if factor.name in TAKEN else factor.name
            return Numeric((name,), (self.numbers(factor.name),), f"{factor.name} = 0")
        if isinstance(factor, tree.OfOutcome):
            labels = self.table.labels(OUTCOME)
            own = np.array([t == factor.name for t in labels.texts], dtype=float)
            return Numeric((factor.name,), (own[labels.codes],), "")
        if isinstance(factor, tree.OwnSpread):  # nothing of it enters the linear predictor
            return Numeric(("spread",), (np.zeros(len(self.table)),), "")
        if isinstance(factor, tree.Named):
            return self._renamed(factor)
        assert isinstance(factor, tree.Call)
        if factor.function == "category":
            column = factor.arguments[0]
            assert isinstance(column, tree.Column)
            return self.category(column.name, str(factor))
        made = FUNCTIONS[factor.function](self, factor)
        for name, values in zip(made.names, made.values):
            self._check_finite(name, values)
        return made

    def _renamed(self, factor: tree.Named) -> Numeric | Category:
        """A let: the columns of its factor under its own name."""
        made, name = self.make(factor.factor), factor.name
        self.meanings.setdefault(name, self.meanings.pop(str(factor.factor), str(factor.factor)))
        if isinstance(made, Category):
            return Category(name, made.column, made.levels, made.codes)
        if len(made.names) == 1:
            names: tuple[str, ...] = (name,)
        elif isinstance(factor.factor, tree.Call) and factor.factor.function == "power":
            names = tuple(name if k == 1 else f"{name}^{k}" for k in range(1, len(made.names) + 1))
        else:
            names = tuple(f"{name}[{k}]" for k in range(1, len(made.names) + 1))
        return Numeric(names, made.values, made.zero)

    def _is_category(self, column: str) -> bool:
        kinds = self.memory.setdefault("kinds", {})
        if column not in kinds:
            kinds[column] = self.table.kind(column)
        return bool(kinds[column] == "category")

    def numbers(self, column: str) -> Array:
        values = self.table.numbers(column)
        if not self.table.data.all_finite(column):
            self._check_finite(column, values)
        return values

    def numeric(self, argument: tree.Expression, function: str) -> Numeric:
        """An argument that must be numbers."""
        if not isinstance(argument, (tree.Column, tree.Call, tree.Named)):
            raise OrchardError(f"{function} needs a column or a function of one, not {argument}")
        if isinstance(argument, tree.Column) and self._is_category(argument.name):
            raise OrchardError(self._no_numbers(argument.name, function))
        made = self.make(argument)
        if isinstance(made, Category):
            raise OrchardError(self._no_numbers(made.name, function))
        return made

    def _no_numbers(self, name: str, function: str) -> str:
        """What a function that needs numbers says of a category."""
        there, wanted = self.table.has(name), "numbers"
        odd = self.table.odd_cells(name) if there else ""
        if function == "since":
            wanted = f"numbers or dates ({WRITTEN})"
            if there and days_of(self.table.labels(name)) is not None:
                odd = " that groups rows; copy the column to count its days"
        return f"{function}(...) needs {wanted}, but '{name}' is a category{odd}"

    def learned(self, call: tree.Call, compute: Callable[[], Any]) -> Any:
        """A value computed once from the rows used and kept under the call's own text."""
        key = call.written
        if self.learn and key not in self.memory:
            self.memory[key] = compute()
        return self.memory[key]

    def category(self, column: str, name: str) -> Category:
        labels = self.table.labels(column)
        ordered, place = labels.ordered
        key = f"levels of {column}"
        if self.learn and key not in self.memory:
            stray = "" if name == f"category({tree.column_text(column)})" else self.table.stray_cells(column)
            if stray:
                raise OrchardError(
                    f"column '{column}' is text of {len(ordered):,} values, nearly all of them numbers{stray}; "
                    f"if it is a category: category({tree.column_text(column)})"
                )
            self.memory[key] = self._with_baseline(column, ordered)
        levels: list[str] = self.memory[key]
        index = {level: i for i, level in enumerate(levels)}
        strange = [level for level in ordered if level not in index]
        if strange:
            raise OrchardError(f"'{strange[0]}' is no level of '{column}'; the fit knows {', '.join(shown(levels))}")
        to_code = np.array([index[level] for level in ordered], dtype=np.intp)
        if len(levels) < 2:
            raise OrchardError(f"'{column}' has one level only in the rows used ('{levels[0]}'); leave it out")
        return Category(name, column, tuple(levels), to_code[place][labels.codes])

    def _with_baseline(self, column: str, ordered: list[str]) -> list[str]:
        baseline = self.baselines.get(column)
        if baseline is None:
            return ordered
        if baseline not in ordered:
            raise OrchardError(unknown_name("level", baseline, ordered, f"column '{column}'") + " (in --baseline)")
        return [baseline, *(level for level in ordered if level != baseline)]

    def _check_finite(self, name: str, values: Array) -> None:
        if not self.strict or np.isfinite(np.dot(values, values)):
            return
        bad = ~np.isfinite(values)
        if not bad.any():
            return
        count = int(bad.sum())
        first = ", ".join(map(str, self.table.row_numbers[bad][:3]))
        what = "is infinite" if self.table.has(name) else "is not a finite number"
        raise OrchardError(
            f"'{name}' {what} in {count:,} row{'s' * (count > 1)} (first: {first}); "
            "mend those cells, declare them missing or leave them out with --where"
        )

    def typical_mean(self, call: tree.Call) -> float | None:
        """What ``call``, a mean, min or max by unit, is in the average unit: its mean over these rows.

        None where it is constant in every unit: there the mean of a row's unit is the value of the row itself.
        """
        unit = call.arguments[1]
        assert isinstance(unit, tree.Column)
        key = call.written
        if key not in self._typical:
            values = self.numeric(call.arguments[0], call.function).values[0]
            labels = self.table.labels(unit.name)
            first = np.zeros(len(labels.raw))
            first[labels.codes[::-1]] = values[::-1]
            constant = np.array_equal(first[labels.codes], values)
            own = values if constant else self.unit_value(call, values)
            self._typical[key] = None if constant else float(np.average(own, weights=self.counts))
        return self._typical[key]

    def unit_value(self, call: tree.Call, values: Array) -> Array:
        """The mean, min or max of ``values`` in the unit named by the call's second argument, per row (n,)."""
        unit = call.arguments[1]
        assert isinstance(unit, tree.Column)
        if self.reference is not None:
            typical = self.reference.typical_mean(call)
            if typical is None:
                return values
            if unit.name not in self.own_units:
                return np.full(len(values), typical)
        labels = self.table.labels(unit.name)

        def compute() -> dict[str, float]:
            made = _by_unit(call.function, labels.codes, len(labels.texts), values)
            return dict(zip(labels.texts, made.tolist()))

        known = self.learned(call, compute)
        own = compute() if not self.learn else {}
        return np.array([known.get(t, own.get(t, np.nan)) for t in labels.texts])[labels.codes]

    def lag(self, call: tree.Call) -> Array:
        """The column that ``with_made_columns`` made over all rows of the table; in a typical row its mean over the
        rows of the fit."""
        name = call.written
        if self.reference is not None:
            return np.full(len(self.table), float(self.reference.table.numbers(name).mean()))
        return self.numbers(name)


def _by_unit(function: str, codes: NDArray[np.intp], size: int, values: Array) -> Array:
    if function == "mean":
        made = np.bincount(codes, values, minlength=size) / np.maximum(np.bincount(codes, minlength=size), 1)
        low, high = (_by_unit(f, codes, size, values) for f in ("min", "max"))
        return np.where(low == high, low, made)  # what is constant in a unit is its own mean to the last digit
    out = np.full(size, np.inf if function == "min" else -np.inf)
    (np.minimum if function == "min" else np.maximum).at(out, codes, values)
    return out


def _one(maker: ColumnMaker, call: tree.Call) -> tuple[str, Array, str]:
    """The single numeric column a function works on: name, values and where it is zero."""
    made = maker.numeric(call.arguments[0], call.function)
    if len(made.names) != 1:
        raise OrchardError(f"{call.function}(...) works on one column, but {call.arguments[0]} makes {len(made.names)}")
    return made.names[0], made.values[0], made.zero


def _simple(maker: ColumnMaker, call: tree.Call) -> Numeric:
    def column(c: tree.Column | tree.Named) -> Array:
        return maker.numeric(c, call.function).values[0]

    if call.function == "calc":
        values = evaluate(call.arguments[0], column)
        values = np.broadcast_to(values, (len(maker.table),)).astype(float)
    else:
        _, x, _ = _one(maker, call)
        with np.errstate(all="ignore"):
            values = {"log": np.log, "sqrt": np.sqrt, "exp": np.exp, "abs": np.abs}[call.function](x)
    return Numeric((str(call),), (values,), f"{call} = 0")


def _centre(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, _ = _one(maker, call)
    if len(call.arguments) == 2:
        unit = call.arguments[1]
        zero = f"{name} at its mean in the {unit}"
        maker.meanings[str(call)] = f"{name} less its mean in each {unit}: the part of {name} within {unit}"
        return Numeric((str(call),), (x - maker.unit_value(tree.Call("mean", call.arguments), x),), zero)
    at = maker.learned(call, lambda: float(x.mean()))
    maker.meanings[str(call)] = f"{name} less {at:.6g}, its mean over the rows used"
    return Numeric((str(call),), (x - at,), f"{name} = {at:.5g} (its mean)")


def _mean(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, _ = _one(maker, call)
    maker.meanings[str(call)] = f"the mean of {name} in each {call.arguments[1]}: the part of {name} between levels"
    return Numeric((str(call),), (maker.unit_value(call, x),), f"{call} = 0")


def _split(maker: ColumnMaker, call: tree.Call) -> Numeric:
    within = _centre(maker, tree.Call("centre", call.arguments))
    between = _mean(maker, tree.Call("mean", call.arguments))
    return Numeric(within.names + between.names, within.values + between.values, f"{within.zero}, {between.zero}")


def _zscore(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, _ = _one(maker, call)
    at, sd = maker.learned(call, lambda: [float(x.mean()), float(x.std(ddof=1)) if len(x) > 1 else 0.0])
    if sd == 0:
        raise OrchardError(f"zscore({name}) cannot be formed: '{name}' is the same in every row used")
    maker.meanings[str(call)] = f"{name} less {at:.6g}, its mean, divided by {sd:.6g}, its SD"
    return Numeric((str(call),), ((x - at) / sd,), f"{name} = {at:.5g} (its mean)")


def _extreme(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, _ = _one(maker, call)
    what = "smallest" if call.function == "min" else "largest"
    maker.meanings[str(call)] = f"the {what} {name} of each {call.arguments[1]}"
    return Numeric((str(call),), (maker.unit_value(call, x),), f"{call} = 0")


def _lag(maker: ColumnMaker, call: tree.Call) -> Numeric:
    x, unit, time = call.arguments
    maker.meanings[str(call)] = f"{x} one row of {time} before, in the same {unit}"
    return Numeric((str(call),), (maker.lag(call),), f"{call} = 0")


def _since(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, _ = _one(maker, call)
    if len(call.arguments) == 2:
        unit = call.arguments[1]
        maker.meanings[str(call)] = f"{name} less its smallest in each {unit}"
        first = maker.unit_value(tree.Call("min", call.arguments), x)
        return Numeric((str(call),), (x - first,), f"{name} at its smallest in the {unit}")
    start = maker.learned(call, lambda: float(x.min()))
    maker.meanings[str(call)] = f"{name} less {start:.6g}, its smallest"
    return Numeric((str(call),), (x - start,), f"{name} = {start:.5g} (its smallest)")


def _rescale(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, zero = _one(maker, call)
    by = call.arguments[1]
    assert isinstance(by, tree.Number)
    maker.meanings[str(call)] = f"{name} divided by {by}"
    return Numeric((str(call),), (x / by.value,), zero)


def _power(maker: ColumnMaker, call: tree.Call) -> Numeric:
    name, x, zero = _one(maker, call)
    degree = call.arguments[1]
    assert isinstance(degree, tree.Number)
    powers = range(1, int(degree.value) + 1)
    names = tuple(name if k == 1 else f"{name}^{k}" for k in powers)
    return Numeric(names, tuple(x**k for k in powers), zero)


def _spline(maker: ColumnMaker, call: tree.Call) -> Numeric:
    """Natural cubic spline in the basis of Hastie, Tibshirani & Friedman (2009), eq. 5.4-5.5.

    ``spline(x, d)`` has d columns, so d + 1 knots: the extremes and equally spaced quantiles between.
    """
    name, x, zero = _one(maker, call)
    d = call.arguments[1]
    assert isinstance(d, tree.Number)
    size = int(d.value)
    names = tuple(f"{call}[{k}]" for k in range(1, size + 1))
    knots = np.asarray(maker.learned(call, lambda: np.quantile(x, np.linspace(0, 1, size + 1)).tolist()))
    if (np.diff(knots) <= 0).any():
        raise OrchardError(f"spline({name}, {size}) needs more distinct values of '{name}'; use a smaller number")
    listed = ", ".join(f"{k:.5g}" for k in knots)
    maker.meanings[str(call)] = f"a natural cubic spline of {name} with knots at {listed}"
    low, span = knots[0], knots[-1] - knots[0]
    z, k = (x - low) / span, (knots - low) / span

    def hinge(i: int) -> Array:
        top = np.maximum(z - k[i], 0) ** 3 - np.maximum(z - k[-1], 0) ** 3
        return top / (k[-1] - k[i])

    last = hinge(size - 1)
    columns = [x, *(hinge(i) - last for i in range(size - 1))]
    return Numeric(names, tuple(columns), zero)


def _smooth(maker: ColumnMaker, call: tree.Call) -> Numeric:
    """The straight part of a curve: the column itself, or one for each level of ``by``."""
    _, x, zero = _one(maker, call)
    by = call.arguments[-1]
    _curve(maker, call, x)
    zero = f"{zero} on the straight part of {call}"
    if not isinstance(by, tree.By):
        return Numeric((str(call),), (x,), zero)
    levels = maker.category(by.column.name, by.column.name)
    columns = tuple(np.where(levels.codes == i, x, 0.0) for i in range(len(levels.levels)))
    return Numeric(tuple(f"{call}[{level}]" for level in levels.levels), columns, zero)


def _wiggle(maker: ColumnMaker, call: tree.Call) -> Numeric:
    """What a curve has beyond its straight part: functions of which the curve's own has independent coefficients of one variance."""
    _, x, zero = _one(maker, call)
    values = _curve(maker, replace(call, function="smooth"), x).wiggle(x)
    by = call.arguments[-1]
    if not isinstance(by, tree.By):
        return Numeric(tuple(f"{call}[{k}]" for k in range(1, values.shape[1] + 1)), tuple(values.T), zero)
    own = maker.category(by.column.name, by.column.name)
    names = tuple(f"{call}[{level}][{k}]" for level in own.levels for k in range(1, values.shape[1] + 1))
    columns = tuple(np.where(own.codes == i, column, 0.0) for i in range(len(own.levels)) for column in values.T)
    return Numeric(names, columns, zero)


def _curve(maker: ColumnMaker, call: tree.Call, x: Array) -> CubicSpline:
    """The spline of a curve, its knots learned from the rows used."""
    count = next((int(a.value) for a in call.arguments[1:] if isinstance(a, tree.Number)), KNOTS)

    def learned() -> list[float]:
        knots = knots_of(x, count)
        if len(knots) < 3:
            raise OrchardError(
                f"{call} needs three distinct values of {call.arguments[0]} or more, and there are {len(knots)}; write the column itself"
            )
        spline = CubicSpline(knots, 1.0)
        return [spline.size_over(x), *knots.tolist()]

    scale, *knots = maker.learned(call, learned)
    listed = ", ".join(f"{k:.5g}" for k in knots)
    maker.meanings.setdefault(
        str(call),
        f"a curve of {call.arguments[0]} (cubic, straight beyond its {len(knots)} knots): here its straight part; knots at {listed}",
    )
    return CubicSpline(np.array(knots), scale)


def _offset(maker: ColumnMaker, call: tree.Call) -> Numeric:
    made = maker.numeric(call.arguments[0], call.function)
    return Numeric((str(call),), (np.sum(made.values, axis=0),), made.zero)


FUNCTIONS: dict[str, Callable[[ColumnMaker, tree.Call], Numeric]] = {
    **dict.fromkeys(("log", "sqrt", "exp", "abs", "calc"), _simple),
    "centre": _centre,
    "mean": _mean,
    "split": _split,
    "zscore": _zscore,
    "since": _since,
    "min": _extreme,
    "max": _extreme,
    "lag": _lag,
    "rescale": _rescale,
    "power": _power,
    "spline": _spline,
    "smooth": _smooth,
    "wiggle": _wiggle,
    "offset": _offset,
}
