"""The road from a fitted model to standard errors and degrees of freedom, by name."""

from __future__ import annotations

from functools import singledispatch

from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.coefficients.kenward_roger import KenwardRoger, check_reach
from bold_orchard.inference.coefficients.precision import CoefficientInference, Residual
from bold_orchard.inference.coefficients.satterthwaite import ObservedInformation

METHODS: dict[str, type[CoefficientInference]] = {
    "satterthwaite": ObservedInformation,
    "kenward-roger": KenwardRoger,
    "residual": Residual,
    "normal": CoefficientInference,
}


@singledispatch
def precision(model: object, method: str) -> CoefficientInference:
    """Standard errors and denominators by one of METHODS; raises UsageError where the model does not have it."""
    raise NotImplementedError(type(model).__name__)


@precision.register
def _(model: GaussianModel, method: str) -> CoefficientInference:
    if method == "kenward-roger":
        check_reach(model.criterion)
        if not model.criterion.linear:
            from bold_orchard.inference.coefficients.kenward_roger_beyond import BeyondLinear

            return BeyondLinear(model)
    return METHODS[method](model)
