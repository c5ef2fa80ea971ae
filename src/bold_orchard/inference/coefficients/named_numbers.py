"""Names that ``let`` gave to functions of one number: their values, their rate of change, and the number that has a
value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.design import Design
from bold_orchard.design.transformations import ColumnMaker, Numeric
from bold_orchard.errors import UsageError
from bold_orchard.sentence import tree

Array = NDArray[Any]
AROUND = 2.0  # how far beyond the data, in their range, a value is looked for
STEPS = 2001


@dataclass(frozen=True)
class NamedNumber:
    """``weeks``, given by ``let weeks = rescale(day, 7)``, as a function of ``column``."""

    design: Design
    named: tree.Named
    column: str

    @property
    def name(self) -> str:
        return self.named.name

    def values(self, x: Array) -> Array:
        """The named number where the column is x (n,); NaN where it has no value."""
        table = Table({self.column: x}, "the values asked for", len(x))
        made = ColumnMaker(table, self.design.memory, learn=False, strict=False).make(self.named)
        assert isinstance(made, Numeric)
        return np.broadcast_to(np.asarray(made.values[0], dtype=float), len(x))

    def rate(self, x: float) -> float:
        """The derivative of the named number in the column at x."""
        h = 1e-4 * self._range
        near = self.values(x + h * np.array([-2.0, -1.0, 1.0, 2.0]))
        return float((8.0 * (near[2] - near[1]) - (near[3] - near[0])) / (12.0 * h))

    def column_at(self, value: float) -> float:
        """The column where the named number is ``value``; raises UsageError where that is nowhere, or more than
        once."""
        from scipy.optimize import brentq

        x = self.design.table.numbers(self.column)
        at = np.linspace(x.min() - AROUND * self._range, x.max() + AROUND * self._range, STEPS)
        with np.errstate(all="ignore"):
            off = self.values(at) - value
        ends = np.flatnonzero((off[:-1] * off[1:] < 0) | (off[:-1] == 0))
        if len(ends) != 1:
            often = "nowhere near the data" if not len(ends) else "more than once"
            raise UsageError(
                f"'{self.name}' is {self.named.factor}, which is {value:g} {often}; hold its column, {self.column}"
            )
        k = int(ends[0])
        if off[k] == 0:
            return float(at[k])
        return float(
            brentq(lambda v: float(self.values(np.array([v]))[0]) - value, at[k], at[k + 1], xtol=1e-13 * self._range)
        )

    @property
    def _range(self) -> float:
        x = self.design.table.numbers(self.column)
        return float(x.max() - x.min()) or 1.0


def named_numbers(design: Design, numbers: list[str]) -> dict[str, NamedNumber]:
    """The names of the sentence that are functions of one of the ``numbers`` alone, of no unit's, and one column."""
    out = {}
    for named in design.sentence.lets:
        columns = [c.name for c in tree.columns_of(named.factor)]
        if len(columns) != 1 or columns[0] not in numbers:
            continue
        mean = np.array([design.mean_of(design.table.numbers(columns[0]))])
        made = ColumnMaker(
            Table({columns[0]: mean}, "the values asked for", 1), design.memory, learn=False, strict=False
        ).make(named)
        if isinstance(made, Numeric) and len(made.names) == 1:
            out[named.name] = NamedNumber(design, named, columns[0])
    return out
