"""A fitted model: numbers only, one protocol whatever the outcome."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.column_space import ColumnSpace
from bold_orchard.design.design import Design
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.families.base import Family
from bold_orchard.likelihood.protocol import FittedPoint, Likelihood
from bold_orchard.optimize.newton import walk
from bold_orchard.optimize.protocol import Counter, Ending, Objective, OptimizeResult, P

Array = NDArray[Any]
C = TypeVar("C", bound=Likelihood)
E = TypeVar("E", bound=FittedPoint)
EDGE = 1e-2  # parameters nearer to zero than this start a new search inside, where the likelihood has a slope
NEAR = 1e-12  # decrease of the deviance below which one step is not worth taking


@dataclass(frozen=True)
class UnitEffects:
    """Predicted effects of one clause's terms: ``effects`` and prediction ``se``, each (levels, k)."""

    unit: int
    group: str
    terms: tuple[str, ...]
    levels: list[str]
    effects: Array
    se: Array


@dataclass(frozen=True)
class FittedModel(ABC, Generic[C, E]):
    """A design, the likelihood over it, and where the search for its maximum ended.

    ``points`` are the quadrature points a level's integral was taken with; 1 is exact for a gaussian outcome and Laplace's
    approximation for others. ``whole`` is the model over all linear predictors of every row, where the design has the
    rows of the table alone.
    """

    design: Design
    options: SearchOptions
    criterion: C
    found: OptimizeResult[E]
    points: int = 1
    whole: FittedModel[C, E] | None = None

    @property
    def evaluation(self) -> E:
        """The likelihood's point at the estimates."""
        return self.found.point

    @property
    def converged(self) -> bool:
        return self.found.converged

    @property
    @abstractmethod
    def method(self) -> str:
        """REML, ML, Laplace or quadrature."""

    @property
    @abstractmethod
    def n_parameters(self) -> int:
        """Parameters counted by the information criteria."""

    @property
    @abstractmethod
    def extra(self) -> Array:
        """The family's own parameters on their unbounded scales, (n_extra,)."""

    @property
    def shift(self) -> float:
        """What the thresholds of the search, made for centred columns, take off eta; 0 for families with an intercept."""
        return 0.0

    def by(self, method: str) -> FittedModel[C, E]:
        """The same model by another method, from the estimates of this one; itself where it has one method only."""
        return self

    @abstractmethod
    def again(self, y: Array) -> OptimizeResult[E]:
        """The same model fitted to another outcome (n,), from the estimates of this one."""

    @abstractmethod
    def on_rows(self, keep: NDArray[np.intp], exact: bool) -> FittedModel[C, E]:
        """The same model, coded as before, on the rows ``keep``: found anew, or moved there by one step of the search.

        Raises OrchardError when what is left cannot be fitted.
        """

    @abstractmethod
    def constrained(self, basis: Array) -> float:
        """The least ML deviance with b = basis @ c, basis (p', m) over the kept coefficients."""

    @abstractmethod
    def residual_draw(self, eta: Array, rng: np.random.Generator) -> Array:
        """An outcome (n,) as ``design.y`` holds it, for the sum of fixed and random part (n,), offsets left out."""

    @property
    def kept(self) -> list[int]:
        """Columns of the fixed part that have an estimate; the others are aliased."""
        return self.criterion.products.standard.kept

    @cached_property
    def column_space(self) -> ColumnSpace:
        """The span of the fixed part, for what can be estimated and what tests of terms say."""
        return ColumnSpace(self.design, self.kept)

    @cached_property
    def family(self) -> Family:
        """The family over the rows in the design's order."""
        d = self.design
        return d.kind(d.link, d.data_of())

    def fixed_part(self) -> Array:
        """X b, (n,)."""
        out = np.zeros(len(self.design.y))
        for b, column in zip(self.evaluation.b, self.kept):
            out += b * self.design.fixed.values[column]
        return out

    def average_part(self) -> Array:
        """X b plus the offset, (n,)."""
        return self.fixed_part() + (0.0 if self.design.offset is None else self.design.offset)

    def curve_part(self) -> Array:
        """What the curves of all rows add to the average beyond their straight parts, (n,)."""
        out = np.zeros(len(self.design.y))
        for clause in self.design.clauses:
            unit = self.design.units[clause.unit]
            if unit.curve:
                effects = self.effects[clause.block][0]
                out += effects[0, clause.columns] @ np.array(clause.part.values)
        return out

    @cached_property
    def effects(self) -> list[tuple[Array, Array]]:
        """Predicted effects (levels, k) of every block and the covariances of their errors (levels, k, k), made once."""
        return [self.evaluation.effects(f) for f in range(len(self.design.blocks))]

    def unit_effects(self) -> list[UnitEffects]:
        """Best linear unbiased predictions per each clause; se is the root of var(u_hat - u), b's error included."""
        design, out, made = self.design, [], self.effects
        for clause in design.clauses:
            effects, covariance = made[clause.block]
            errors = np.einsum("jaa->ja", covariance)[:, clause.columns]
            unit = design.blocks[clause.block].unit
            se = np.sqrt(np.maximum(errors, 0.0))
            out.append(
                UnitEffects(clause.block, unit.name, clause.part.names, unit.texts, effects[:, clause.columns], se)
            )
        return out

    def family_eta(self, eta: Array) -> Array:
        """A linear predictor (n,) as the family takes it: with the others of every row, at the units' predicted
        effects, where there are several."""
        if self.whole is not None:
            others = self.design.folded(self.whole.linear_predictor())[1:]
            return np.concatenate([eta[None], others])
        return self.design.folded(eta) if self.design.stacked else eta - self.shift

    def linear_predictor(self, units: list[UnitEffects] | None = None) -> Array:
        """X b + Z u + offset, (n,), at the predicted effects."""
        eta = self.average_part()
        for clause, made in zip(self.design.clauses, self.unit_effects() if units is None else units):
            codes = self.design.blocks[clause.block].unit.codes
            for column, effect in zip(clause.part.values, made.effects.T):
                eta += column * effect[codes]
        return eta

    def simulate(self, rng: np.random.Generator) -> Array:
        """An outcome drawn from the model, (n,), offsets left out as in ``design.y``."""
        return self.residual_draw(self.drawn_predictor(rng)[0], rng)

    def drawn_predictor(self, rng: np.random.Generator) -> tuple[Array, list[Array]]:
        """X b + Z u (n,) and u of every block (levels, k), drawn anew; what is no column of Z has values of zero there."""
        design, eta = self.design, self.fixed_part()
        effects = [self.drawn_effects(f, rng) for f in range(len(design.blocks))]
        for clause in design.clauses:
            own = effects[clause.block][design.blocks[clause.block].unit.codes]
            for values, column in zip(clause.part.values, range(clause.columns.start, clause.columns.stop)):
                eta += values * own[:, column]
        return eta, effects

    def drawn_effects(self, f: int, rng: np.random.Generator) -> Array:
        """Effects of one unit, (levels, k), on the user's scale."""
        e, products = self.evaluation, self.criterion.products
        unit = products.units[f]
        if self.design.blocks[f].unit.curve:  # a curve of all rows stays as it is
            return self.effects[f][0]
        drawn = rng.standard_normal((unit.levels, unit.size))
        if unit.relationship_factor is not None:
            drawn = unit.relationship_factor @ drawn
        factor = np.sqrt(e.sigma2) * np.linalg.solve(products.z_to_work[f], e.factors[f])
        return np.asarray(drawn @ factor.T) * e.scales(f).T

    def carried_effects(self, other: Likelihood) -> Array:
        """All of theta with the covariances of this fit, on another likelihood's working scale."""
        return np.concatenate(self._carried_effects(other))

    def _carried_effects(self, other: Likelihood) -> list[Array]:
        """theta of each unit with the covariances of this fit, on another likelihood's working scale."""
        e, out = self.evaluation, [np.zeros(0)]
        for f, structure in enumerate(other.structures):
            to_work = other.products.z_to_work[f]
            grown = other.grown(self._carried_alpha(other), f)
            made = to_work @ (e.covariance(f) / e.sigma2 * np.outer(grown, grown)) @ to_work.T
            out.append(structure.of_covariance(made))
        return out

    def _carried_alpha(self, other: Likelihood) -> Array:
        """What SDs of effects depend on, in the units of another likelihood's columns; nothing in most models."""
        return np.zeros(0)

    def _confined_design(self, basis: Array) -> Design:
        """The design with the columns X @ basis in the fixed part's place."""
        x = np.column_stack([self.design.fixed.values[k] for k in self.kept]) @ basis
        names = tuple(f"column {i}" for i in range(x.shape[1]))
        part = replace(
            self.design.fixed, terms=self.design.fixed.terms[:0], names=names, labels=names, values=tuple(x.T.copy()),
            owner=(0,) * len(names),
        )  # fmt: skip
        return replace(self.design, fixed=part)


def one_step(f: Objective[P], start: Array, nonnegative: NDArray[np.bool_]) -> OptimizeResult[P]:
    """One step of the search from ``start``, taken as it is."""
    count = Counter(f)
    here, _, _ = walk(count, count(start), nonnegative, NEAR, 1, None)
    return OptimizeResult(here, True, 0.0, np.zeros((0, 0)), 1, 2, Ending.WELL)
