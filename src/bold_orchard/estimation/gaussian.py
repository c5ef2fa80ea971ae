"""The maker of gaussian models."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import UsageError
from bold_orchard.estimation.arrays import row_order
from bold_orchard.estimation.gaussian_search import first_guess, make_criterion, search
from bold_orchard.estimation.model import EDGE, FittedModel, one_step
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.estimation.wide_search import differences
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint
from bold_orchard.likelihood.protocol import Likelihood
from bold_orchard.likelihood.wide import WideCriterion
from bold_orchard.optimize.protocol import OptimizeResult

Array = NDArray[Any]


@dataclass(frozen=True)
class GaussianModel(FittedModel[Criterion, GaussianPoint]):
    """Estimated by REML or ML; coefficients and residual variance stand at their closed forms for given parameters."""

    @property
    def method(self) -> str:
        return "REML" if self.criterion.reml else "ML"

    @property
    def n_parameters(self) -> int:
        return self.criterion.products.p + self.criterion.n_covariance

    @property
    def extra(self) -> Array:
        return np.zeros(0)

    @np.errstate(all="ignore")
    def by(self, method: str) -> GaussianModel:
        """The same model by another method, from the estimates of this one."""
        criterion = replace(self.criterion, reml=method == "reml")
        options = replace(self.options, method=method)
        theta = self.evaluation.theta
        start = np.where(criterion.bounded, np.maximum(theta, EDGE), theta)
        return replace(self, options=options, criterion=criterion, found=search(criterion, start, options))

    def again(self, y: Array) -> OptimizeResult[GaussianPoint]:
        criterion = make_criterion(replace(self.design, y=y), self.criterion.reml)
        theta = self.evaluation.theta
        return search(criterion, np.where(_at_edge(criterion, theta), 10 * EDGE, theta), self.options)

    def on_rows(self, keep: NDArray[np.intp], exact: bool) -> GaussianModel:
        design = some_rows(self.design, keep)
        criterion = make_criterion(design, self.criterion.reml, few=not exact)
        start = self.carried(criterion)
        if exact:
            found = search(criterion, np.where(_at_edge(criterion, start), EDGE, start), self.options)
        else:
            found = one_step(criterion.at, start, criterion.nonnegative)
        return replace(self, design=design, criterion=criterion, found=found)

    def carried(self, criterion: Criterion) -> Array:
        """This fit's parameters on another criterion's working scale."""
        e = self.evaluation
        parts = [*self._carried_effects(criterion), e.theta[e.criterion.phi], self._carried_alpha(criterion)]
        return np.concatenate(parts + ([e.theta[-1:]] if criterion.absolute else []))

    def _carried_alpha(self, other_criterion: Likelihood) -> Array:
        e, mine, other = self.evaluation, self.criterion.vary, getattr(other_criterion, "vary", None)
        if mine is None or other is None:
            return np.zeros(0)
        sds = [(a.sd, b.sd) for a, b in zip(mine.parts, other.parts)]
        return np.concatenate([e.theta[e.criterion.alpha][at] * b / a for at, (a, b) in zip(mine.slices(), sds)])

    def constrained(self, basis: Array) -> float:
        criterion = make_criterion(self._confined_design(basis), reml=False)
        theta = self.evaluation.theta
        start = np.where(criterion.bounded, np.maximum(theta, EDGE), theta)
        return search(criterion, start, self.options).point.deviance

    def residual_variances(self) -> Array | float:
        """The residual variance of each row (n,), its spread, occasion and weight counted in, or one for all."""
        e, design, correlated = self.evaluation, self.design, self.criterion.correlated
        out: Array | float = float(e.sigma2)
        if correlated is not None:
            scale, order = correlated.rows.scale(e.theta[e.criterion.phi]), row_order(design.residual)
            if isinstance(scale, np.ndarray) and order is not None:
                scale[order] = scale.copy()
            out = out * scale**2
        return out if design.weights is None or design.counts is not None else out / design.weights

    def residual_draw(self, eta: Array, rng: np.random.Generator) -> Array:
        e, design, correlated = self.evaluation, self.design, self.criterion.correlated
        drawn = rng.standard_normal(len(design.y))
        if correlated is not None:
            drawn = correlated.rows.colour(e.theta[e.criterion.phi], drawn)
            order = row_order(design.residual)
            if order is not None:
                drawn[order] = drawn.copy()
        drawn *= np.sqrt(e.sigma2)
        return np.asarray(eta + (drawn if design.weights is None else drawn / np.sqrt(design.weights)))


def _at_edge(criterion: Criterion, theta: Array) -> NDArray[np.bool_]:
    return np.asarray(criterion.bounded & (np.abs(theta) < EDGE))


def fit_gaussian(
    design: Design, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> GaussianModel:
    """Raises UsageError for a method or points that a gaussian model does not have."""
    if options.points != 1:
        raise UsageError("--points is for outcomes that are not gaussian; the gaussian likelihood is exact")
    criterion = make_criterion(design, options.method == "reml")
    return GaussianModel(
        design, options, criterion, search(criterion, first_guess(design, criterion), options, progress)
    )


def reopened_gaussian(
    design: Design, options: SearchOptions, theta: Array, ended: OptimizeResult[Any]
) -> GaussianModel:
    """A saved fit taken up again at its estimates; ``ended`` says how its search did."""
    criterion = make_criterion(design, options.method == "reml")
    found = replace(ended, point=criterion.at(theta))
    if isinstance(criterion, WideCriterion):  # by what the search itself ended with
        hessian, moves = differences(criterion, found.point)
        found = replace(found, hessian=hessian, moves=moves)
    return GaussianModel(design, options, criterion, found)
