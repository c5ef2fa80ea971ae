"""Average lines: what the fixed part says along one covariate, everything else held."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.coefficients.curves import with_curves
from bold_orchard.inference.coefficients.reference_grid import ReferenceGrid
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.tree import columns_of

Array = NDArray[Any]
POINTS = 40  # of a line


def covariates(fit: Fit) -> list[str]:
    """Numeric columns of the fixed part that are not used as categories, in the order of the sentence."""
    known = {c.name for c in columns_of(fit.design.fixed.terms, units=False)}
    return [c for c in ReferenceGrid(fit).means if c in known]


def average_line(fit: Fit, covariate: str, values: Array) -> Array:
    """The fixed part at each value of a covariate, categories weighted equally, other covariates at their means."""
    grid = ReferenceGrid(fit)
    rows, offset = grid.rows([{covariate: float(v)} for v in values])
    return np.asarray(grid.kept(rows) @ with_curves(fit, fit.known).b + offset)


def places(fit: Fit, along: str) -> tuple[Array, tuple[str, ...]]:
    """The predictor as numbers over the rows (n,), and the names of its places if it is a category."""
    if along in covariates(fit):
        return fit.design.table.numbers(along), ()
    texts, place = fit.design.table.labels(along).ordered
    return place[fit.design.table.labels(along).codes].astype(float), tuple(texts)
