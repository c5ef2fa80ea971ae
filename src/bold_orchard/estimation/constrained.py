"""The same model with the coefficients confined to a subspace, fitted by maximum likelihood: for likelihood-ratio tests."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.gaussian import Fit, make_criterion, search

Array = NDArray[Any]


def confined(fit: Fit, basis: Array) -> float:
    """Deviance with b = basis @ c, basis (p', m) on the kept coefficients; Laplace or quadrature as in the fit."""
    design, kept = fit.design, fit.criterion.products.standard.kept
    x = np.column_stack([design.fixed.values[k] for k in kept]) @ basis
    names = tuple(f"column {i}" for i in range(x.shape[1]))
    part = replace(
        design.fixed,
        terms=design.fixed.terms[:0],
        names=names,
        labels=names,
        values=tuple(x.T.copy()),
        owner=(0,) * len(names),
    )
    smaller = replace(design, fixed=part)
    if design.generalized:
        from bold_orchard.estimation.generalized import deviance_of

        return deviance_of(smaller, fit.settings, int(fit.result["points"]))
    criterion = make_criterion(smaller, reml=False)
    start = np.where(criterion.bounded, np.maximum(fit.evaluation.theta, 1e-2), fit.evaluation.theta)
    return search(criterion, start, fit.settings).point.deviance
