"""Numbers that are usual codes for missing and stand far from all others of their column."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table

CODES = {-1.0, -8.0, -9.0} | {side * v for v in (88.0, 99.0, 888.0, 999.0, 9999.0, 99999.0) for side in (-1, 1)}
FAR = 3.0  # SDs of the other values between a code and the nearest of them
FEWEST = 3  # other values without which nothing is far


def suspected_codes(values: NDArray[np.float64]) -> list[float]:
    """Codes among the values (n,), NaN where missing, smallest first; they are taken off the ends one by one."""
    rest = values
    found: list[float] = []
    while True:
        if len(rest) - np.count_nonzero(np.isnan(rest)) < FEWEST:
            break
        low, high = float(np.nanmin(rest)), float(np.nanmax(rest))
        ends = [v for v in (low, high) if v in CODES]
        code = next((v for v in ends if _stands_apart(v, rest)), None)
        if code is None:
            break
        found.append(code)
        rest = rest[rest != code]
    return sorted(found)


def _stands_apart(code: float, values: NDArray[np.float64]) -> bool:
    rest = values[(values != code) & np.isfinite(values)]
    rest = rest[~np.isin(rest, [v for v in CODES if abs(v) >= abs(code) and v * code > 0])]
    if len(rest) < FEWEST:
        return False
    low, high = float(rest.min()), float(rest.max())
    span = float(rest.std()) or 1.0
    gap = low - code if code < low else code - high
    return gap > FAR * span or (code < 0 <= low and gap > 0 and len(np.unique(rest)) > 2)


def missing_option(column: str, code: float) -> str:
    """What to add to the command line so that the code counts as missing, quoted for a shell."""
    return "--missing " + shlex.quote(f"{column}={code:g}")


def suspicions(table: Table, columns: Sequence[str]) -> list[str]:
    """One sentence for each suspected code in the numeric columns."""
    out = []
    for column in columns:
        if table.kind(column) != "number":
            continue
        values = table.numbers(column)
        for code in suspected_codes(values):
            rows = int(np.count_nonzero(values == code))
            out.append(
                f"{column} is {code:g} in {rows:,} row{'s' * (rows > 1)}, far from its other values, and was taken for a number. "
                f"If that means missing, add {missing_option(column, code)}"
            )
    return out
