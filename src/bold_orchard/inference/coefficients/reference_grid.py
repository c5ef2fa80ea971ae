"""Typical rows: the fixed part where categories count equally and covariates stand at their means or where they are held.

A held value is a value of the raw column and goes through every transformation that uses it. Where a mean by unit uses
the column, the unit is the average one: its mean is that over the rows used and stays, while the row itself moves.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.dates import day_of
from bold_orchard.data.table import Table
from bold_orchard.design.build import fixed_part, split_offsets
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.transformations import OUTCOME, Category, ColumnMaker
from bold_orchard.errors import OrchardError, unknown_name
from bold_orchard.inference.coefficients.curves import curve_columns, curve_effects
from bold_orchard.inference.coefficients.named_numbers import NamedNumber, named_numbers
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.variances.averages import relationship
from bold_orchard.sentence import tree

Array = NDArray[Any]
Held = Mapping[str, "float | str"]
MOST_CELLS = 50_000  # combinations of categories at one point
ROWS_AT_ONCE = 100_000  # grid rows coded together (tens of MB)


class ReferenceGrid:
    """The typical rows of one fit; everything is named by raw columns."""

    def __init__(self, fit: Fit) -> None:
        self.fit, self.design = fit, fit.design
        self.levels = {c.column: c.levels for _, c in self.design.categories()}
        self.factors = {name: c.column for name, c in self.design.categories()}
        cells = int(np.prod([len(v) for v in self.levels.values()], dtype=float))
        if cells > MOST_CELLS:
            raise OrchardError(
                f"the categories of '{fit.name}' have {cells:,} combinations; {MOST_CELLS:,} at most can be averaged"
            )

    @cached_property
    def columns(self) -> list[str]:
        """Raw columns of the fixed part, offsets included, in the order of the sentence."""
        return [c.name for c in tree.columns_of(self.design.sentence.terms, units=False)]

    @cached_property
    def means(self) -> dict[str, float]:
        """Numeric columns that do not stand as categories, with their means over the rows used."""
        table = self.design.table
        return {
            c: self.design.mean_of(table.numbers(c))
            for c in self.columns
            if c not in self.levels and table.kind(c) == "number"
        }

    def factor_columns(self, term: str) -> dict[str, str]:
        """The factors of a term, 'pruning' or 'pruning*soil', with their raw columns; raises for what is no category."""
        out = {}
        written = {column: name for name, column in self.factors.items()}
        for factor in term.split("*") if term else []:
            name = factor.strip()
            name = name if name in self.factors else written.get(name, name)
            if name not in self.factors:
                where = f"the fixed part of '{self.fit.name}'"
                if name in self.means or name in self.named:
                    raise OrchardError(
                        f"'{name}' is a number in {where} and has a slope; for a mean of each of its values write "
                        f"category({name}) in the sentence"
                    )
                raise OrchardError(unknown_name("category", name, list(self.factors) or ["(none)"], where))
            out[name] = self.factors[name]
        return out

    def checked(self, column: str, value: float | str) -> float | str:
        """A held value as a number (of its column, where the sentence gave a name to a function of it), or as the level
        of a category; raises OrchardError for what the model does not use."""
        where = f"the fixed part of '{self.fit.name}'"
        if column in self.named and column not in self.levels:
            number = _number(value)
            if number is None:
                raise OrchardError(f"'{column}' is a number in {where}; it cannot be held at '{value}'")
            return self.named[column].column_at(number)
        if column not in self.levels and column not in self.means:
            known = [*self.means, *self.levels] or ["(none)"]
            if self.design.table.has(column):
                raise OrchardError(f"'{column}' does not stand in {where}, so holding it changes nothing; leave it out")
            raise OrchardError(unknown_name("column", column, known, where))
        number = _number(value)
        if number is None and column in self.design.sentence.dated:
            number = day_of(str(value).strip())
        if column in self.means:
            if number is None:
                raise OrchardError(f"'{column}' is a number in {where}; it cannot be held at '{value}'")
            return number
        for level in self.levels[column]:
            if level == str(value).strip() or (number is not None and _number(level) == number):
                return level
        raise OrchardError(
            unknown_name("level", str(value), self.levels[column], f"column '{column}', a category in {where}")
        )

    def rows(self, points: Sequence[Held]) -> tuple[Array, Array]:
        """Rows of X (points, p) over all columns, aliased ones too, then those of the curves' wiggles, and the offset (points,)."""
        x = np.zeros((len(points), len(self.design.fixed.names) + len(self._wiggles)))
        offset = np.zeros(len(points))
        batch: list[tuple[int, list[dict[str, Any]]]] = []
        count = 0
        for i, point in enumerate(points):
            cells = self._cells(point)
            batch.append((i, cells))
            count += len(cells)
            if count >= ROWS_AT_ONCE:
                self._fill(batch, x, offset)
                batch, count = [], 0
        if batch:
            self._fill(batch, x, offset)
        return x, offset

    def _cells(self, point: Held) -> list[dict[str, Any]]:
        """The combinations of categories that a point averages over."""
        choices = [[point[c]] if c in point else levels for c, levels in self.levels.items()]
        base = {c: point.get(c, mean) for c, mean in self.means.items()}
        return [base | dict(zip(self.levels, combination)) for combination in itertools.product(*choices)]

    def _fill(self, batch: list[tuple[int, list[dict[str, Any]]]], x: Array, offset: Array) -> None:
        cells = [cell for _, own in batch for cell in own]
        columns: dict[str, Any] = {}
        for name in self.columns:
            values = [cell[name] for cell in cells]
            number = self.design.table.kind(name) == "number"
            columns[name] = np.asarray(values, dtype=float) if number else np.asarray(values, dtype=object)
        table = self._asked(Table(columns, "the grid", len(cells)))
        maker = ColumnMaker(table, self.design.memory, learn=False, reference=self._training)
        offsets, plain = split_offsets(self.design.sentence.terms, maker)
        part = fixed_part(plain, self.design.sentence, maker, self.design.family)
        owner = np.repeat([i for i, _ in batch], [len(own) for _, own in batch])
        sizes = np.bincount(owner, minlength=len(x))
        for j, column in enumerate(
            [*part.values, *(curve_columns(self.design, maker).T if len(self._wiggles) else ())]
        ):
            x[:, j] += np.bincount(owner, column, minlength=len(x)) / np.maximum(sizes, 1)
        if offsets is not None:
            offset += np.bincount(owner, offsets, minlength=len(x)) / np.maximum(sizes, 1)

    def _asked(self, table: Table) -> Table:
        """Rows of the outcome, of several, that is asked about; the first where none is."""
        names = self.design.stacked_names
        if not names:
            return table
        return _of_name(table, names, names.index(self.fit.one) if self.fit.one is not None else 0)

    def random_products(self, points: Sequence[Held]) -> list[Array]:
        """For each clause the mean of z z' over the combinations of categories of a point, (points, k, k): tr(G M) is what the units'
        effects add to the variance of its linear predictor. Relative variances of levels from a file count at their mean.
        """
        names = [c.name for c in tree.columns_of(tuple(e.terms for e in self.design.sentence.clauses), units=False)]
        number = {c: self.design.table.kind(c) == "number" and c not in self._coded_in_units for c in names}
        choices = {c: self.levels.get(c) or self.design.table.labels(c).ordered[0] for c in names if not number[c]}
        means = {c: self.means.get(c, self.design.mean_of(self.design.table.numbers(c))) for c in names if number[c]}
        cells, owner = [], []
        for i, point in enumerate(points):
            for combination in itertools.product(
                *([point[c]] if c in point else levels for c, levels in choices.items())
            ):
                cells.append({c: point.get(c, m) for c, m in means.items()} | dict(zip(choices, combination)))
                owner.append(i)
        raw = {c: self.design.table.kind(c) == "number" for c in names}
        columns = {c: np.array([cell[c] for cell in cells], dtype=float if raw[c] else object) for c in names}
        grid, of = Table(columns, "the grid", len(cells)), self.design.predictors
        tables = [_of_name(grid, of, k) for k in range(len(of))] or [self._asked(grid)]
        makers = [ColumnMaker(t, self.design.memory, learn=False, reference=self._training) for t in tables]
        counts = np.bincount(owner, minlength=len(points))
        out = []
        for clause, each in zip(self.design.clauses, self.design.sentence.clauses):
            parts = [build_part(each.terms, False, maker).values for maker in makers]
            z = [sum(columns) for columns in zip(*parts)]
            scale = self.design.mean_of(np.broadcast_to(relationship(self.design, clause), len(self.design.y)))
            made = [[np.bincount(owner, a * b, minlength=len(points)) / counts for b in z] for a in z]
            out.append(scale * np.array(made).transpose(2, 0, 1))
        return out

    def random_variances(self, points: Sequence[Held]) -> Array:
        """What the units' effects add to the variance of the linear predictor at each point, (points,)."""
        e, total = self.fit.evaluation, np.zeros(len(points))
        for clause, m in zip(self.design.clauses, self.random_products(points)):
            if self.design.units[clause.unit].curve:
                continue
            g = e.covariance(clause.block)[clause.columns, clause.columns]
            total += (m * g).sum(axis=(1, 2))
        return total

    @cached_property
    def _coded_in_units(self) -> set[str]:
        """Numeric columns that stand as categories in a clause."""
        factors = [f for e in self.design.sentence.clauses for t in e.terms for f in t.factors if not t.is_spread]
        made = [self._training.make(f) for f in factors]
        return {m.column for m in made if isinstance(m, Category)}

    @cached_property
    def _training(self) -> ColumnMaker:
        return self.design.maker()

    def kept(self, x: Array) -> Array:
        """The columns that have estimates, and those of the wiggles, (points, p' + m)."""
        p = len(self.design.fixed.names)
        return np.concatenate([x[:, self.fit.evaluation.criterion.products.standard.kept], x[:, p:]], axis=1)

    @cached_property
    def _wiggles(self) -> Array:
        return curve_effects(self.fit)

    def estimable(self, x: Array, constant: float = 1.0) -> NDArray[np.bool_]:
        """Whether each row of X (points, p) has an answer; see ``ColumnSpace.answers``."""
        return self.fit.model.column_space.answers(x[:, : len(self.design.fixed.names)], constant)

    @cached_property
    def named(self) -> dict[str, NamedNumber]:
        """Names of the sentence that stand for functions of one number."""
        return named_numbers(self.design, list(self.means))

    def slope(self, points: Sequence[Held], column: str) -> Array:
        """Derivative of the rows of X at the points, (points, p), in a raw column, or in a named number of one: central
        differences, extrapolated."""
        if column in self.named:
            number = self.named[column]
            rates = [number.rate(float(p.get(number.column, self.means[number.column]))) for p in points]
            return self.slope(points, number.column) / np.array(rates)[:, None]
        h = 1e-3 * (float(self.design.table.numbers(column).std()) or 1.0)

        def difference(step: float) -> Array:
            ends = [
                [{**p, column: float(p.get(column, self.means[column])) + side} for p in points]
                for side in (step, -step)
            ]
            return (self.rows(ends[0])[0] - self.rows(ends[1])[0]) / (2 * step)

        return np.asarray((4.0 * difference(h) - difference(2.0 * h)) / 3.0)

    def typical_units(self) -> list[dict[str, Any]]:
        """Means by unit in the fixed part and the value each has in the average unit."""
        found: dict[str, dict[str, Any]] = {}
        stack: list[Any] = [f for t in self.design.fixed.terms for f in t.factors]
        while stack:
            item = stack.pop()
            if isinstance(item, tree.Named):
                stack.append(item.factor)
            if isinstance(item, tree.Call):
                stack += item.arguments
                if item.function in tree.BY_UNIT and len(item.arguments) == 2:
                    kept = item.function in ("min", "max")
                    call = replace(
                        item, function=item.function if kept else "min" if item.function == "since" else "mean"
                    )
                    value = self._training.typical_mean(call)
                    if value is not None:
                        found.setdefault(call.written, {"term": str(call), "value": value})
        return list(found.values())


@dataclass(frozen=True)
class Asked:
    """What is asked of a fit: the ``cells`` with their ``points`` in raw columns, weights ``kept`` (cells, p') of the coefficients, the constant
    ``offset`` (cells,), and which are ``sure`` (cells,), estimable.
    """

    grid: ReferenceGrid
    term: str
    slope: str | None
    within: str | None
    factors: dict[str, str]
    held: dict[str, list[float | str]]
    cells: list[dict[str, Any]]
    points: list[dict[str, Any]]
    kept: Array
    offset: Array
    sure: NDArray[np.bool_]


def _of_name(table: Table, names: tuple[str, ...], code: int) -> Table:
    """The rows said to be of one of several outcomes or linear predictors."""
    return table.with_columns(
        {OUTCOME: Texts(np.full(len(table), code, dtype=np.intp), np.array(names, dtype=object), names)}
    )


def _number(value: object) -> float | None:
    try:
        made = float(str(value))
    except ValueError:
        return None
    return made if np.isfinite(made) else None
