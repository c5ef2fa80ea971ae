"""The numeric model handed to the likelihood: arrays only, no column names."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance import Structure

Array = NDArray[Any]
Codes = NDArray[np.intp]


@dataclass(frozen=True)
class RandomBlock:
    """The columns of one ``each`` clause; ``constant`` is the position of its intercept, if any."""

    columns: tuple[Array, ...]
    structure: Structure
    constant: int | None


@dataclass(frozen=True)
class RandomUnit:
    """One grouping unit: ``codes`` (n,) in 0..levels-1 and its independent blocks."""

    codes: Codes
    levels: int
    blocks: tuple[RandomBlock, ...]

    @property
    def size(self) -> int:
        return sum(len(b.columns) for b in self.blocks)


@dataclass(frozen=True)
class Arrays:
    """``y`` (n,), ``x`` the p columns of X (the intercept first when ``intercept``), ``weights`` (n,) or None."""

    y: Array
    x: tuple[Array, ...]
    intercept: bool
    units: tuple[RandomUnit, ...]
    weights: Array | None = None

    @property
    def n(self) -> int:
        return len(self.y)
