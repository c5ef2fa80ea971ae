"""The one door to estimation: a design goes in, a fitted model comes out."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian import fit_gaussian, reopened_gaussian
from bold_orchard.estimation.model import FittedModel
from bold_orchard.estimation.options import BROKE, SearchOptions
from bold_orchard.optimize.protocol import OptimizeResult

Array = NDArray[Any]


@np.errstate(all="ignore")  # what overflows is judged where it is used
def estimate(
    design: Design, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> FittedModel[Any, Any]:
    """Estimate a design by its exact likelihood where the outcome adds a residual, else by Laplace or quadrature.

    A model whose search did not converge is returned with ``converged`` False. Raises OrchardError for a design that cannot
    be estimated or a likelihood that cannot be followed, UsageError for options it does not have.
    """
    try:
        if design.random_spread:
            from bold_orchard.estimation.random_spread import fit_spread

            return fit_spread(design, options, progress)
        if design.additive:
            return fit_gaussian(design, options, progress)
        from bold_orchard.estimation.generalized import fit_generalized

        return fit_generalized(design, options, progress)
    except np.linalg.LinAlgError:
        raise OrchardError(BROKE) from None


def reopen(
    design: Design, options: SearchOptions, theta: Array, points: int, ended: OptimizeResult[Any]
) -> FittedModel[Any, Any]:
    """A model taken up again at estimates ``theta`` without a search; ``ended`` says how its search did."""
    if design.random_spread:
        from bold_orchard.estimation.random_spread import reopened_spread

        return reopened_spread(design, options, theta, points, ended)
    if design.additive:
        return reopened_gaussian(design, options, theta, ended)
    from bold_orchard.estimation.generalized import reopened_generalized

    return reopened_generalized(design, options, theta, points, ended)


def hessian_of(kept: list[list[float]] | None, m: int) -> Array:
    """A Hessian (m, m) out of lists; empty where none was kept."""
    return np.asarray(kept, dtype=float).reshape((m, m)) if kept else np.zeros((0, 0))
