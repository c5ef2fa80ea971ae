"""The one pass over the rows: products of working columns, summed by level and by pairs of levels."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import RandomUnit
from bold_orchard.crossproducts.standardise import Columns

Array = NDArray[Any]
Key = tuple[int, int]
TOGETHER = 131_072  # rows added to one table of sums before the next is fetched into the cache
MOST_CELLS = 20_000_000  # cells of two units' grid that are summed in a dense table (160 MB)


@dataclass
class Sums:
    """Sums of products by ``codes`` (n,), one array (size,) per pair of columns (a, b), a <= b."""

    codes: Array
    size: int
    made: dict[Key, Array] = field(default_factory=dict)

    def want(self, a: int, b: int) -> None:
        self.made.setdefault((min(a, b), max(a, b)), np.zeros(0))

    def __getitem__(self, key: Key) -> Array:
        return self.made[min(key), max(key)]


@dataclass
class Pairs:
    """Sums by the pairs of levels of two units that occur together.

    ``first`` and ``second`` (cells,) are the levels of each cell, sorted by first, then second.
    """

    first: Array
    second: Array
    sums: Sums


def pairs_of(one: RandomUnit, two: RandomUnit) -> Pairs:
    """The cells of a crossing; all of them when the grid is small, else those that occur."""
    grid = one.levels * two.levels
    cells = one.codes * two.levels + two.codes
    if grid <= max(4 * len(cells), 1000):
        first, second = np.divmod(np.arange(grid), two.levels)
        return Pairs(first, second, Sums(cells, grid))
    if grid <= MOST_CELLS:
        present = np.zeros(grid, dtype=bool)
        present[cells] = True
        found = np.flatnonzero(present)
        rank = np.empty(grid, dtype=np.int32)
        rank[found] = np.arange(len(found))
        index = rank[cells]
    else:
        found, index = np.unique(cells, return_inverse=True)
    first, second = np.divmod(found, two.levels)
    return Pairs(first, second, Sums(index.astype(np.intp, copy=False), len(found)))


def one_pass(columns: Columns, sums: list[Sums]) -> Array:
    """Fill all sums and return the products of every column with the response, (m,)."""
    wanted: dict[Key, list[Array]] = {}
    plain = columns.root is None
    for s in sums:
        for key in s.made:
            s.made[key] = np.zeros(s.size)
            wanted.setdefault(key, [])
    order = sorted(wanted)
    response = np.zeros(len(columns))
    work = np.empty(min(columns.n, TOGETHER))
    for rows, values in columns.blocks(TOGETHER):
        response += values @ values[-1]
        for a, b in order:
            out = work[: values.shape[1]]
            product = values[b] if plain and a == 0 else np.multiply(values[a], values[b], out=out)
            for s in sums:
                if (a, b) in s.made:
                    np.add.at(s.made[a, b], s.codes[rows], product)
    return response
