"""What transformations learn of all rows, piece by piece."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.sentence import tree

Array = NDArray[Any]


class Wanted(Exception):
    """A figure that a transformation learns from all rows and that no sweep has made yet."""

    def __init__(self, call: tree.Call) -> None:
        super().__init__(call.written)
        self.call = call


class PieceMaker(ColumnMaker):
    """Transformations of a piece by what sweeps have learned of all of them."""

    def learned(self, call: tree.Call, compute: Callable[[], Any]) -> Any:
        if call.written not in self.memory:
            raise Wanted(call)
        return self.memory[call.written]


class Learner:
    """One figure that a transformation learns: sums of every piece."""

    def __init__(self, call: tree.Call) -> None:
        self.call = call
        self.n, self.mean, self.square, self.least = 0, 0.0, 0.0, np.inf
        self.by_unit: dict[str, list[float]] = {}

    def add(self, table: Table, maker: Callable[[Table], ColumnMaker]) -> None:
        """Rows of a piece, whose columns ``maker`` gives."""
        x = maker(table).numeric(self.call.arguments[0], self.call.function).values[0]
        if len(self.call.arguments) == 2 and isinstance(self.call.arguments[1], tree.Column):
            self._add_by_unit(table, x, self.call.arguments[1].name)
            return
        mean = float(x.mean())
        self._join(len(x), mean, float(((x - mean) ** 2).sum()), float(x.min()))

    def _join(self, n: int, mean: float, square: float, least: float) -> None:
        """Means and squares of more rows (Chan, Golub & LeVeque 1979)."""
        total = self.n + n
        if not total:
            return
        away = mean - self.mean
        self.square += square + away**2 * self.n * n / total
        self.mean += away * n / total
        self.n, self.least = total, min(self.least, least)

    def joined(self, other: Learner) -> Learner:
        """This and a later part's together."""
        self._join(other.n, other.mean, other.square, other.least)
        means = self.call.function in ("mean", "centre")
        choose = min if self.call.function in ("min", "since") else max
        for text, value in other.by_unit.items():
            if means:
                self._join_unit(text, *value)
                continue
            held = self.by_unit.setdefault(text, list(value))
            held[0] = choose(held[0], value[0])
        return self

    def _join_unit(self, text: str, first: float, away: float, n: float) -> None:
        """More rows of a level, ``away`` in all from their ``first``: what is constant is its own mean to the last digit."""
        held = self.by_unit.setdefault(text, [first, 0.0, 0.0])
        held[1] += away + n * (first - held[0])
        held[2] += n

    def _add_by_unit(self, table: Table, x: Array, unit: str) -> None:
        labels, function = table.labels(unit), self.call.function
        size = len(labels.texts)
        counts = np.bincount(labels.codes, minlength=size)
        if function in ("mean", "centre"):
            first = np.zeros(size)
            first[labels.codes[::-1]] = x[::-1]
            away = np.bincount(labels.codes, x - first[labels.codes], minlength=size)
            for text, f, s, n in zip(labels.texts, first.tolist(), away.tolist(), counts.tolist()):
                if n:
                    self._join_unit(text, f, s, n)
            return
        out = np.full(size, np.inf if function in ("min", "since") else -np.inf)
        (np.minimum if function in ("min", "since") else np.maximum).at(out, labels.codes, x)
        choose = min if function in ("min", "since") else max
        for text, v in zip(labels.texts, out.tolist()):
            held = self.by_unit.setdefault(text, [v])
            held[0] = choose(held[0], v)

    def result(self) -> Any:
        if self.by_unit:
            means = self.call.function in ("mean", "centre")
            return {t: v[0] + v[1] / v[2] if means else v[0] for t, v in self.by_unit.items()}
        if self.call.function == "since":
            return self.least
        if self.call.function == "zscore":
            return [self.mean, float(np.sqrt(self.square / (self.n - 1))) if self.n > 1 else 0.0]
        return self.mean


def transforms(factor: Any) -> bool:
    """Whether a factor is a transformation of numbers: no plain column, no category."""
    if isinstance(factor, tree.Named):
        return transforms(factor.factor)
    return isinstance(factor, tree.Call) and factor.function != "category"
