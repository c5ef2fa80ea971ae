"""What a picture of several fits shows: their average lines, and the lines of their units where these differ."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.average_lines import average_line, covariates
from bold_orchard.inference.prediction.drawing import chosen_levels, drawn_unit
from bold_orchard.inference.prediction.unit_lines import unit_lines
from bold_orchard.results.compare import Lines

Array = NDArray[Any]
POINTS = 60  # of a line: smooth at the width of a page
MOST_UNITS = 40  # lines of a panel that are still told apart
MOST_PANELS = 4  # models side by side


def compared_lines(fits: Sequence[Fit]) -> Lines | None:
    """The average lines of several fits over the first covariate that any of them has, largest first; None without one.

    Fits that differ in what varies have average lines that are nearly the same: then each unit's own line as well.
    """
    found = [c for f in reversed(fits) for c in covariates(f)]
    if not found:
        return None
    first = fits[-1].design
    x = first.table.numbers(found[0])
    at = np.linspace(float(x.min()), float(x.max()), POINTS)
    average = {f.name: average_line(f, found[0], at) for f in fits}
    return Lines(found[0], x, first.outcome_values, at, average, _units(fits, found[0]))


def _units(fits: Sequence[Fit], covariate: str) -> dict[str, list[tuple[Array, Array]]]:
    """Lines (x, y) of the same levels by each fit that has the covariate, where the fits differ in what varies."""
    able = [f for f in fits if f.design.clauses and f.design.additive and covariate in covariates(f)]
    if len(able) < 2 or len({tuple(str(e) for e in f.design.sentence.each) for f in able}) < 2:
        return {}
    out = {}
    for fit in able[-MOST_PANELS:]:
        unit = drawn_unit(fit, None, covariate)
        made = unit_lines(fit, unit, covariate, chosen_levels(unit, [], 0, MOST_UNITS))
        out[fit.name] = list(zip(made.x, made.y))
    return out
