"""A fitted model on some of its rows: found anew, or one step of the search from where the whole fit stands."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.build import Design
from bold_orchard.design.subset import some_rows
from bold_orchard.estimation import generalized
from bold_orchard.estimation.gaussian import Fit, make_criterion, search
from bold_orchard.inference.generalized import MaximumLikelihood
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.quadrature import Quadrature
from bold_orchard.optimize.newton import Counter, Found, walk

Array = NDArray[Any]
EDGE = 1e-2
NEAR = 1e-12


def on_rows(fit: Fit, keep: NDArray[np.intp], exact: bool) -> Fit:
    """The same model, coded as before, on the rows ``keep``; of its ``result`` nothing is made anew.

    Raises OrchardError when what is left cannot be fitted.
    """
    design = some_rows(fit.design, keep)
    criterion: Any
    if design.generalized:
        laplace, points = generalized.make_laplace(design), int(fit.result["points"])
        criterion = laplace if points == 1 else Quadrature.of(laplace, points)
        start = _carried_generalized(fit, design, laplace)
    else:
        criterion = make_criterion(design, fit.criterion.reml, few=not exact)
        start = carried(fit, criterion)
    found: Any
    if not exact:
        found = _one_step(criterion, start)
    elif design.generalized:
        found = generalized.search(criterion, np.where(_at_edge(criterion, start), 0.1, start), fit.settings, None)
    else:
        found = search(criterion, np.where(_at_edge(criterion, start), EDGE, start), fit.settings)
    made = replace(fit, design=design, criterion=criterion, found=found)
    return replace(made, known=MaximumLikelihood(found)) if design.generalized else made


def _at_edge(criterion: Any, start: Array) -> NDArray[np.bool_]:
    return np.asarray(criterion.bounded & (np.abs(start) < EDGE))


def _one_step(criterion: Any, start: Array) -> Found[Any]:
    count: Counter[Any] = Counter(criterion.at)
    here, _, _ = walk(count, count(start), criterion.walls, NEAR, 1, None)
    return Found(here, True, 0.0, np.zeros((0, 0)), 1, 2, "")


def _effects(fit: Fit, structures: list[Any], frame: Any) -> list[Array]:
    """theta of each unit with the covariances of the whole fit, on another working scale."""
    e, out = fit.evaluation, [np.zeros(0)]
    for f, structure in enumerate(structures):
        to_work = frame.z_to_work[f]
        out.append(structure.of_covariance(to_work @ (e.covariance(f) / e.sigma2) @ to_work.T))
    return out


def carried(fit: Fit, criterion: Criterion) -> Array:
    """The whole fit's parameters on the scale of the rows left."""
    e = fit.evaluation
    parts = [*_effects(fit, criterion.structures, criterion.products), e.theta[e.criterion.phi]]
    return np.concatenate(parts + ([e.theta[-1:]] if criterion.absolute else []))


def _carried_generalized(fit: Fit, design: Design, laplace: Laplace) -> Array:
    point: Any = fit.evaluation
    standard, kept = laplace.rows.standard, fit.criterion.products.standard.kept
    b = np.zeros(len(design.fixed.names))
    b[kept] = point.b
    extra = point.extra.copy()
    if design.family == "ordinal":  # thresholds belong to columns centred over the rows at hand
        extra[0] += sum(b[k] * (fit.design.fixed.values[k].mean() - design.fixed.values[k].mean()) for k in kept)
    theta = _effects(fit, laplace.structures, laplace.rows.frame)
    return np.concatenate([standard.to_work @ b[standard.kept], *theta, extra])
