"""One outcome on several scales, y and log(y): likelihoods brought to the scale of the column itself.

A density of z = f(y) is one of y when it is multiplied by |dz/dy| (the Jacobian of the change of variable).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.evaluate import evaluate
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.tree import Column, Named, columns_of

Array = NDArray[Any]
STEP = 1e-5  # part of a value by which a function of it is differenced: the error is of the tenth digit


def common_column(fits: Sequence[Fit]) -> str:
    """The one column that all outcomes are functions of. Raises OrchardError where there is none, or they are no densities."""
    columns = {c.name for f in fits for c in columns_of(f.design.sentence.outcome)}
    one = len(columns) == 1 and all(f.model.family.measure == "measurements" for f in fits)
    if not one or any(f.design.offset is not None for f in fits):
        first, other = fits[0], next(f for f in fits if f.design.outcome != fits[0].design.outcome)
        raise OrchardError(
            f"'{first.name}' explains {first.design.outcome} and '{other.name}' {other.design.outcome}; "
            "likelihoods of different outcomes cannot be compared"
        )
    return columns.pop()


def log_jacobian(fit: Fit, column: str) -> float:
    """Sum over the rows of log |d outcome / d column|; raises OrchardError where the outcome does not rise or fall with it."""
    if isinstance(fit.design.sentence.outcome.value, Column):
        return 0.0
    y = fit.design.table.numbers(column)
    h = STEP * np.maximum(np.abs(y), STEP * max(float(np.abs(y).max()), 1e-300))

    def outcome(values: Array) -> Array:
        def numbers(c: Any) -> Array:
            return evaluate(c.factor, numbers) if isinstance(c, Named) else values

        return np.asarray(evaluate(fit.design.sentence.outcome.value, numbers), dtype=float)

    slope = (outcome(y + h) - outcome(y - h)) / (2.0 * h)
    if not np.all(np.isfinite(slope)) or not (np.all(slope > 0) or np.all(slope < 0)):
        raise OrchardError(
            f"'{fit.name}' explains {fit.design.outcome}, which neither rises nor falls with {column} in every row, so its "
            "likelihood has no place on that scale"
        )
    return float(np.log(np.abs(slope)).sum())
