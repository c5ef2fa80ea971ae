"""Scores of predictions for units that a fit has not seen: each left out in turn, with the others of its fold."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve

from bold_orchard.design.design import Design, UnitCodes
from bold_orchard.design.over import design_over
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import OrchardError, UsageError, unknown_name
from bold_orchard.estimation.apart import RowsApart
from bold_orchard.estimation.assumed import Assumed, assumed_of
from bold_orchard.estimation.dense import effects_covariance, residual_covariance
from bold_orchard.inference.fit import Fit, fit
from bold_orchard.inference.prediction.response_scale import mean_grade
from bold_orchard.progress import Progress
from bold_orchard.workers import all_of

Array = NDArray[Any]
MOST_IN_UNIT = 3_000  # rows of a unit, whose covariance is written out
LEAST_FOLDS = 2


@dataclass(frozen=True)
class Scores:
    """Of one fit: for each ``level`` of the unit the log density of its rows (levels,), and the squared errors of their means."""

    name: str
    levels: tuple[str, ...]
    log_scores: Array
    squares: float
    rows: int
    folds: int

    def document(self, unit: str) -> dict[str, Any]:
        n = len(self.log_scores)
        return {"name": self.name, "unit": unit, "folds": self.folds, "log_score": float(self.log_scores.sum()),
                "se": float(np.sqrt(n) * self.log_scores.std(ddof=1)) if n > 1 else None, "rmse": float(np.sqrt(self.squares / self.rows)),
                "levels": [{"level": v, "log_score": float(s)} for v, s in zip(self.levels, self.log_scores)]}  # fmt: skip


def leave_out(fits: Sequence[Fit], unit: str, folds: int | None, seed: int, report: Progress) -> list[Scores]:
    """Every fit made again without the units of a fold, and scored on them, its effects integrated out.

    ``folds`` share the levels out at random; None leaves each level out alone. Raises UsageError for a unit that a fit does not have, and
    OrchardError where a fold cannot be fitted or foretold.
    """
    codes = _codes(fits[0], unit)
    n_folds = codes.size if folds is None else folds
    if not LEAST_FOLDS <= n_folds <= codes.size:
        raise UsageError(f"--folds is a whole number from {LEAST_FOLDS} to {codes.size}, the levels of {unit}")
    order = np.random.default_rng(seed).permutation(codes.size) if folds is not None else np.arange(codes.size)
    fold_of = np.empty(codes.size, dtype=np.intp)
    fold_of[order] = np.arange(codes.size) % n_folds
    for one in fits:
        _refuse(one, unit)

    def task(k: int) -> tuple[dict[int, float], float]:
        which, fold = divmod(k, n_folds)
        return _one_fold(fits[which], codes, fold_of == fold)

    made = all_of(task, len(fits) * n_folds, report)
    out = []
    for i, one in enumerate(fits):
        mine = made[i * n_folds : (i + 1) * n_folds]
        scores = {level: score for levels, _ in mine for level, score in levels.items()}
        out.append(Scores(one.name, tuple(codes.texts), np.array([scores[j] for j in range(codes.size)]),
                          sum(s for _, s in mine), len(one.design.y), n_folds))  # fmt: skip
    return out


def _codes(one: Fit, unit: str) -> UnitCodes:
    known = {u.name: u for u in one.design.groups}
    if unit not in known:
        raise UsageError(
            unknown_name("unit", unit, list(known) or ["(none)"], f"the fit '{one.name}'") + " (in --leave-out)"
        )
    return known[unit]


def _refuse(one: Fit, unit: str) -> None:
    one.needs_rows("leaving units out")
    one.needs_one_predictor("leaving units out")
    if one.design.random_spread:
        raise OrchardError(
            f"'{one.name}' gives each unit a spread of its own, and units not seen have no density that is written out; leave it out"
        )
    if any(b.relationship_factor is not None for b in one.design.blocks):
        raise OrchardError(f"'{one.name}' has a known covariance between levels, so none of them is new; leave it out")
    largest = int(_codes(one, unit).counts.max())
    if largest > MOST_IN_UNIT:
        raise OrchardError(
            f"the largest {unit} has {largest:,} rows; {MOST_IN_UNIT:,} are the most whose joint density is made: name a finer unit"
        )


def _one_fold(whole: Fit, codes: UnitCodes, levels: NDArray[np.bool_]) -> tuple[dict[int, float], float]:
    """The log density of each level of the fold, and the sum of the squared errors of the fixed part."""
    design = whole.design
    left = levels[codes.codes]
    names = ", ".join(np.array(codes.texts)[levels][:3])
    try:
        made = fit(design.sentence, design.table.take(np.flatnonzero(~left)), whole.settings, whole.name)
        there = design_over(made.design, design.table.take(np.flatnonzero(left)), whole.settings.options.weights)
    except OrchardError as e:
        raise OrchardError(f"'{whole.name}' without {codes.name} {names}: {e}") from None
    if made.design.levels != design.levels:
        raise OrchardError(
            f"'{whole.name}' without {codes.name} {names} has fewer levels of its outcome; leave out fewer at a time"
        )
    if not made.converged:
        raise OrchardError(
            f"'{whole.name}' does not converge without {codes.name} {names}; leave out fewer at a time (--folds), or mend the fit"
        )
    there = replace(there, y=design.y[left])
    assumed, own = assumed_of(made.model), codes.codes[left]
    eta = sum((b * v for b, v in zip(assumed.b, there.fixed.values)), np.zeros(len(there.y)))
    offset = np.zeros(len(there.y)) if there.offset is None else there.offset
    scores = {}
    for level in np.flatnonzero(levels):
        rows = np.flatnonzero(own == level)
        scores[int(level)] = _log_density(made, some_rows(there, rows), assumed, eta[rows], offset[rows])
    return scores, float((_errors(made, there, assumed, eta, offset) ** 2).sum())


def _log_density(made: Fit, rows: Design, assumed: Assumed, eta: Array, offset: Array) -> float:
    """log f(y) of the rows of a unit together, all effects integrated out."""
    if made.design.additive:
        v = effects_covariance(rows, assumed) + residual_covariance(rows, assumed)
        factor, rest = cho_factor(v, lower=True), rows.y - eta
        return float(
            -0.5 * (rest @ cho_solve(factor, rest) + len(rest) * np.log(2 * np.pi)) - np.log(np.diag(factor[0])).sum()
        )
    return RowsApart(made.model, rows).log_likelihood(eta + offset, assumed.covariances, assumed.extra)


def _errors(made: Fit, rows: Design, assumed: Assumed, eta: Array, offset: Array) -> Array:
    """The outcome less what the fixed part says of it, on the outcome's own scale."""
    if made.design.additive:
        return np.asarray(rows.y - eta)
    family = made.model.family
    if made.design.graded:
        cuts = np.cumsum(np.append(assumed.extra[:1], np.exp(assumed.extra[1:])))
        from bold_orchard.families.links import LINKS

        below = LINKS[made.design.link].mean(cuts[None, :] - (eta + offset)[:, None])
        chances = np.diff(np.column_stack([np.zeros(len(eta)), below, np.ones(len(eta))]), axis=1)
        return np.asarray(rows.y + 1.0 - mean_grade(chances))
    y = rows.y if rows.trials is None else rows.y / rows.trials
    return np.asarray(y - family.mean(eta + offset, assumed.extra))
