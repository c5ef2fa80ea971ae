"""Numbers that are usual codes for missing and stand far from all others of their column."""

from __future__ import annotations

import math
import shlex
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table

CODES = {-1.0, -8.0, -9.0} | {side * v for v in (88.0, 99.0, 888.0, 999.0, 9999.0, 99999.0) for side in (-1, 1)}
FAR = 3.0  # SDs of the other values between a code and the nearest of them
FEWEST = 3  # other values without which nothing is far
ROWS = 1 << 17  # values looked at together: they fit the processor's cache


class Seen:
    """Number, mean, squares and ends of some values; codes at their ends are counted apart, each under its own number.

    ``between`` says whether a value lies strictly between the ends, ``whole`` whether all are whole numbers. What two runs of
    rows show joins to what both show (Chan, Golub & LeVeque 1979).
    """

    def __init__(self) -> None:
        self.n, self.mean, self.square = 0, 0.0, 0.0
        self.low, self.high, self.between, self.whole = math.inf, -math.inf, False, True
        self.codes: dict[float, int] = {}

    @classmethod
    def of(cls, values: NDArray[Any]) -> Seen:
        """Of values (n,), NaN where missing."""
        made = cls()
        made.add(values)
        return made

    @classmethod
    def repeated(cls, value: float, n: int) -> Seen:
        """Of one value, ``n`` times."""
        made = cls()
        made.n, made.mean, made.low, made.high = n, value, value, value
        return made

    def add(self, values: NDArray[Any]) -> None:
        """More values (n,), NaN where missing."""
        for start in range(0, len(values), ROWS):
            self._add_run(values[start : start + ROWS])

    def _add_run(self, rest: NDArray[Any]) -> None:
        made = Seen()
        while len(rest):
            low, high = float(rest.min()), float(rest.max())
            if not np.isfinite(high - low):  # a missing value is the least and the largest
                known = np.isfinite(rest)
                if not known.all():
                    rest = rest[known]
                    continue
            code = next((v for v in (low, high) if v in CODES), None)
            if code is None:
                made.n, made.low, made.high = len(rest), low, high
                made._take_middle(rest)
                break
            left = rest[rest != code]
            made.codes[code] = len(rest) - len(left)
            rest = left
        self.join(made)

    def _take_middle(self, rest: NDArray[Any]) -> None:
        self.mean = float(rest.mean())
        away = np.subtract(rest, self.mean, dtype=float)
        self.square = float(away @ away)
        for part in (rest[:100], rest):
            self.between = self.between or bool(((part > self.low) & (part < self.high)).any())
            self.whole = self.whole and (part.dtype.kind != "f" or np.array_equal(part, np.round(part)))

    def join(self, other: Seen) -> None:
        """Take up what other rows show."""
        self._join_rest(other)
        for code, rows in other.codes.items():
            self.codes[code] = self.codes.get(code, 0) + rows

    def _join_rest(self, other: Seen) -> None:
        total = self.n + other.n
        if not other.n:
            return
        away = other.mean - self.mean
        self.square += other.square + away**2 * self.n * other.n / total
        self.mean += away * other.n / total
        low, high = min(self.low, other.low), max(self.high, other.high)
        ends = [v for x in (self, other) if x.n for v in (x.low, x.high)]
        self.between = self.between or other.between or any(low < v < high for v in ends)
        self.n, self.low, self.high, self.whole = total, low, high, self.whole and other.whole

    def without(self, left_out: Sequence[float]) -> Seen:
        """All values, codes too, but for those left out, as one; it knows no codes."""
        made = Seen()
        made._join_rest(self)
        for code, rows in sorted(self.codes.items()):
            if code not in left_out:
                made._join_rest(Seen.repeated(code, rows))
        return made

    def suspected(self) -> dict[float, int]:
        """Codes and their rows, smallest first; they are taken off the ends one by one."""
        found: list[float] = []
        while True:
            rest = self.without(found)
            if rest.n < FEWEST:
                break
            code = next((v for v in (rest.low, rest.high) if v in self.codes and self._stands_apart(v, found)), None)
            if code is None:
                break
            found.append(code)
        return {code: self.codes[code] for code in sorted(found)}

    def _stands_apart(self, code: float, found: Sequence[float]) -> bool:
        """Whether a code lies far from all values but those found and codes farther out on its side."""
        rest = self.without([*found, *(v for v in CODES if abs(v) >= abs(code) and v * code > 0)])
        if rest.n < FEWEST:
            return False
        gap = rest.low - code if code < rest.low else code - rest.high
        sd = math.sqrt(rest.square / rest.n) or 1.0
        return gap > FAR * sd or (code < 0 <= rest.low and gap > 0 and rest.between)


def missing_option(column: str, code: float) -> str:
    """What to add to the command line so that the code counts as missing, quoted for a shell."""
    return "--missing " + shlex.quote(f"{column}={code:g}")


def see(table: Table, columns: Sequence[str], seen: dict[str, Seen]) -> dict[str, Seen]:
    """Take up the rows of a table; returns ``seen``, by numeric column."""
    for column in columns:
        if table.kind(column) == "number":
            seen.setdefault(column, Seen()).add(np.asarray(table.column(column)))
    return seen


def ends(seen: dict[str, Seen]) -> dict[str, tuple[float, float]]:
    """The least and the largest value of each column."""
    every = {column: values.without([]) for column, values in seen.items()}
    return {column: (values.low, values.high) for column, values in every.items() if values.n}


def suspicions(seen: dict[str, Seen]) -> list[str]:
    """One sentence for each suspected code of the columns."""
    return [
        f"{column} is {code:g} in {rows:,} row{'s' * (rows > 1)}, far from its other values, and was taken for a number. "
        f"If that means missing, add {missing_option(column, code)}"
        for column, values in seen.items()
        for code, rows in values.suspected().items()
    ]
