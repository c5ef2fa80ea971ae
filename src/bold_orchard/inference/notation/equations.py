"""A model written out: level by level, and in one line."""

from __future__ import annotations

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.notation.several_predictors import SeveralWriter
from bold_orchard.inference.notation.writer import Writer
from bold_orchard.results.equations import EquationsResult


def equations(fit: Fit, estimates: bool = False, digits: int = 4) -> EquationsResult:
    """The document of ``orchard equations``; with ``estimates`` numbers stand in place of the coefficients and variances."""
    if fit.design.predictors:
        return SeveralWriter(fit, estimates, digits).document()
    return Writer(fit, estimates, digits).document()
