"""What one pass over the rows leaves: the products of all columns, summed by unit."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import RandomUnit
from bold_orchard.crossproducts.cells import Crossing
from bold_orchard.crossproducts.standardise import Standard

Array = NDArray[Any]


@dataclass
class Stage:
    """One unit of the chain, J levels, k effects each, levels sorted by their parents.

    ``c`` (k, k, J) is Z'Z per level; ``right`` (k, r, J) is Z' times the columns eliminated later: k_g
    columns for each later unit g of the chain (those of the level's own parent), then the tail unless
    ``crossing`` holds it, then [X y]. ``starts[g]`` are the first levels of each level of g.
    """

    unit: int
    levels: int
    size: int
    c: Array
    right: Array
    slices: dict[int, slice]
    starts: dict[int, Array]
    order: Array
    crossing: Crossing | None = None

    def up(self, g: int, values: Array) -> Array:
        """Sum (..., J) over the levels of stage ``g``."""
        return np.add.reduceat(values, self.starts[g], axis=-1)

    def down(self, g: int, values: Array) -> Array:
        """Repeat (..., J_g) for every child level."""
        counts = np.diff(np.append(self.starts[g], self.levels))
        return np.repeat(values, counts, axis=-1)


@dataclass
class Tail:
    """A unit outside the chain; its effects are ``columns`` of the dense part, ordered (effect, level)."""

    unit: int
    levels: int
    size: int
    columns: slice
    order: Array


@dataclass
class CrossProducts:
    """All the likelihood needs of the data.

    ``dense`` (d, d) holds the products of the tail's and [X y]'s columns; X and the response are on the working
    scale of ``standard``. ``z_to_work[f]`` (k, k) maps user effects of unit f to working effects.
    ``log_weights`` is the sum of log weights, ``uneven`` the largest over the smallest.
    """

    n: int
    p: int
    standard: Standard
    stages: list[Stage]
    tails: list[Tail]
    dense: Array
    z_to_work: dict[int, Array]
    log_weights: float = 0.0
    uneven: float = 1.0
    units: tuple[RandomUnit, ...] = field(default=(), repr=False)

    @property
    def q(self) -> int:
        """Number of dense tail columns."""
        return sum(t.levels * t.size for t in self.tails)
