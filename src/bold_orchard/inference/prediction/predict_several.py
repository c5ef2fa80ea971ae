"""Predictions of rows with several linear predictors: all of them with their errors together, then the outcome's mean
by the delta method."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import rebuild_parts, unit_codes
from bold_orchard.design.predictors import every
from bold_orchard.errors import UsageError
from bold_orchard.families.base import Data
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.asked_rows import (
    Needed,
    NoRow,
    complete_rows,
    no_row,
    outcome_of,
    places_of,
    scattered,
    trials_of,
)
from bold_orchard.inference.prediction.predictions import DRAWS, ROWS_AT_ONCE, Predictions, joint_error
from bold_orchard.inference.prediction.several_predictors import SeveralErrors

Array = NDArray[Any]


def of_run(fit: Fit, table: Table, confidence: float, new_observation: bool, rng: np.random.Generator) -> Predictions:
    """As ``predict``, for the rows of a table."""
    complete = complete_rows(fit, table, new_observation)
    if not complete.any():
        raise NoRow(no_row(table))
    used, names = table.take(complete), fit.design.predictors
    fixed, parts, offset = rebuild_parts(fit.design, every(used, names))
    answers = np.asarray(fit.model.column_space.answers(np.column_stack(fixed.values)))
    told: Array = np.all(answers.reshape(-1, len(names)), axis=1)
    x = np.column_stack([fixed.values[c] for c in fit.model.kept])
    average = x @ fit.evaluation.b + (0.0 if offset is None else offset)
    moved, covariance, known = _effects(fit, used, x, [np.column_stack(p.values) for p in parts])
    errors, family = SeveralErrors(fit), fit.model.family
    at = fit.design.folded(average + moved)
    probabilities: dict[str, Array] = {}
    if family.reads == "levels":
        own: Any = family
        chances = own.probabilities(at)
        probabilities = dict(zip(fit.design.levels, chances))
        mean = se = low = high = overall = np.full(len(used), np.nan)
        if new_observation:
            raise UsageError("--new-observation: of unordered levels read the probabilities; leave it out")
    else:
        s = errors.slopes(at)
        variance = np.einsum("pn,npq,qn->n", s, covariance, s)
        mean, se, low, high = errors.interval(average + moved, x, confidence, variance)
        overall = errors.mean(fit.design.folded(average))
        if new_observation:
            low, high = _drawn(fit, used, at, covariance, confidence, rng)
    here = Needed(table, complete, used, x, parts, offset)

    def placed(values: Array) -> Array:
        return scattered(here, np.where(told if values.ndim == 1 else told[:, None], values, np.nan))

    return Predictions(
        table=table,
        predicted=placed(mean),
        se=placed(se),
        low=placed(low),
        high=placed(high),
        average=placed(overall),
        residual=(outcome_of(fit, table) if not probabilities else np.full(len(table), np.nan)) - placed(mean),
        known=scattered(here, known),
        given_neighbours=scattered(here, np.zeros(len(used))),
        probabilities={level: placed(p) for level, p in probabilities.items()},
    )


def _effects(fit: Fit, used: Table, x: Array, columns: list[Array]) -> tuple[Array, Array, Array]:
    """Z u of every linear predictor (n P,), the covariance of the errors of X b + Z u (n, P, P), and which units are
    known (n, clauses)."""
    design, e, p, n = fit.design, fit.evaluation, len(fit.design.predictors), len(used)
    moved, known = np.zeros(n * p), np.ones((n, len(design.clauses)))
    covariance = np.zeros((n, p, p))
    blocks: list[tuple[Array, Array]] = []
    for i, (clause, z, each) in enumerate(zip(design.clauses, columns, design.sentence.clauses)):
        place = places_of(unit_codes(each.unit, used), design.blocks[clause.block].unit)
        have, at = place >= 0, np.maximum(place, 0)
        known[:, i] = have
        effects = fit.model.effects[clause.block][0][at][:, clause.columns]
        z = z.reshape(n, p, -1)
        moved += (np.einsum("npk,nk->np", z, effects) * have[:, None]).ravel()
        g = e.covariance(clause.block)[clause.columns, clause.columns]
        covariance += np.where(have, 0.0, 1.0)[:, None, None] * np.einsum("npj,jk,nqk->npq", z, g, z)
        full = np.zeros((n, p, e.criterion.structures[clause.block].size))
        full[:, :, clause.columns] = z * have[:, None, None]
        blocks.append((at, full))
    rows = x.reshape(n, p, -1)

    def variance(chosen: tuple[int, ...]) -> Array:
        own = [(at, z[:, list(chosen)].sum(axis=1)) for at, z in blocks]
        return joint_error(fit, rows[:, list(chosen)].sum(axis=1), own)

    alone = [variance((a,)) for a in range(p)]
    for a in range(p):
        covariance[:, a, a] += alone[a]
    for a, b in itertools.combinations(range(p), 2):
        both = 0.5 * (variance((a, b)) - alone[a] - alone[b])
        covariance[:, a, b] += both
        covariance[:, b, a] += both
    return moved, covariance, known


def _drawn(
    fit: Fit, used: Table, eta: Array, covariance: Array, confidence: float, rng: np.random.Generator
) -> tuple[Array, Array]:
    """Quantiles of outcomes drawn for each row, a share of the trials where there are trials."""
    trials, column = trials_of(fit, used), fit.settings.options.weights
    weights = None if column is None else used.numbers(column)
    ends = []
    for start in range(0, len(used), ROWS_AT_ONCE):
        at = slice(start, start + ROWS_AT_ONCE)
        part = None if trials is None else trials[at]
        n = len(eta[0, at])
        family = fit.model.family.on(Data(np.zeros(n), part, None if weights is None else weights[at]))
        values, vectors = np.linalg.eigh(covariance[at])
        root = vectors * np.sqrt(np.maximum(values, 0.0))[:, None, :]
        drawn = [
            family.draw(
                eta[:, at] + np.einsum("npq,nq->pn", root, rng.standard_normal((n, len(eta)))), fit.model.extra, rng
            )
            for _ in range(DRAWS)
        ]
        made = np.quantile(drawn, [(1 - confidence) / 2, (1 + confidence) / 2], axis=0)
        ends.append(made if part is None else made / part)
    low, high = np.concatenate(ends, axis=1)
    return low, high
