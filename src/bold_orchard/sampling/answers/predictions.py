"""Predicted values from draws: a row's mean at every draw, of one more outcome too."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import columns_that_vary, unit_codes
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import UsageError
from bold_orchard.families.base import Data
from bold_orchard.inference.prediction.asked_rows import (
    Needed,
    level_places,
    needed,
    outcome_of,
    scattered,
    trials_of,
    variance_places,
)
from bold_orchard.inference.prediction.predict import document_of
from bold_orchard.inference.prediction.predictions import Predictions
from bold_orchard.results.predict import PredictResult
from bold_orchard.sampling.answers.draws import METHOD, Draws
from bold_orchard.sampling.answers.neighbours import Told, from_neighbours

Array = NDArray[Any]
MOST_DRAWS = 1_000  # evenly spaced, of those at hand
AT_ONCE = 4_000_000  # rows times draws held together (32 MB each)


def predict(
    draws: Draws, table: Table, confidence: float = 0.95, new_observation: bool = False, seed: int = 0
) -> PredictResult:
    """The document of ``orchard predict`` from draws: ``predicted`` is the mean over draws of a row's mean, ``se`` their SD, ``low`` and
    ``high`` are equal-tailed. A unit never seen is drawn from its law at every draw.

    Raises OrchardError and UsageError as the likelihood's predictions do.
    """
    notes = list(draws.warnings)
    if draws.count > MOST_DRAWS:
        notes.append(f"{MOST_DRAWS:,} of the {draws.count:,} draws, evenly spaced, served these predictions.")
    draws = draws.thinned(MOST_DRAWS)
    made = _made(draws, table, confidence, new_observation, seed)
    return document_of(draws.fit, made, confidence, new_observation, METHOD, notes, posterior=draws.origin)


def _made(draws: Draws, table: Table, confidence: float, new_observation: bool, seed: int) -> Predictions:
    fit = draws.fit
    at = needed(fit, table, new_observation)
    n, grades = len(at.used), fit.design.levels if fit.design.graded else ()
    out, average = np.empty((4, n)), np.empty(n)
    chances, known = np.empty((n, len(grades))), np.empty((n, len(fit.design.clauses)))
    rng = np.random.default_rng(seed)
    size = max(1, AT_ONCE // draws.count)
    laws = [_Units(draws, at, i, rng) for i in range(len(fit.design.clauses))]
    asked = new_observation and not fit.design.known_errors
    scatter = _Scatter(draws, at) if asked and fit.design.additive else None
    told = from_neighbours(draws, at.used)
    for start in range(0, n, size):
        part = slice(start, min(start + size, n))
        eta = draws.b @ at.x[part].T + (0.0 if at.offset is None else at.offset[part])
        for law in (law for law in laws if law.curve):
            eta += law.moved(part)
        average[part] = draws.outcome(eta).mean(axis=0) if not fit.design.additive else eta.mean(axis=0)
        for i, law in enumerate(laws):
            eta += 0.0 if law.curve else law.moved(part)
            known[part, i] = law.known[part]
        if told is not None:
            eta += told.moved(part)
        mean = eta if fit.design.additive else draws.outcome(eta)
        if grades:
            chances[part] = np.mean([draws.chances_at(d)(eta[d]) for d in range(draws.count)], axis=0)
        ends = mean if not asked else _outcomes(draws, at, eta, part, scatter, laws, told, rng)
        level = [(1.0 - confidence) / 2.0, (1.0 + confidence) / 2.0]
        out[:, part] = mean.mean(axis=0), mean.std(axis=0, ddof=1), *np.quantile(ends, level, axis=0)
    predicted, se, low, high = (scattered(at, v) for v in out)
    return Predictions(
        table=at.table, predicted=predicted, se=se, low=low, high=high, average=scattered(at, average),
        residual=outcome_of(fit, at.table) - predicted, known=scattered(at, known),
        given_neighbours=np.zeros(len(at.table)) if told is None else scattered(at, told.given(n)),
        probabilities={level: scattered(at, p) for level, p in zip(grades, chances.T)},
    )  # fmt: skip


class _Units:
    """Effects of one clause at every draw for the rows asked for; a level that was not in the fit is drawn from its law, once a draw."""

    def __init__(self, draws: Draws, at: Needed, position: int, rng: np.random.Generator) -> None:
        design = draws.fit.design
        self.clause, each = design.clauses[position], design.sentence.clauses[position]
        self.z, self.curve = np.column_stack(at.parts[position].values), design.units[self.clause.unit].curve
        place, new, levels = level_places(unit_codes(each.unit, at.used), design.blocks[self.clause.block].unit)
        self.known = (place >= 0).astype(float)
        effects = draws.effects[self.clause.block][:, :, self.clause.columns]
        if levels:
            factor = np.linalg.cholesky(draws.covariance(self.clause) + 1e-300 * np.eye(self.z.shape[1]))
            drawn = np.einsum("dij,dlj->dli", factor, rng.standard_normal((draws.count, levels, self.z.shape[1])))
            effects = np.concatenate([effects, drawn], axis=1)
        self.place = np.where(place >= 0, place, effects.shape[1] - levels + new)
        self.effects = effects
        varying = columns_that_vary(each.vary, ColumnMaker(at.used, design.memory, learn=False))
        grown = None if varying is None else draws.grown(self.clause, np.array(varying.values))
        self.grown = None if grown is None else np.where(self.known[None, :] > 0, 1.0, grown)

    def moved(self, part: slice) -> Array:
        """Z u, (D, rows)."""
        made = np.einsum("dnk,nk->dn", self.effects[:, self.place[part]], self.z[part])
        return made if self.grown is None else made * self.grown[:, part]

    def log_spread(self, part: slice) -> Array | float:
        """Of a clause with a spread, each row's unit's own log residual SD, (D, rows)."""
        if not self.clause.has_spread:
            return 0.0
        return np.asarray(self.effects[:, self.place[part], self.clause.part.names.index("spread")])


class _Scatter:
    """log residual SD of the rows asked for at every draw, weights counted."""

    def __init__(self, draws: Draws, at: Needed) -> None:
        self.draws, fit = draws, draws.fit
        design = fit.design
        self.values: Array | None = None
        if design.sentence.spread:
            spread = build_part(design.sentence.spread, True, ColumnMaker(at.used, design.memory, learn=False))
            self.values = np.array(spread.values[1:])
        self.occasion = None if draws.log_sd is not None else variance_places(fit, at.used)
        column = fit.settings.options.weights
        self.log_weight = np.zeros(len(at.used)) if column is None else np.log(at.used.numbers(column))

    def at(self, part: slice) -> Array:
        """(D, rows)."""
        draws = self.draws
        if self.occasion is None:
            assert draws.log_sd is not None
            out = draws.log_sd[:, None] - 0.5 * self.log_weight[part]
        else:
            out = np.log(draws.occasion_sds)[:, self.occasion[part]] - 0.5 * self.log_weight[part]
        if self.values is not None:
            out = out + draws.gamma @ self.values[:, part]
        return np.asarray(out)


def _outcomes(
    draws: Draws, at: Needed, eta: Array, part: slice, scatter: _Scatter | None, laws: list[_Units],
    told: Told | None, rng: np.random.Generator,
) -> Array:  # fmt: skip
    """One more outcome of each row at every draw, (D, rows); a share of the trials where there are trials."""
    fit = draws.fit
    if scatter is not None:
        log_sd = scatter.at(part) + sum((law.log_spread(part) for law in laws), 0.0)
        sd = np.exp(log_sd)
        if told is not None:
            told.narrow(sd, part)
        return np.asarray(eta + sd * rng.standard_normal(eta.shape))
    if fit.design.graded:
        raise UsageError("--new-observation: of grades read the probabilities; leave it out")
    trials = trials_of(fit, at.used)
    column = fit.settings.options.weights
    weights = None if column is None else at.used.numbers(column)[part]
    trials = None if trials is None else trials[part]
    family = fit.model.family.on(Data(np.zeros(eta.shape[1]), trials, weights))
    made = np.array([family.draw(eta[d], draws.extra[d], rng) for d in range(draws.count)])
    return made if trials is None else made / trials
