"""What random signs leave open where crossed units are too many for a dense factor, in words and figures."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_orchard.estimation.model import FittedModel
from bold_orchard.likelihood.wide import IN_DEVIANCE, WideCriterion, WidePoint
from bold_orchard.results.fit import MonteCarlo

LARGE = 0.05  # of a standard error: Monte-Carlo errors beyond it are a warning


def monte_carlo(model: FittedModel[Any, Any]) -> MonteCarlo | None:
    """Standard errors of what signs estimate; None where everything is exact."""
    e = model.evaluation
    if not isinstance(e, WidePoint):
        return None
    return MonteCarlo(0.5 * e.deviance_error, _share(model, e), IN_DEVIANCE)


def _share(model: FittedModel[Any, Any], e: WidePoint) -> float | None:
    """The largest Monte-Carlo error of a covariance parameter in its own standard errors."""
    hessian = model.found.hessian
    free = ~(e.criterion.bounded & (e.theta <= 0))
    if not len(hessian) or not free.any():
        return None
    inverse = np.linalg.pinv(hessian[np.ix_(free, free)], hermitian=True)
    spread = np.diag(inverse @ e.gradient_error[np.ix_(free, free)] @ inverse)
    return float(np.sqrt(np.max(spread / np.maximum(2.0 * np.diag(inverse), 1e-300))))


def note(model: FittedModel[Any, Any], found: MonteCarlo) -> str:
    """A sentence that says what was estimated by signs, and how well."""
    criterion: WideCriterion = model.criterion
    names = " and ".join(model.design.blocks[t.unit].unit.name for t in criterion.products.wide)
    share = ""
    if found.share_of_se is not None:
        share = f" and at most {100 * found.share_of_se:.2g} % of a standard error in the variances"
    return (
        f"The {criterion.products.q:,} effects of {names}, crossed with a larger unit, are too many to factor: coefficients and effects are exact, traces "
        f"and the log-determinant come from random signs, the same in every fit. Their Monte-Carlo error is {found.loglik:.1g} in the "
        f"log-likelihood{share}; standard errors of single effects are good to a few hundredths of themselves."
    )
