"""A design on some of its rows, coded as on all of them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design, UnitCodes
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.residual import ResidualPart

Array = NDArray[Any]


def some_rows(design: Design, keep: NDArray[np.intp], whole_units: bool = False) -> Design:
    """Only the rows ``keep`` (positions): means, knots and baselines stay those of all rows; empty levels are dropped.

    Levels whose covariance with the others is known keep their numbers, rows or not; with ``whole_units`` all levels do.
    """

    def part(p: ModelMatrix) -> ModelMatrix:
        return replace(p, values=tuple(v[keep] for v in p.values))

    whole = {b.unit.name for b in design.blocks if b.relationship_factor is not None}

    def unit(u: UnitCodes, known: bool) -> UnitCodes:
        return replace(u, codes=u.codes[keep]) if known or whole_units else _fewer(u, keep)

    return replace(
        design,
        table=design.table.take(keep),
        y=design.y[keep],
        fixed=part(design.fixed),
        offset=None if design.offset is None else design.offset[keep],
        weights=None if design.weights is None else design.weights[keep],
        trials=None if design.trials is None else design.trials[keep],
        limits=None if design.limits is None else (design.limits[0][keep], design.limits[1][keep]),
        units=tuple(unit(u, u.name in whole) for u in design.units),
        clauses=tuple(
            replace(c, part=part(c.part), vary=None if c.vary is None else part(c.vary)) for c in design.clauses
        ),
        blocks=tuple(replace(b, unit=unit(b.unit, b.relationship_factor is not None)) for b in design.blocks),
        residual=_residual(design.residual, keep),
    )


def _fewer(u: UnitCodes, keep: NDArray[np.intp]) -> UnitCodes:
    """The levels that still have rows, numbered anew."""
    present, codes = np.unique(u.codes[keep], return_inverse=True)
    texts = u.texts
    labels = tuple(texts[i] for i in present)
    return UnitCodes(u.name, codes.ravel().astype(np.intp), len(present), (), labels, u.curve)


def _residual(residual: ResidualPart, keep: NDArray[np.intp]) -> ResidualPart:
    spread = residual.spread
    if spread is not None:
        spread = replace(spread, values=tuple(v[keep] for v in spread.values))
    codes = None if residual.codes is None else np.unique(residual.codes[keep], return_inverse=True)[1].ravel()
    time, level = (None if v is None else v[keep] for v in (residual.time, residual.level))
    return replace(residual, codes=codes, time=time, spread=spread, level=level)
