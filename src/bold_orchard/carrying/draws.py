"""Draws of units' effects given the first model's rows and the second outcome, in turn with the second model's parameters.

Data augmentation (Tanner & Wong 1987): the effects of a unit are drawn by elliptical slice sampling (Murray, Adams & MacKay 2010) from
their law given the first model, N(mean, covariance), times the likelihood of the unit's rows in the second; draws that left the second
outcome out would pull its coefficients towards zero.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.carrying.effects import Carried
from bold_orchard.data.table import Table
from bold_orchard.design.build import rebuild_parts
from bold_orchard.design.design import Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.over import recoded
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.model import FittedModel
from bold_orchard.likelihood.conditional import gaussian_draw
from bold_orchard.sampling.elliptical import slice_sampled
from bold_orchard.sentence import tree

Array = NDArray[np.float64]
Predictor = Callable[[Sequence[Array]], Array]
FLAT = 0.05  # of the least information at the means, below which coefficients run away
MOVES = 3  # of all effects between two draws of the parameters


@dataclass(frozen=True)
class Parameters:
    """A draw of the second model's parameters: ``b`` (p,), the effects of its own units by clause and row, ``sigma2``."""

    b: Array
    own: tuple[Array, ...]
    sigma2: float


class Augmented:
    """The second model over rows whose carried effects change.

    ``model`` is the one fitted to the means; ``levels`` number the carried units over the rows it used.
    """

    def __init__(
        self,
        model: FittedModel[Any, Any],
        carried: Sequence[Carried],
        levels: Sequence[NDArray[np.intp]],
    ) -> None:
        self.first, self.design = model, model.design
        self.levels = levels
        self.law(carried)
        self.products = Products.of(self)
        self.effects = [c.mean.copy() for c in carried]
        self.model = model
        self.failed = 0

    def law(self, carried: Sequence[Carried]) -> None:
        """What the first model says of the effects from now on."""
        self.carried = list(carried)
        self.roots = [_roots(c.covariance) for c in carried]

    def table(self, effects: Sequence[Array]) -> Table:
        columns = {
            n: e[level, a] for c, e, level in zip(self.carried, effects, self.levels) for a, n in enumerate(c.names)
        }
        return self.design.table.with_columns(columns)

    def completed(self) -> Design:
        """The design at the present effects."""
        return recoded(self.design, self.table(self.effects))

    def step(self, rng: np.random.Generator) -> None:
        """Parameters, then effects, then the model fitted to what they complete."""
        before = [e.copy() for e in self.effects]
        drawn = _drawn(self.model, rng)
        predictor = self._predictor(drawn)
        for _ in range(MOVES):
            for k in range(len(self.carried)):
                self._move(k, drawn, predictor, rng)
        design = self.completed()
        found = replace(self.model, design=design).again(design.y)
        kept = found.point.criterion.products.standard.kept
        if not found.converged or kept != self.first.kept or not self._told_apart(found.hessian):
            self.failed += 1
            self.effects = before
            return
        self.model = replace(self.model, design=design, criterion=found.point.criterion, found=found)

    def _told_apart(self, hessian: Array) -> bool:
        """Whether the rows say of every parameter what they say at the means; of effects that all but split an outcome they do not."""
        first = self.first.found.hessian
        if self.design.additive or not len(hessian) or not len(first):
            return True
        return float(np.linalg.eigvalsh(hessian)[0]) > FLAT * max(float(np.linalg.eigvalsh(first)[0]), 0.0)

    def _move(self, k: int, drawn: Parameters, predictor: Predictor, rng: np.random.Generator) -> None:
        c = self.carried[k]
        here = self.effects[k] - c.mean
        across = np.einsum("jab,jb->ja", self.roots[k], rng.standard_normal(here.shape))

        def by_unit(away: Array) -> Array:
            effects = [*self.effects]
            effects[k] = c.mean + away
            rows = self._log_likelihood(predictor(effects), drawn)
            return np.asarray(np.bincount(self.levels[k], rows, minlength=len(here)), dtype=float)

        self.effects[k] = c.mean + slice_sampled(here, across, np.arange(len(here)), by_unit, rng)

    def _predictor(self, drawn: Parameters) -> Predictor:
        """The linear predictor (n,) as a function of the effects."""
        if self.products is not None:
            return self.products.predictor(drawn)

        def rebuilt(effects: Sequence[Array]) -> Array:
            fixed, parts, offset = rebuild_parts(self.design, self.table(effects))
            eta = np.zeros(len(self.design.y)) if offset is None else offset.copy()
            for b, column in zip(drawn.b, self.first.kept):
                eta += b * fixed.values[column]
            for own, part in zip(drawn.own, parts):
                eta += np.einsum("nk,nk->n", own, np.column_stack(part.values))
            return eta

        return rebuilt

    def _log_likelihood(self, eta: Array, drawn: Parameters) -> Array:
        """Of every row, (n,), constants left out."""
        if self.design.additive:
            weights = 1.0 if self.design.weights is None else self.design.weights
            return np.asarray(-0.5 * weights * (self.design.outcome_values - eta) ** 2 / drawn.sigma2)
        with np.errstate(all="ignore"):
            made = self.model.family.value(eta - self.model.shift, self.model.extra)
        return np.where(np.isfinite(made), made, -np.inf)


