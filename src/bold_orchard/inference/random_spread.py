"""What models with a residual spread of each unit's own answer in their own way."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood
from bold_orchard.inference.coefficients.methods import precision
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.summary import number, residual_part, residual_variance, spread_rows
from bold_orchard.inference.trouble import Trouble, trouble_of
from bold_orchard.results.notes import Note

Array = NDArray[Any]


@precision.register
def _(model: SpreadModel, method: str) -> CoefficientInference:
    if method not in ("satterthwaite", "normal"):
        raise UsageError(
            f"--df {method} is for models in which all units scatter alike; tests here use the normal: --df normal"
        )
    return MaximumLikelihood(model)


@residual_part.register
def _(model: SpreadModel) -> dict[str, Any]:
    """The residuals of a unit whose own spread is the average one."""
    design, e = model.design, model.evaluation
    c = e.criterion
    variance = residual_variance(design, c, e.theta[c.phi], e.row_variance)
    parameters: dict[str, Any] = {}
    if design.residual.spread is not None:
        covariance = MaximumLikelihood(model).parameter_covariance
        parameters["spread"] = spread_rows(design, e.theta[c.phi], np.diag(covariance)[c.phi])
    return {
        "variance": number(variance),
        "sd": number(np.sqrt(variance)),
        "structure": design.residual.kind,
        "unit": None,
        "parameters": parameters,
    }


@trouble_of.register
def _(model: SpreadModel) -> Trouble:
    """Nothing is wrong; what the spread is stands above the tables."""
    design = model.design
    clause = next(c for c in design.clauses if c.has_spread)
    unit, names = design.units[clause.unit].name, clause.part.names
    g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns]
    at = names.index("spread")
    sd = float(np.sqrt(max(g[at, at], 0.0)))
    remarks = [
        Note(
            f"This model is fitted by maximum likelihood (there is no REML of it). Every {unit} has a residual SD of its own: its log "
            f"varies with SD {sd:.3g}, so that two thirds of the {unit}s have between {np.exp(-sd):.3g} and {np.exp(sd):.3g} times the "
            "typical residual SD. Variances and shares are those of a typical one.",
            "random spread",
        )
    ]
    return Trouble((), True, tuple(remarks))
