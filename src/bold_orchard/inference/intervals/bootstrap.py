"""Parametric bootstrap: outcomes simulated from a fit, the fit made again on each, both cores at work."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.diagnostics.residuals import family_extra, rows_family, threshold_shift
from bold_orchard.estimation import generalized
from bold_orchard.estimation.gaussian import Fit, make_criterion, row_order, search
from bold_orchard.inference.intervals.intervals import Progress, fixed_places, quantity_row, row_of
from bold_orchard.inference.variances.quantities import point_of, quantities
from bold_orchard.likelihood.gaussian import Evaluation
from bold_orchard.optimize.newton import Found

Array = NDArray[Any]
AT_ONCE = 10
_held: list[Callable[[int], Array]] = []


def simulate(fit: Fit, rng: np.random.Generator) -> Array:
    """An outcome drawn from the fitted model, (n,), offsets left out as in ``design.y``."""
    e, design = fit.evaluation, fit.design
    kept = e.criterion.products.standard.kept
    y = np.zeros(len(design.y))
    for b, column in zip(e.b, kept):
        y += b * design.fixed.values[column]
    effects = [_effects(e, f, rng) for f in range(len(design.blocks))]
    for clause in design.clauses:
        own = effects[clause.block][design.blocks[clause.block].unit.codes]
        for values, column in zip(clause.part.values, range(clause.columns.start, clause.columns.stop)):
            y += values * own[:, column]
    if design.generalized:
        eta = y - threshold_shift(fit) + (0.0 if design.offset is None else design.offset)
        return np.asarray(rows_family(fit).draw(eta, family_extra(fit), rng))
    return y + _residuals(fit, rng)


def _effects(e: Evaluation, f: int, rng: np.random.Generator) -> Array:
    """Effects of one unit, (levels, k), on the user's scale."""
    products = e.criterion.products
    unit = products.units[f]
    drawn = rng.standard_normal((unit.levels, unit.size))
    if unit.mix is not None:
        drawn = unit.mix @ drawn
    factor = np.sqrt(e.sigma2) * np.linalg.solve(products.z_to_work[f], e.factors[f])
    return np.asarray(drawn @ factor.T)


def _residuals(fit: Fit, rng: np.random.Generator) -> Array:
    e, design = fit.evaluation, fit.design
    drawn = rng.standard_normal(len(design.y))
    if e.criterion.correlated is not None:
        drawn = e.criterion.correlated.rows.colour(e.theta[e.criterion.phi], drawn)
        order = row_order(design.residual)
        if order is not None:
            drawn[order] = drawn.copy()
    drawn *= np.sqrt(e.sigma2)
    return drawn if design.weights is None else drawn / np.sqrt(design.weights)


def again(fit: Fit, y: Array) -> Found[Evaluation]:
    """The same model fitted to another outcome, from the estimates of the first."""
    if fit.design.generalized:
        return generalized.again(fit, y)  # type: ignore[return-value]
    criterion = make_criterion(replace(fit.design, y=y), fit.criterion.reml)
    theta = fit.evaluation.theta
    start = np.where(criterion.bounded & (np.abs(theta) < 1e-2), 0.1, theta)
    return search(criterion, start, fit.settings)


def run(task: Callable[[int], Array], samples: int, report: Progress) -> Array:
    """task(0), ..., task(samples - 1) stacked, (samples, ...); on all cores where processes can be forked."""
    parts = [range(i, min(i + AT_ONCE, samples)) for i in range(0, samples, AT_ONCE)]
    made: list[Array] = []
    for part in _each_part(task, parts):
        made += part
        report(len(made), samples)
    return np.array(made)


def _each_part(task: Callable[[int], Array], parts: list[range]) -> Iterator[list[Array]]:
    workers = min(os.cpu_count() or 1, len(parts))
    if workers == 1 or "fork" not in multiprocessing.get_all_start_methods():
        for part in parts:
            yield [task(i) for i in part]
        return
    context = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(workers, context, initializer=_begin, initargs=(task,)) as pool:
        yield from pool.map(_do, parts)


def _begin(task: Callable[[int], Array]) -> None:
    """In a new worker: the processors are shared out, so its linear algebra keeps to one of them."""
    from threadpoolctl import threadpool_limits

    threadpool_limits(1)
    _held.append(task)


def _do(part: range) -> list[Array]:
    """In a worker: the task came with the fork."""
    return [_held[-1](i) for i in part]


def bootstrap_intervals(
    fit: Fit, confidence: float, samples: int, seed: int, report: Progress, notes: list[str]
) -> list[dict[str, Any]]:
    """Percentile intervals of every parameter."""
    followed, columns = quantities(fit), fixed_places(fit)

    def one(i: int) -> Array:
        found = again(fit, simulate(fit, np.random.default_rng([seed, i])))
        psi = point_of(found.point)
        values = np.r_[found.point.b, [q.back(q.at(psi)) for q in followed]]
        return values if found.converged else np.full(len(values), np.nan)

    made = run(one, samples, report)
    good = made[~np.isnan(made).any(axis=1)]
    tail = (1.0 - confidence) / 2.0
    ends = np.quantile(good, [tail, 1.0 - tail], axis=0) if len(good) else np.full((2, made.shape[1]), np.nan)
    notes.append(
        f"Percentile intervals of {len(good):,} simulated outcomes (seed {seed}), each fitted anew by {fit.result['method']}."
    )
    if len(good) < samples:
        notes.append(f"{samples - len(good):,} of {samples:,} refits did not converge and were left out.")
    rows, psi = [], point_of(fit.evaluation)
    for entry, (name, place) in zip(fit.result["fixed"], columns):
        low, high = (None, None) if place is None else ends[:, place]
        rows.append(row_of(name, "fixed", None, (name, None), entry["estimate"], low, high))
    first = len(fit.evaluation.b)
    for k, q in enumerate(followed):
        rows.append(quantity_row(q, psi, *ends[:, first + k]))
    return rows


def bootstrap_p(small: Fit, large: Fit, samples: int, seed: int, report: Progress) -> tuple[float, int]:
    """p-value of the likelihood ratio under the smaller model, (1 + exceeding) / (1 + drawn); also how many refits counted."""
    seen = small.evaluation.deviance - large.evaluation.deviance

    def one(i: int) -> Array:
        y = simulate(small, np.random.default_rng([seed, i]))
        pair = [again(f, y) for f in (small, large)]
        ratio = pair[0].point.deviance - pair[1].point.deviance
        return np.array(ratio if all(f.converged for f in pair) else np.nan)

    ratios = run(one, samples, report)
    ratios = ratios[~np.isnan(ratios)]
    return (1.0 + float((ratios >= seen - 1e-7).sum())) / (1.0 + len(ratios)), len(ratios)
