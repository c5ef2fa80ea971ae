"""Average lines: what the fixed part says along one covariate, everything else held."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.coefficients.reference_grid import ReferenceGrid
from bold_orchard.inference.fit import Fit
from bold_orchard.results.compare import Lines
from bold_orchard.sentence.tree import columns_of

Array = NDArray[Any]
POINTS = 60  # of a line: smooth at the width of a page


def covariates(fit: Fit) -> list[str]:
    """Numeric columns of the fixed part that are not used as categories, in the order of the sentence."""
    known = {c.name for c in columns_of(fit.design.fixed.terms, units=False)}
    return [c for c in ReferenceGrid(fit).means if c in known]


def average_line(fit: Fit, covariate: str, values: Array) -> Array:
    """The fixed part at each value of a covariate, categories weighted equally, other covariates at their means."""
    grid = ReferenceGrid(fit)
    rows, offset = grid.rows([{covariate: float(v)} for v in values])
    return np.asarray(grid.kept(rows) @ fit.evaluation.b + offset)


def compared_lines(fits: Sequence[Fit]) -> Lines | None:
    """The average lines of several fits over the first covariate that any of them has, largest first; None without one."""
    found = [c for f in reversed(fits) for c in covariates(f)]
    if not found:
        return None
    first = fits[-1].design
    x = first.table.numbers(found[0])
    at = np.linspace(float(x.min()), float(x.max()), POINTS)
    return Lines(found[0], x, first.outcome_values, at, {f.name: average_line(f, found[0], at) for f in fits})
