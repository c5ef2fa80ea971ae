"""Products of units crossed so widely that their joint part is kept sparse: cells that hold rows, nothing dense.

One stage (the unit of most levels) is eliminated exactly; all other units form the tail, whose vectors (q, w) hold the effects of a
level side by side, level after level, unit after unit.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays
from bold_orchard.crossproducts.assemble import Builder, combine, framed, gram_of_w, picks_of_w
from bold_orchard.crossproducts.row_sums import one_pass
from bold_orchard.crossproducts.stages import CrossProducts, Stage

Array = NDArray[Any]
PARTS = 4  # runs of the stage's levels that processors work on at the same time; as many on every machine


@dataclass
class WideTail:
    """One unit of the tail: its place ``at`` in vectors, ``own`` (levels, k, k) = Z'Z by level, ``right`` (levels k, w) = Z'[X y].

    ``first``, ``second`` (cells,) are the stage's level and its own of each cell, sorted by both, ``cells`` (k0, k, cells) the products.
    """

    unit: int
    levels: int
    size: int
    at: slice
    own: Array
    right: Array
    first: Array
    second: Array
    cells: Array


@dataclass
class Run:
    """Some levels of the stage: ``levels`` of them, and for each of its effects the cells as a sparse matrix (levels, q)."""

    levels: slice
    matrices: list[Any]


@dataclass
class WideProducts(CrossProducts):
    """``dense`` holds [X y]'[X y] alone; ``between`` (q, q), sparse, the products of different units of the tail."""

    wide: list[WideTail] = field(default_factory=list)
    between: Any = None

    @property
    def stage(self) -> Stage:
        return self.stages[0]

    @cached_property
    def right(self) -> Array:
        """Z'[X y] of the tail, (q, w)."""
        return np.concatenate([t.right for t in self.wide])

    @cached_property
    def runs(self) -> list[Run]:
        """The cells in runs of the stage's levels."""
        edges = np.linspace(0, self.stage.levels, PARTS + 1).astype(int)
        return [self._run(slice(int(a), int(b))) for a, b in pairwise(edges) if b > a]

    @cached_property
    def cells(self) -> list[Any]:
        """The same for each of the stage's effects as one sparse matrix (J, q)."""
        from scipy import sparse

        return [sparse.vstack([run.matrices[a] for run in self.runs], format="csr") for a in range(self.stage.size)]

    def _run(self, levels: slice) -> Run:
        from scipy import sparse

        matrices = []
        for a in range(self.stage.size):
            parts = []
            for t in self.wide:
                cells = slice(*np.searchsorted(t.first, [levels.start, levels.stop]))
                ends = np.searchsorted(t.first[cells], np.arange(levels.start, levels.stop + 1))
                columns = (t.second[cells, None] * t.size + np.arange(t.size)).ravel()
                shape = (levels.stop - levels.start, t.levels * t.size)
                parts.append(sparse.csr_array((t.cells[a][:, cells].T.ravel(), columns, ends * t.size), shape=shape))
            made = parts[0] if len(parts) == 1 else sparse.hstack(parts, format="csr")
            made.indices, made.indptr = made.indices.astype(np.int32), made.indptr.astype(np.int32)
            matrices.append(made)
        return Run(levels, matrices)


def wide_products(model: Arrays) -> WideProducts:
    """Every product summed in one pass; nothing of the size of the tail squared is made."""
    frame, works, chain = framed(model)
    builder = Builder(model.units, chain, frame.tails, works, picks_of_w(frame.standard))
    builder.plan()
    gram = gram_of_w(frame.standard, one_pass(frame.standard.columns, builder.all_sums()))
    f = chain[0]
    unit = builder.units[f]
    own, right = builder.block(f, works[f]), builder.block(f, builder.w)
    stage = Stage(f, unit.levels, unit.size, own, right, {}, {}, np.arange(unit.levels))
    tails, at = [], 0
    for t in frame.tails:
        sums, pairs = builder.levels[t.unit], builder.pairs[f, t.unit]
        cells = combine(pairs.sums, works[f], works[t.unit])
        keep = slice(None) if cells.shape[2] < 1 or cells.any(axis=(0, 1)).all() else cells.any(axis=(0, 1))
        place = slice(at, at + t.levels * t.size)
        at = place.stop
        with_w = combine(sums, works[t.unit], builder.w).transpose(2, 0, 1).reshape(-1, len(gram))
        within = combine(sums, works[t.unit], works[t.unit]).transpose(2, 0, 1)
        tails.append(
            WideTail(t.unit, t.levels, t.size, place, np.ascontiguousarray(within), with_w,
                     pairs.first[keep], pairs.second[keep], np.ascontiguousarray(cells[:, :, keep]))
        )  # fmt: skip
    between = _between(builder, tails, at)
    values = {x.name: getattr(frame, x.name) for x in fields(CrossProducts)}
    return WideProducts(**values | {"stages": [stage], "dense": gram}, wide=tails, between=between)


def _between(builder: Builder, tails: list[WideTail], q: int) -> Any:
    """Products of different units of the tail, (q, q), both triangles; None where there is one unit."""
    if len(tails) < 2:
        return None
    from scipy import sparse

    rows, columns, values = [], [], []
    for t in tails:
        for s in tails:
            if s.unit <= t.unit:
                continue
            pairs = builder.pairs[s.unit, t.unit]
            cells = combine(pairs.sums, builder.works[s.unit], builder.works[t.unit])
            for a in range(s.size):
                for b in range(t.size):
                    one = s.at.start + pairs.first * s.size + a
                    two = t.at.start + pairs.second * t.size + b
                    rows += [one, two]
                    columns += [two, one]
                    values += [cells[a, b], cells[a, b]]
    made = sparse.coo_array((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=(q, q))
    return made.tocsr()
