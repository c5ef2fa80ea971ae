"""The sentence itself while covariates are drawn: its parameters given completed rows, and what it says of other values of the covariates."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import rebuild_parts
from bold_orchard.design.design import Design
from bold_orchard.design.over import recoded
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.generalized_search import make_laplace
from bold_orchard.estimation.model import FittedModel
from bold_orchard.imputing.walk import Walk, column_means, on_scale_of
from bold_orchard.likelihood.conditional import gaussian_draw, laplace_draw
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.likelihood.wide import WideCriterion

Array = NDArray[Any]
Places = NDArray[np.intp]
LEAST = 1e-8  # of its trace the least eigenvalue of a covariance of effects that has an inverse
MOVES = 2  # of the variances between two draws of the rest


class Analysis:
    """The model of the sentence over completed rows, with a draw of its parameters: ``b``, ``effects`` of every block, ``sigma2``."""

    def __init__(self, model: FittedModel[Any, Any]) -> None:
        if isinstance(model.criterion, WideCriterion):
            raise OrchardError(
                "--impute draws effects of all crossed units together, and they are too many here; fit the complete rows"
            )
        self.design, self.first = with_units_anew(model.design), model
        self.gaussian = isinstance(model, GaussianModel)
        criterion = make_criterion(self.design, True) if self.gaussian else make_laplace(self.design)
        self.model = replace(model, design=self.design, criterion=criterion)
        self.point: Any = criterion.at(model.evaluation.theta)
        self.walk = Walk(model.found.hessian)
        self.b, self.effects, self.sigma2 = (
            model.evaluation.b,
            [e.copy() for e, _ in model.effects],
            float(self.point.sigma2),
        )
        self.failed = 0
        self.family: Any = None
        self._known()

    def step(self, table: Table, rng: np.random.Generator, settling: bool) -> None:
        """Parameters drawn anew given the rows of ``table``; as they were where such rows make no such model."""
        try:
            design = recoded(self.design, table)
            criterion = make_criterion(design, True) if self.gaussian else make_laplace(design)
            model = replace(self.model, design=design, criterion=criterion)
            if model.kept != self.first.kept:
                raise OrchardError("")
            theta = on_scale_of(self.model, criterion, self.point.theta, column_means(self.model), column_means(model))
            point: Any = criterion.at(theta)
            for _ in range(MOVES):
                point = self.walk.step(criterion, point, rng, settling)
            if not np.isfinite(point.deviance):
                raise OrchardError("")
        except (OrchardError, np.linalg.LinAlgError):
            self.failed += 1
            return
        self.model, self.point = replace(model, found=replace(model.found, point=point)), point
        if isinstance(criterion, Criterion):
            self.b, self.effects, self.sigma2 = gaussian_draw(point, rng)
        else:
            self.b, self.effects, self.sigma2 = point.b, laplace_draw(point, rng), 1.0
        self._known()

    def _known(self) -> None:
        """What is the same for all values of the covariates."""
        design = self.model.design
        weights: Array | float = 1.0 if design.weights is None else design.weights
        self.precision = np.broadcast_to(weights / self.sigma2, len(design.y))
        if not self.gaussian:
            self.family, self.shift = self.model.family, self.model.shift
            self.data = design.data_of()

    def linear_predictor(self, rows: Places, table: Table) -> Array:
        """Of the rows ``rows`` (m,) of the analysis at other values of their covariates, those of ``table`` (m rows); offsets included."""
        design = self.design
        fixed, parts, offset = rebuild_parts(design, table, strict=False)
        eta = np.zeros(len(rows)) if offset is None else offset.copy()
        for b, k in zip(self.b, self.first.kept):
            eta += b * fixed.values[k]
        for clause, part in zip(design.clauses, parts):
            own = self.effects[clause.block][design.blocks[clause.block].unit.codes[rows]][:, clause.columns]
            for values, u in zip(part.values, own.T):
                eta += values * u
        return eta

    def log_likelihood(self, rows: Places, eta: Array) -> Array:
        """Of those rows at a linear predictor (m,), constants left out; of values that the sentence's functions do not
        take, the logarithm of zero."""
        with np.errstate(all="ignore"):
            if self.gaussian:
                made = -0.5 * self.precision[rows] * (self.design.outcome_values[rows] - eta) ** 2
                return np.where(np.isfinite(made), made, -np.inf)
            made = self.family.on(self.data.take(rows)).value(eta - self.shift, self.point.extra)
        return np.where(np.isfinite(made), made, -np.inf)

    def intercepts(self, unit: str | None) -> Intercepts | None:
        """The effects of a unit's intercept, where the sentence has one and its levels differ."""
        for clause in self.design.clauses:
            if self.design.units[clause.unit].name != unit or "intercept" not in clause.part.names:
                continue
            g = self.point.covariance(clause.block) * (self.sigma2 / self.point.sigma2)
            if np.linalg.eigvalsh(g)[0] > LEAST * np.trace(g):
                at = clause.columns.start + clause.part.names.index("intercept")
                block = self.design.blocks[clause.block]
                if block.relationship_factor is None:
                    return Intercepts(self.effects[clause.block], at, block.unit.codes, np.linalg.inv(g))
        return None


@dataclass(frozen=True)
class Intercepts:
    """Effects of a unit (levels, k), of which the column ``at`` is the intercept's, each row's level (n,), and the inverse of their covariance."""

    effects: Array
    at: int
    codes: Places
    inverse: Array

    def moved(self, by: Array) -> Array:
        """The effects with intercepts less by ``by`` (levels,)."""
        out = self.effects.copy()
        out[:, self.at] -= by
        return out

    def log_density(self, effects: Array) -> Array:
        """Of every level, (levels,), constants left out."""
        return np.asarray(-0.5 * np.einsum("ja,ab,jb->j", effects, self.inverse, effects))


def with_units_anew(design: Design) -> Design:
    """The design whose means, least and largest values of units are those of the rows at hand, as if it remembered no
    unit; all else is remembered."""
    memory = {k: {} if _of_units(k, v) else v for k, v in design.memory.items()}
    return replace(design, memory=memory)


def constants(design: Design) -> dict[str, Any]:
    """What the transformations of a design have learned, but for values of units."""
    return {k: v for k, v in design.memory.items() if not _of_units(k, v)}


def _of_units(key: str, value: Any) -> bool:
    """Whether an entry of the memory holds a value for each unit."""
    return isinstance(value, dict) and key != "kinds"
