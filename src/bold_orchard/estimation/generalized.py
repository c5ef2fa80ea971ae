"""The maker of models whose outcome is not gaussian: Laplace's approximation, or quadrature."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.generalized_search import (
    EXACT,
    check_points,
    enough_points,
    from_other_scales,
    make_laplace,
    sampled_start,
    search,
    starting_point,
    with_points,
)
from bold_orchard.estimation.model import EDGE, FittedModel, one_step
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.point import LaplacePoint
from bold_orchard.optimize.protocol import OptimizeResult

Array = NDArray[Any]


@dataclass(frozen=True)
class GeneralizedModel(FittedModel[Laplace, LaplacePoint]):
    """Estimated by maximum likelihood; coefficients, variances and the family's own parameters are sought together."""

    @property
    def method(self) -> str:
        return "Laplace" if self.points == 1 else "quadrature"

    @property
    def n_parameters(self) -> int:
        return len(self.evaluation.theta)

    @property
    def extra(self) -> Array:
        return self.evaluation.extra

    def again(self, y: Array) -> OptimizeResult[LaplacePoint]:
        if len(y) != len(self.design.y):  # as another model of the rows has it, with more or fewer linear predictors
            y = np.repeat(y[:: max(len(y) // self.design.n_rows, 1)], max(len(self.design.predictors), 1))
        criterion = with_points(make_laplace(replace(self.design, y=y)), self.points)
        theta = self.evaluation.theta
        start = np.where(criterion.bounded & (np.abs(theta) < EDGE), 10 * EDGE, theta)
        return search(criterion, start, self.options, None)

    def on_rows(self, keep: NDArray[np.intp], exact: bool) -> GeneralizedModel:
        if self.whole is not None:
            p = len(self.design.predictors)
            return cast(GeneralizedModel, self.whole).on_rows((keep[:, None] * p + np.arange(p)).ravel(), exact)
        design = some_rows(self.design, keep)
        laplace = make_laplace(design)
        criterion, start = with_points(laplace, self.points), self._carried(design, laplace)
        if exact:
            edge = criterion.bounded & (np.abs(start) < EDGE)
            found = search(criterion, np.where(edge, 10 * EDGE, start), self.options, None)
        else:
            found = one_step(criterion.at, start, criterion.nonnegative)
        return replace(self, design=design, criterion=criterion, found=found)

    def _carried(self, design: Design, laplace: Laplace) -> Array:
        """This fit's parameters over other rows of the design."""
        point, standard, kept = self.evaluation, laplace.rows.standard, self.kept
        b = np.zeros(len(design.fixed.names))
        b[kept] = point.b
        before, after = ([d.fixed.values[k].mean() for k in kept] for d in (self.design, design))
        extra = laplace.family.recentred(point.extra, float(np.subtract(before, after) @ b[kept]))
        theta = self._carried_effects(laplace)
        return np.concatenate([standard.to_work @ b[standard.kept], *theta, extra])

    def constrained(self, basis: Array) -> float:
        laplace = make_laplace(self._confined_design(basis))
        found = search(laplace, starting_point(laplace), self.options, None)
        if self.points > 1:
            found = search(with_points(laplace, self.points), found.point.theta, self.options, None)
        return found.point.deviance

    @property
    def shift(self) -> float:
        if self.family.intercept:
            return 0.0
        return float(np.array([self.design.fixed.values[k].mean() for k in self.kept]) @ self.evaluation.b)

    def residual_draw(self, eta: Array, rng: np.random.Generator) -> Array:
        offset = 0.0 if self.design.offset is None else self.design.offset
        made = np.asarray(self.family.draw(self.family_eta(eta + offset), self.extra, rng))
        return np.repeat(made, len(self.design.predictors)) if self.design.stacked else made


def fit_generalized(
    design: Design, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> GeneralizedModel:
    """Raises UsageError for more points than the design allows, OrchardError where the likelihood does not exist."""
    laplace = make_laplace(design)
    check_points(design, options.points)
    start = None if design.on_disk or design.predictors else sampled_start(design, laplace)
    found = None if start is None else _from_sample(laplace, start, options, progress)
    found = found or search(laplace, starting_point(laplace), options, progress)
    found = from_other_scales(laplace, found, options)
    first, points, criterion = found, 1, laplace
    if options.points == "auto":
        points, criterion, found = enough_points(laplace, found, options)
    elif int(options.points) > 1:
        points, criterion = int(options.points), with_points(laplace, int(options.points))
        found = search(criterion, found.point.theta, options, progress)
    found = replace(found, rival=first.rival and found.point.deviance + first.rival - first.point.deviance)
    if criterion is not laplace:
        found = replace(
            found, iterations=found.iterations + first.iterations, evaluations=found.evaluations + first.evaluations
        )
    return GeneralizedModel(design, options, criterion, found, points)


def _from_sample(
    laplace: Laplace, start: tuple[Array, Array | None], options: SearchOptions, progress: Callable[[int], None] | None
) -> OptimizeResult[LaplacePoint] | None:
    """What the search finds from where a sample leads; None where it does not end there: the sample was no guide."""
    try:
        found = search(laplace, start[0], options, progress, start[1])
    except OrchardError:
        return None
    return found if found.converged else None


def reopened_generalized(
    design: Design, options: SearchOptions, theta: Array, points: int, ended: OptimizeResult[Any]
) -> GeneralizedModel:
    """A saved fit taken up again at its estimates; ``ended`` says how its search did."""
    criterion = with_points(make_laplace(design), points)
    found = replace(ended, point=criterion.at(theta, close=EXACT))
    return GeneralizedModel(design, options, criterion, found, points)
