"""The numeric model handed to the likelihood: arrays only, no column names."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.covariance.residuals.base import RowCovariance

Array = NDArray[Any]
Codes = NDArray[np.intp]


@dataclass(frozen=True)
class RandomBlock:
    """The columns of one ``each`` clause, by number; ``constant`` is the position of its intercept, if any."""

    columns: tuple[int, ...]
    structure: Structure
    constant: int | None


@dataclass(frozen=True)
class RandomUnit:
    """One grouping unit: ``codes`` (n,) in 0..levels-1 and its independent blocks.

    ``relationship_factor`` (levels, levels) is the lower factor of a known covariance between levels, None for independent ones.
    """

    codes: Codes
    levels: int
    blocks: tuple[RandomBlock, ...]
    relationship_factor: Array | None = None

    @property
    def size(self) -> int:
        return sum(len(b.columns) for b in self.blocks)


@dataclass(frozen=True)
class Arrays:
    """``y`` (n,), the distinct ``columns`` of X and Z, each (n,), ``x`` the numbers of the p columns of X (the intercept first
    when ``intercept``), ``weights`` (n,) or None.

    Rows that stand for several are ``count`` in all, and their weights are those numbers.
    With ``rows``, a covariance of the residuals, rows stand sorted as it needs; ``within`` (n,) numbers its units.
    """

    y: Array
    columns: tuple[Array, ...]
    x: tuple[int, ...]
    intercept: bool
    units: tuple[RandomUnit, ...]
    weights: Array | None = None
    rows: RowCovariance | None = None
    within: Codes | None = None
    count: int | None = None

    @property
    def n(self) -> int:
        return len(self.y)