class Products:
    """The columns of a sentence whose effects stand alone or in products: what multiplies each product of effects, by rows."""

    def __init__(self, augmented: Augmented, places: dict[str, tuple[int, int]]) -> None:
        design = augmented.design
        self.levels, self.kept = augmented.levels, augmented.first.kept
        ones = [np.ones_like(c.mean) for c in augmented.carried]
        self.fixed, self.parts, self.offset = rebuild_parts(design, augmented.table(ones))
        self.n = len(design.y)

        def inside(part: ModelMatrix) -> list[tuple[tuple[int, int], ...]]:
            of_terms = [
                tuple(places[f.name] for f in t.factors if isinstance(f, tree.Column) and f.name in places)
                for t in part.terms
            ]
            return [of_terms[o] for o in part.owner]

        self.of_fixed, self.of_parts = inside(self.fixed), [inside(p) for p in self.parts]

    @classmethod
    def of(cls, augmented: Augmented) -> Products | None:
        """None where an effect stands inside a function."""
        places = {n: (k, a) for k, c in enumerate(augmented.carried) for a, n in enumerate(c.names)}
        sentence = augmented.design.sentence
        for term in (*sentence.terms, *(t for e in sentence.clauses for t in e.terms)):
            for factor in term.factors:
                if not isinstance(factor, tree.Column) and any(c.name in places for c in tree.columns_of(factor)):
                    return None
        return cls(augmented, places)

    def predictor(self, drawn: Parameters) -> Predictor:
        """X b + Z u + offset at parameters, a function of the effects."""
        sums: dict[tuple[tuple[int, int], ...], Array] = {(): np.zeros(self.n) if self.offset is None else self.offset}
        for b, k in zip(drawn.b, self.kept):
            sums[self.of_fixed[k]] = sums.get(self.of_fixed[k], 0.0) + b * self.fixed.values[k]
        for own, part, of_columns in zip(drawn.own, self.parts, self.of_parts):
            for u, values, effects in zip(own.T, part.values, of_columns):
                sums[effects] = sums.get(effects, 0.0) + u * values

        def eta(effects: Sequence[Array]) -> Array:
            out = sums[()].copy()
            for places, factor in sums.items():
                if places:
                    for k, a in places:
                        factor = factor * effects[k][self.levels[k], a]
                    out += factor
            return out

        return eta


def _roots(covariance: Array) -> Array:
    values, vectors = np.linalg.eigh(covariance)
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0))[:, None, :])


def _drawn(model: FittedModel[Any, Any], rng: np.random.Generator) -> Parameters:
    """Parameters from their law given the completed data: exact for gaussian models at their variances, normal for others."""
    design = model.design
    if isinstance(model, GaussianModel):
        b, effects, sigma2 = gaussian_draw(model.evaluation, rng)
        return Parameters(b, _by_row(design, effects), sigma2)
    known = model.evaluation
    from bold_orchard.inference.coefficients.methods import precision

    covariance = precision(model, "normal").covariance
    b = known.b + _roots(covariance[None])[0] @ rng.standard_normal(len(known.b))
    effects = []
    for f in range(len(design.blocks)):
        mean, errors = known.effects(f)
        effects.append(mean + np.einsum("jab,jb->ja", _roots(errors), rng.standard_normal(mean.shape)))
    return Parameters(b, _by_row(design, effects), 1.0)


def _by_row(design: Design, effects: Sequence[Array]) -> tuple[Array, ...]:
    """Effects (levels, k) of each block as each clause's over the rows, (n, k)."""
    return tuple(effects[c.block][design.blocks[c.block].unit.codes][:, c.columns] for c in design.clauses)
