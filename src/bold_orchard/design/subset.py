"""A design on some of its rows, coded as on all of them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.build import Design, UnitCodes
from bold_orchard.design.model_matrix import Part
from bold_orchard.design.residual import ResidualPart

Array = NDArray[Any]


def some_rows(design: Design, keep: NDArray[np.intp]) -> Design:
    """Only the rows ``keep`` (positions): means, knots and baselines stay those of all rows; empty levels are dropped.

    Levels whose covariance with the others is known keep their numbers, rows or not.
    """
    moved: dict[int, Array] = {}

    def take(values: Array) -> Array:
        if id(values) not in moved:
            moved[id(values)] = values[keep]
        return moved[id(values)]

    def part(p: Part) -> Part:
        return replace(p, values=tuple(take(v) for v in p.values))

    made: dict[tuple[int, bool], UnitCodes] = {}

    def unit(u: UnitCodes, whole: bool) -> UnitCodes:
        if (id(u), whole) not in made:
            made[id(u), whole] = replace(u, codes=u.codes[keep]) if whole else _fewer(u, keep)
        return made[id(u), whole]

    known = {id(b.unit) for b in design.blocks if b.mix is not None}
    return replace(
        design,
        table=design.table.take(keep),
        y=take(design.y),
        fixed=part(design.fixed),
        offset=None if design.offset is None else take(design.offset),
        weights=None if design.weights is None else take(design.weights),
        trials=None if design.trials is None else take(design.trials),
        units=tuple(unit(u, id(u) in known) for u in design.units),
        clauses=tuple(replace(c, part=part(c.part)) for c in design.clauses),
        blocks=tuple(replace(b, unit=unit(b.unit, b.mix is not None)) for b in design.blocks),
        residual=_residual(design.residual, keep),
    )


def _fewer(u: UnitCodes, keep: NDArray[np.intp]) -> UnitCodes:
    """The levels that still have rows, numbered anew."""
    present, codes = np.unique(u.codes[keep], return_inverse=True)
    texts = u.texts
    labels = tuple(texts[i] for i in present)
    return UnitCodes(u.name, codes.ravel().astype(np.intp), len(present), (), labels)


def _residual(residual: ResidualPart, keep: NDArray[np.intp]) -> ResidualPart:
    spread = residual.spread
    if spread is not None:
        spread = replace(spread, values=tuple(v[keep] for v in spread.values))
    codes = None if residual.codes is None else np.unique(residual.codes[keep], return_inverse=True)[1].ravel()
    return replace(residual, codes=codes, time=None if residual.time is None else residual.time[keep], spread=spread)
