"""Scores of predictions for rows that a fit has not seen, of units that it mostly has: left out in folds, several times
over."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.over import design_over
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit, fit
from bold_orchard.inference.prediction.predict import linear_predictor, predict
from bold_orchard.inference.prediction.response_scale import NODES, outcome_mean
from bold_orchard.progress import Progress
from bold_orchard.validation.leave_out import LEAST_FOLDS, Scores
from bold_orchard.workers import all_of

Array = NDArray[Any]
ROWS = "rows"  # what is left out, in the place of a unit
FOLDS = 10


def leave_out_rows(fits: Sequence[Fit], folds: int | None, repeats: int, seed: int, report: Progress) -> list[Scores]:
    """Every fit made again without the rows of a fold, and each of these scored by its density given what the fit knows
    of its units.

    Means over ``repeats`` shares of the rows among ``folds``. Raises UsageError for folds and repeats that cannot be,
    and OrchardError where
    a fold cannot be fitted or its rows not foretold.
    """
    first, n = fits[0], len(fits[0].design.y)
    n_folds = min(FOLDS, n) if folds is None else folds
    if not LEAST_FOLDS <= n_folds <= n:
        raise UsageError(f"--folds is a whole number from {LEAST_FOLDS} to {n}, the rows")
    if repeats < 1:
        raise UsageError("--repeats is a whole number, 1 or more")
    for one in fits:
        one.needs_rows("leaving rows out")
        one.needs_one_predictor("leaving rows out")
        if one.design.outcomes or one.design.random_spread:
            what = "has several outcomes in each row" if one.design.outcomes else "gives each unit a spread of its own"
            raise OrchardError(f"'{one.name}' {what}, and its rows are not scored one by one; leave it out")
    rng = np.random.default_rng(seed)
    fold_of = np.array([rng.permutation(np.arange(n) % n_folds) for _ in range(repeats)])

    def task(k: int) -> tuple[Array, Array]:
        which, rest = divmod(k, repeats * n_folds)
        repeat, fold = divmod(rest, n_folds)
        return _one_fold(fits[which], np.flatnonzero(fold_of[repeat] == fold))

    made, each = all_of(task, len(fits) * repeats * n_folds, report), repeats * n_folds
    out, texts = [], tuple(str(r) for r in first.design.table.row_numbers)
    for i, one in enumerate(fits):
        scores, squares = np.zeros((2, repeats, n))
        for k in range(each):
            repeat, fold = divmod(k, n_folds)
            scores[repeat, fold_of[repeat] == fold], squares[repeat, fold_of[repeat] == fold] = made[i * each + k]
        out.append(Scores(one.name, texts, scores.mean(axis=0), float(squares.mean(axis=0).sum()), n, n_folds))
    return out


def _one_fold(whole: Fit, left: NDArray[np.intp]) -> tuple[Array, Array]:
    """The log density of each row left out, and its squared error."""
    design, where = whole.design, f"'{whole.name}' without {len(left):,} rows"
    kept = np.setdiff1d(np.arange(len(design.y)), left)
    try:
        made = fit(design.sentence, design.table.take(kept), whole.settings, whole.name)
    except OrchardError as e:
        raise OrchardError(f"{where}: {e}; leave out fewer at a time, with more --folds") from None
    if not made.converged or made.design.levels != design.levels:
        raise OrchardError(
            f"{where} does not converge or loses a level of its outcome; leave out fewer at a time, with more --folds"
        )
    table, y = design.table.take(left), design.outcome_values[left]
    if design.additive:
        return _additive(made, table, y)
    eta, variance = linear_predictor(made, table)
    if len(eta) < len(left):
        raise OrchardError(
            f"{where} knows nothing of levels that only these have; leave out fewer at a time, with more --folds"
        )
    there = design_over(made.design, table, whole.settings.options.weights)
    x, w = np.polynomial.hermite_e.hermegauss(NODES)
    at = eta + np.sqrt(np.maximum(variance, 0.0)) * x[:, None]
    family = made.model.family.on(there.data_of(design.y[left]))
    values = family.value(at - made.model.shift, made.model.extra)
    highest = values.max(axis=0)
    scores = highest + np.log(w @ np.exp(values - highest) / w.sum())
    return scores, (_observed(made, design.y[left], there.trials) - outcome_mean(made, eta)) ** 2


def _observed(made: Fit, y: Array, trials: Array | None) -> Array:
    """The outcome on the scale of its mean: a share of trials, grades from 1."""
    return y + 1.0 if made.design.graded else y if trials is None else y / trials


def _additive(made: Fit, table: Any, y: Array) -> tuple[Array, Array]:
    """Normal, with the error of the mean and that of the row, neighbours' observed errors known where these are
    correlated."""
    level = 0.5
    told = predict(made, table, level, new_observation=True)
    if not np.isfinite(told.predicted).all():
        raise OrchardError(
            f"'{made.name}' knows nothing of levels that only rows left out have; leave out fewer at a time, with more --folds"
        )
    products = made.criterion.products
    df = None if made.settings.df == "normal" else float(products.n - products.p)
    sd = (told.high - told.low) / (2.0 * quantile_t(level, df))
    rest = y - told.predicted
    return -0.5 * (rest / sd) ** 2 - np.log(sd) - 0.5 * np.log(2.0 * np.pi), rest**2
