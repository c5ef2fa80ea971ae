"""Rows on disk laid out in parts, for a likelihood that sweeps over them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import Arrays, RandomUnit
from bold_orchard.crossproducts.assemble import split, working_effects
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.standardise import Standard, standardise
from bold_orchard.crossproducts.weighted import Weighted
from bold_orchard.data.on_disk import full
from bold_orchard.design.beyond_sums import CROSSING
from bold_orchard.errors import OrchardError
from bold_orchard.families.base import Family
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.swept import Rows, Stored, Swept

Array = NDArray[Any]
AT_ONCE = 200_000  # rows of a part: some fifty megabytes of work


def swept(arrays: Arrays, family: Family, offset: Array | None) -> Swept:
    """The likelihood by sweeps; raises OrchardError for units that cross, a disk without room."""
    chain, tail = split(arrays)
    if tail:
        raise OrchardError(CROSSING)
    standard = standardise(arrays)
    frame = CrossProducts(
        n=arrays.n, p=len(standard.x), standard=standard, stages=[], tails=[], dense=np.zeros((0, 0)),
        z_to_work={f: working_effects(u, standard)[0] for f, u in enumerate(arrays.units)}, units=arrays.units,
    )  # fmt: skip
    stored, levels = Stored(), []
    try:
        for keep in parts_of_rows(arrays, chain):
            part, present = part_of(arrays, standard, family, offset, keep)
            stored.add(part)
            levels.append(present)
    except OSError as e:
        raise full(e) from None
    return Swept(Rows(frame, chain), family, offset, stored, tuple(levels))


def part_of(
    arrays: Arrays, standard: Standard, family: Family, offset: Array | None, keep: Array
) -> tuple[Laplace, tuple[Array, ...]]:
    """The likelihood of the rows ``keep``, whose parameters mean what those of all rows mean; and which levels of each unit these have."""
    own, present = _some_rows(arrays, keep)
    rows = Weighted(own, _over(standard, keep))
    order = keep[rows.order]
    return Laplace(rows, family.on(family.data.take(order)), None if offset is None else offset[order]), present


def parts_of_rows(arrays: Arrays, chain: list[int]) -> Iterator[Array]:
    """Rows with whole levels of the top unit, some ``AT_ONCE`` together, in the order of the table."""
    if not chain:
        yield from (np.arange(at, min(at + AT_ONCE, arrays.n)) for at in range(0, arrays.n, AT_ONCE))
        return
    top = arrays.units[chain[-1]]
    counts = np.bincount(top.codes, minlength=top.levels)
    part = (np.cumsum(counts) - counts) // AT_ONCE
    part_of_row = part.astype(np.int32)[top.codes]
    for k in np.unique(part):
        keep = np.flatnonzero(part_of_row == k)
        if len(keep):
            yield keep


def _some_rows(arrays: Arrays, keep: Array) -> tuple[Arrays, tuple[Array, ...]]:
    """Only some rows, and which levels of each unit these have; the others are dropped."""
    units, held = [], []
    for unit in arrays.units:
        present, codes = np.unique(unit.codes[keep], return_inverse=True)
        units.append(RandomUnit(codes.ravel().astype(np.intp), len(present), unit.blocks))
        held.append(present)
    columns = tuple(np.array(c[keep]) for c in arrays.columns)
    return replace(arrays, y=np.array(arrays.y[keep]), columns=columns, units=tuple(units)), tuple(held)


def _over(standard: Standard, keep: Array) -> Standard:
    """The standard of all rows, over some of them."""
    c = standard.columns
    sources = tuple(None if s is None else np.array(s[keep]) for s in c.sources)
    return replace(standard, columns=replace(c, sources=sources, n=len(keep)))
