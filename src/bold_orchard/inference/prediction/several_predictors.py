"""Answers on the outcome's scale where rows have several linear predictors: each is made for all of them, then the
outcome's mean from these.

Linear predictors stand one row after the other for each row of a table, as the design has them; the delta method takes
the mean's slopes in each.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.inference.coefficients.reference_grid import Held, ReferenceGrid
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.outcome_errors import STEP, OutcomeErrors, between
from bold_orchard.inference.prediction.response_scale import population_mean
from bold_orchard.inference.summary import number

Array = NDArray[Any]
NODES = 15  # along each predictor, of a mean over units


def interleaved(each: Sequence[Array]) -> Array:
    """Arrays (n, ...) of every predictor as rows one after the other, (n P, ...)."""
    made = np.stack(each, axis=1)
    return made.reshape(-1, *made.shape[2:])


def stacked_rows(fit: Fit, points: Sequence[Held]) -> tuple[Array, Array]:
    """Weights of the coefficients (points P, p') and the constants (points P,) of every linear predictor at some
    points."""
    rows, constants = [], []
    for one in fit.each_predictor:
        grid = ReferenceGrid(one)
        x, constant = grid.rows(points)
        rows.append(grid.kept(x))
        constants.append(constant)
    return interleaved(rows), interleaved(constants)


class SeveralErrors(OutcomeErrors):
    """As ``OutcomeErrors``; linear predictors (n P,) and their rows (n P, p') give means (n,)."""

    def mean(self, eta: Array, extra: Array | None = None) -> Array:
        """The outcome's mean at linear predictors (P, n)."""
        return np.asarray(self.fit.model.family.mean(eta, self.fit.model.extra if extra is None else extra))

    def slopes(self, eta: Array, mean: Callable[..., Array] | None = None) -> Array:
        """Of the mean in every predictor, (P, ..., n), by central differences."""
        mean = mean or self.mean
        steps = STEP * np.eye(len(eta)).reshape(len(eta), len(eta), *(1,) * (eta.ndim - 1))
        return np.array([(mean(eta + h) - mean(eta - h)) / (2.0 * STEP) for h in steps])

    def together(self, eta: Array, x: Array) -> Array:
        """Rows (n P, k) put together by the mean's slopes in each predictor, (n, k)."""
        s = self.slopes(self.fit.design.folded(eta))
        return np.einsum("pn,npk->nk", s, x.reshape(-1, len(s), x.shape[1]))

    def _own_slopes(self, eta: Array) -> Array:
        at, extra = self.fit.design.folded(eta), self.fit.model.extra
        steps = STEP * np.eye(len(extra))
        made = [(self.mean(at, extra + h) - self.mean(at, extra - h)) / (2.0 * STEP) for h in steps]
        return np.array(made).reshape(len(extra), at.shape[1]).T

    def gradient(self, eta: Array, x: Array) -> Array:
        return np.hstack([self._own_slopes(eta), self.together(eta, x)])

    def interval(
        self, eta: Array, x: Array, confidence: float, variance: Array | None = None
    ) -> tuple[Array, Array, Array, Array]:
        """``variance`` (n,) is that of the predictors put together by the mean's slopes, where units' effects are in
        it."""
        m, joint = self._joint
        mean, slopes = self.mean(self.fit.design.folded(eta)), self.gradient(eta, x)
        own, rows = slopes[:, :m], slopes[:, m:]
        if variance is None:
            variance = np.einsum("np,pq,nq->n", rows, joint[m:, m:], rows)
        across = np.einsum("np,pm,nm->n", rows, joint[m:, :m], own)
        total = variance + 2.0 * across + np.einsum("nm,mk,nk->n", own, joint[:m, :m], own)
        se = np.sqrt(np.maximum(total, 0.0))
        return mean, se, *self.ends(mean, se, confidence)

    def ends(self, mean: Array, se: Array, confidence: float) -> tuple[Array, Array]:
        """Symmetric on the link's scale."""
        z, link = quantile_t(confidence, None), self.fit.design.link
        if link == "identity":
            return mean - z * se, mean + z * se
        if link == "log":
            factor = np.exp(np.minimum(z * se / mean, 700.0))
            return mean / factor, mean * factor
        return between(mean, se, z, 0.0, 1.0)

    def probabilities(
        self, eta: Array, x: Array, variances: Callable[[Array], Array] | None = None
    ) -> tuple[Array, Array]:
        """Of every level of an unordered outcome, and their errors, (levels, n) each; ``variances`` gives that of rows
        put together by slopes (P, n)."""
        family: Any = self.fit.model.family
        at = self.fit.design.folded(eta)
        own, errors, covariance = family.probabilities(at), [], self._joint[1]
        for level in range(len(own)):
            s = self.slopes(at, lambda e, level=level: family.probabilities(e)[level])
            if variances is not None:
                errors.append(variances(s))
                continue
            rows = np.einsum("pn,npk->nk", s, x.reshape(-1, len(s), x.shape[1]))
            errors.append(np.einsum("np,pq,nq->n", rows, covariance, rows))
        return own, np.sqrt(np.maximum(errors, 0.0))


def population_of(fit: Fit, eta: Array, variance: Array, mean: Callable[[Array], Array]) -> Array:
    """E over units of a mean at one point: predictors ``eta`` (P,), of whose effects they have the covariance
    ``variance`` (P, P)."""
    x, w = np.polynomial.hermite_e.hermegauss(NODES)
    values, vectors = np.linalg.eigh(variance)
    grid = np.array(list(itertools.product(x, repeat=len(eta)))).T
    weights = np.array([np.prod(c) for c in itertools.product(w / w.sum(), repeat=len(eta))])
    at = eta[:, None] + (vectors * np.sqrt(np.maximum(values, 0.0))) @ grid
    return np.asarray(mean(at) @ weights)


def effect_covariances(fit: Fit, points: Sequence[Held]) -> Array:
    """What the units' effects add to the covariance of the linear predictors at each point, (points, P, P)."""
    names, e = fit.design.predictors, fit.evaluation
    total = np.zeros((len(points), len(names), len(names)))
    for clause, m in zip(fit.design.clauses, ReferenceGrid(fit).random_products(points)):
        g = e.covariance(clause.block)[clause.columns, clause.columns]
        of = np.array([names.index(str(clause.part.terms[k].outcome)) for k in clause.part.owner])
        for a, b in itertools.product(range(len(names)), repeat=2):
            both = np.outer(of == a, of == b)
            total[:, a, b] += (m * g * both).sum(axis=(1, 2))
    return total


def outcome_of_means(fit: Fit, points: Sequence[Held], confidence: float) -> list[dict[str, Any]]:
    """For each point what a mean says on the outcome's scale, by every predictor: ``outcome`` for an average unit,
    ``population`` over units; of
    unordered levels ``chances``."""
    rows, constants = stacked_rows(fit, points)
    errors, eta = SeveralErrors(fit), rows @ fit.evaluation.b + constants
    at, over = fit.design.folded(eta), effect_covariances(fit, points)
    family: Any = fit.model.family
    if family.reads == "levels":
        own, se = errors.probabilities(eta, rows)
        low, high = between(own, se, quantile_t(confidence, None), 0.0, 1.0)
        average = [population_of(fit, e, v, family.probabilities) for e, v in zip(at.T, over)]
        return [
            {"chances": [{"grade": level, "chance": number(own[k, i]), "se": number(se[k, i]), "ci": [number(low[k, i]), number(high[k, i])],
                          "population": number(average[i][k])} for k, level in enumerate(fit.design.levels)]}
            for i in range(len(points))
        ]  # fmt: skip
    mean, se, low, high = errors.interval(eta, rows, confidence)
    return [
        {"outcome": number(mean[i]), "outcome_se": number(se[i]), "outcome_ci": [number(low[i]), number(high[i])],
         "population": number(float(population_of(fit, at[:, i], over[i], errors.mean)))}
        for i in range(len(points))
    ]  # fmt: skip


def own_scale(part: str, mean: float, se: float, confidence: float, variance: float = 0.0) -> dict[str, Any]:
    """What a mean of a part's own predictor says: the probability of a zero, the size of the spread; over units, whose
    effects have a ``variance``."""
    width = quantile_t(confidence, None) * se
    back = special.expit if part != "spread" else np.exp
    value, low, high = (float(back(v)) for v in (mean, mean - width, mean + width))
    slope = value * (1.0 - value) if part != "spread" else value
    average = float(population_mean(back, np.array(mean), variance))
    return {
        "outcome": number(value),
        "outcome_se": number(slope * se),
        "outcome_ci": [number(low), number(high)],
        "population": number(average),
    }
