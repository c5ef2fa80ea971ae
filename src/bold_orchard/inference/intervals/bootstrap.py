"""Parametric bootstrap: outcomes simulated from a fit, the fit made again on each."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.intervals.rows import fixed_places, quantity_row, row_of
from bold_orchard.inference.variances.quantities import quantities
from bold_orchard.progress import Progress
from bold_orchard.workers import run

Array = NDArray[Any]


def bootstrap_intervals(
    fit: Fit, confidence: float, samples: int, seed: int, report: Progress, notes: list[str]
) -> list[dict[str, Any]]:
    """Percentile intervals of every parameter."""
    followed, columns = quantities(fit), fixed_places(fit)

    def one(i: int) -> Array:
        found = fit.model.again(fit.model.simulate(np.random.default_rng([seed, i])))
        psi = found.point.psi
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
    rows, psi = [], fit.evaluation.psi
    for entry, (parameter, place) in zip(fit.result.coefficient_rows, columns):
        low, high = (None, None) if place is None else ends[:, place]
        rows.append(row_of(parameter, entry["estimate"], low, high))
    first = len(fit.evaluation.b)
    for k, q in enumerate(followed):
        rows.append(quantity_row(q, psi, *ends[:, first + k]))
    return rows


def bootstrap_p(small: Fit, large: Fit, samples: int, seed: int, report: Progress) -> tuple[float, int]:
    """p-value of the likelihood ratio under the smaller model, (1 + exceeding) / (1 + drawn); also how many refits counted."""
    seen = small.evaluation.deviance - large.evaluation.deviance

    def one(i: int) -> Array:
        y = small.model.simulate(np.random.default_rng([seed, i]))
        pair = [f.model.again(y) for f in (small, large)]
        ratio = pair[0].point.deviance - pair[1].point.deviance
        return np.array(ratio if all(f.converged for f in pair) else np.nan)

    ratios = run(one, samples, report)
    ratios = ratios[~np.isnan(ratios)]
    return (1.0 + float((ratios >= seen - 1e-7).sum())) / (1.0 + len(ratios)), len(ratios)
