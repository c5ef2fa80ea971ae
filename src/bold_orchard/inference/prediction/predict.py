"""Predicted values for the rows of a table, whether their outcome was measured or not."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.table import Table
from bold_orchard.design.build import columns_that_vary, unit_codes
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.outcomes import OURS, is_stacked
from bold_orchard.design.transformations import OUTCOME, ColumnMaker
from bold_orchard.errors import UsageError, counted
from bold_orchard.families.base import Data
from bold_orchard.inference.coefficients.curves import average_curves
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.asked_rows import (
    UNTOLD,
    Needed,
    NoRow,
    complete_rows,
    lagged,
    needed,
    no_row,
    outcome_of,
    outside,
    places_of,
    refused,
    scattered,
    trials_of,
    variance_places,
)
from bold_orchard.inference.prediction.groups import not_observed
from bold_orchard.inference.prediction.in_runs import AT_ONCE, Gathered, by_runs, runs_of, texts_of
from bold_orchard.inference.prediction.outcome_errors import OutcomeErrors
from bold_orchard.inference.prediction.predictions import DRAWS, ROWS_AT_ONCE, Predictions, joint_error
from bold_orchard.inference.prediction.response_scale import grade_chances, outcome_mean
from bold_orchard.progress import Progress, silent
from bold_orchard.results.predict import PredictResult
from bold_orchard.results.rows import Rows
from bold_orchard.threads import at_once, processors

if TYPE_CHECKING:
    from bold_orchard.inference.prediction.neighbours import Told

Array = NDArray[Any]
SCHEMA = "bold-orchard/predict/1"
GIVEN, UNTOLD_OF_NEIGHBOURS = 1.0, -1.0  # in given_neighbours, which is 0 where no neighbour has an observed error
FIELDS = ("predicted", "se", "low", "high", "average", "residual", "known", "given_neighbours")
CHANCE = "probability of "

NO_ERROR_KNOWN = (
    "The errors of this fit are known for its rows only: the interval is that of a true value (of a new unit, its own effect counted in), "
    "without the error with which it would be observed."
)


def predict(
    fit: Fit, table: Table, confidence: float = 0.95, new_observation: bool = False, seed: int = 0,
    report: Progress = silent,
) -> Predictions:  # fmt: skip
    """Empirical best linear unbiased predictions X b + Z u with the error of b and u together.

    Harville (1976): the error of a predicted combination is that of the mixed-model equations' solution. A unit that was
    not in the fit has effect 0 and its whole variance in the standard error. Intervals cover the mean of a row, not a new
    observation of it, with the residual degrees of freedom for every row (the normal under ``--df normal``).
    """
    table, rng = lagged(fit, table), np.random.default_rng(seed)
    if len(table) <= AT_ONCE:
        return _of_run(fit, table, confidence, new_observation, rng)
    if not complete_rows(fit, table, new_observation).any():
        raise NoRow(no_row(table))
    gathered, runs = Gathered(table), list(runs_of(table))
    drawn = new_observation and not fit.design.additive  # one run's draws after another's
    together = 1 if drawn else processors()
    for start in [0, *range(1, len(runs), together)]:  # the first alone: what all runs need is made there
        report(start * AT_ONCE, len(table))
        some = runs[start : start + together if start else 1]
        for part in at_once(lambda run: _arrays_of_run(fit, run, confidence, new_observation, rng), some):
            gathered.add(part)
    made = gathered.result()
    chances = {k.removeprefix(CHANCE): made.pop(k) for k in list(made) if k.startswith(CHANCE)}
    return Predictions(table=table, probabilities=chances, **made)


def _arrays_of_run(
    fit: Fit, run: Table, confidence: float, new_observation: bool, rng: np.random.Generator
) -> dict[str, Array]:
    """The fields of ``Predictions`` over some rows; NaN where none of them can be predicted."""
    try:
        made = _of_run(fit, run, confidence, new_observation, rng)
        own = {name: getattr(made, name) for name in FIELDS}
        return own | {f"{CHANCE}{level}": p for level, p in made.probabilities.items()}
    except NoRow:
        pass
    blank = np.full(len(run), np.nan)
    out = dict.fromkeys(FIELDS, blank) | {"known": np.full((len(run), len(fit.design.clauses)), np.nan)}
    return out | dict.fromkeys(
        [f"{CHANCE}{level}" for level in (fit.design.levels if _has_chances(fit) else ())], blank
    )


def _has_chances(fit: Fit) -> bool:
    """Whether what is predicted are probabilities of several levels."""
    return fit.design.graded or fit.model.family.reads == "levels"


def linear_predictor(fit: Fit, table: Table) -> tuple[Array, Array]:
    """X b + Z u + offset of the rows that have all that the model needs, and the variance of its error, (n,) each;
    errors of neighbours left out."""
    at = needed(fit, table, False)
    moved, variance, _ = _unit_part(fit, at.used, at.parts, at.x)
    return _average(fit, at) + moved, variance


def _average(fit: Fit, at: Needed) -> Array:
    """X b + offset, (n,)."""
    return np.asarray(at.x @ fit.evaluation.b + (0.0 if at.offset is None else at.offset))


def _of_run(fit: Fit, table: Table, confidence: float, new_observation: bool, rng: np.random.Generator) -> Predictions:
    if fit.design.predictors:
        from bold_orchard.inference.prediction.predict_several import of_run

        return of_run(fit, table, confidence, new_observation, rng)
    design, at = fit.design, needed(fit, table, new_observation)
    used, x = at.used, at.x
    average = _average(fit, at)
    curves = average_curves(fit, ColumnMaker(used, design.memory, learn=False))
    moved, variance, known = _unit_part(fit, used, at.parts, x)
    told = _from_neighbours(fit, used)
    given = np.zeros(len(used))
    own = _residual_variance(fit, used) if new_observation and design.additive else np.zeros(len(used))
    if told is not None:
        given[told.places], given[told.untold] = GIVEN, UNTOLD_OF_NEIGHBOURS
        moved[told.places], variance[told.places], own[told.places] = told.moved, told.variance, told.own
    se = np.sqrt(np.maximum(variance, 0.0))
    products = fit.criterion.products
    df = None if fit.settings.df == "normal" else float(products.n - products.p)
    width = quantile_t(confidence, df) * se
    predicted = average + moved
    average = average + curves
    if new_observation and design.additive:
        width = quantile_t(confidence, df) * np.sqrt(variance + own)
    low, high = predicted - width, predicted + width
    probabilities: dict[str, Array] = {}
    if not design.additive:
        if design.graded:
            probabilities = grade_chances(fit, predicted)
        ends = _drawn_ends(fit, used, predicted, se, confidence, rng) if new_observation else None
        predicted, se, low, high = OutcomeErrors(fit).interval(predicted, x, confidence, variance)
        average = outcome_mean(fit, average)
        low, high = (low, high) if ends is None else ends
    return Predictions(
        table=at.table,
        predicted=scattered(at, predicted),
        se=scattered(at, se),
        low=scattered(at, low),
        high=scattered(at, high),
        average=scattered(at, average),
        residual=outcome_of(fit, at.table) - scattered(at, predicted),
        known=scattered(at, known),
        given_neighbours=scattered(at, given),
        probabilities={level: scattered(at, p) for level, p in probabilities.items()},
    )


def _from_neighbours(fit: Fit, used: Table) -> Told | None:
    """What observed errors tell of some rows, where errors of one unit are correlated."""
    if fit.design.residual.codes is None:
        return None
    from bold_orchard.inference.prediction.neighbours import from_neighbours

    return from_neighbours(fit, used)


def _residual_variance(fit: Fit, used: Table) -> Array:
    """Residual variance of each new row, by its spread, its occasion and its weight; raises OrchardError for a new occasion."""
    design, residual = fit.design, fit.result["residual"]
    if design.known_errors:  # the error of a row that is not there is not known
        return np.zeros(len(used))
    parameters = residual["parameters"]
    if design.residual.variance_labels:
        e = fit.evaluation
        found = e.criterion.correlated.rows.covariance_of_labels(e.theta[e.criterion.phi], float(e.sigma2))
        variance = np.diag(found)[variance_places(fit, used)]
    else:
        variance = np.full(len(used), float(residual["variance"]))
    if design.sentence.spread:
        part = build_part(design.sentence.spread, True, ColumnMaker(used, design.memory, learn=False))
        log_sd = sum(row["estimate"] * v for row, v in zip(parameters["spread"], part.values[1:]))
        variance = variance * np.exp(2.0 * np.asarray(log_sd))
    variance = variance * _own_spread(fit, used)
    column_of_weights = fit.settings.options.weights
    return np.asarray(variance if column_of_weights is None else variance / used.numbers(column_of_weights))


def _own_spread(fit: Fit, used: Table) -> Array:
    """The mean of exp(2 s) of each row's unit, (n,): s of a known unit as predicted with its error, of another one from its law."""
    out = np.ones(len(used))
    for clause, each in zip(fit.design.clauses, fit.design.sentence.clauses):
        if clause.has_spread:
            at = clause.columns.start + clause.part.names.index("spread")
            effects, errors = fit.model.effects[clause.block]
            place = places_of(unit_codes(each.unit, used), fit.design.blocks[clause.block].unit)
            law = float(fit.evaluation.covariance(clause.block)[at, at])
            mean = np.append(effects[:, at], 0.0)[place]
            out = np.exp(2.0 * mean + 2.0 * np.append(errors[:, at, at], law)[place])
    return out


def _drawn_ends(
    fit: Fit, used: Table, eta: Array, se: Array, confidence: float, rng: np.random.Generator
) -> tuple[Array, Array]:
    """Quantiles of outcomes drawn for each row, a share of the trials where there are trials."""
    if fit.design.graded:
        raise UsageError("--new-observation: of grades read the probabilities; leave it out")
    trials = trials_of(fit, used)
    column = fit.settings.options.weights
    weights = None if column is None else used.numbers(column)
    extra = fit.model.extra
    ends = []
    for start in range(0, len(eta), ROWS_AT_ONCE):
        at = slice(start, start + ROWS_AT_ONCE)
        part = None if trials is None else trials[at]
        own = None if weights is None else weights[at]
        family = fit.model.family.on(Data(np.zeros(len(eta[at])), part, own))
        drawn = [family.draw(eta[at] + se[at] * rng.standard_normal(len(eta[at])), extra, rng) for _ in range(DRAWS)]
        made = np.quantile(drawn, [(1 - confidence) / 2, (1 + confidence) / 2], axis=0)
        ends.append(made if part is None else made / part)
    low, high = np.concatenate(ends, axis=1)
    return low, high


def _unit_part(fit: Fit, used: Table, parts: tuple[Any, ...], x: Array) -> tuple[Array, Array, Array]:
    """Z u, the variance of X b + Z (u_hat - u), and which units are known, per row."""
    design, e = fit.design, fit.evaluation
    n = len(used)
    moved, known = np.zeros(n), np.ones((n, len(design.clauses)))
    blocks: list[tuple[Array, Array]] = []
    variance = np.zeros(n)
    for i, (clause, part, each) in enumerate(zip(design.clauses, parts, design.sentence.clauses)):
        place = places_of(unit_codes(each.unit, used), design.blocks[clause.block].unit)
        effects, _ = fit.model.effects[clause.block]
        z = np.column_stack(part.values)
        have = place >= 0
        known[:, i] = have
        moved += np.where(have, np.einsum("nk,nk->n", z, effects[np.maximum(place, 0)][:, clause.columns]), 0.0)
        g = e.covariance(clause.block)[clause.columns, clause.columns]
        variance += np.where(have, 0.0, np.einsum("nj,jk,nk->n", z, g, z) * varied(fit, i, used) ** 2)
        full = np.zeros((n, e.criterion.structures[clause.block].size))
        full[:, clause.columns] = np.where(have[:, None], z, 0.0)
        blocks.append((np.maximum(place, 0), full))
    return moved, variance + joint_error(fit, x, blocks), known


def varied(fit: Fit, position: int, used: Table) -> Array:
    """By what the SDs of the effects of each clause's unit exceed those at zero, per row (n,); of clauses without vary 1."""
    clause, each = fit.design.clauses[position], fit.design.sentence.clauses[position]
    part = columns_that_vary(each.vary, ColumnMaker(used, fit.design.memory, learn=False))
    if part is None or clause.vary is None:
        return np.ones(len(used))
    made = [row["estimate"] for row in fit.result["random"][position]["vary"]]
    return np.asarray(np.exp(sum(b * v for b, v in zip(made, part.values))))


def predict_document(
    fit: Fit, table: Table, confidence: float = 0.95, new_observation: bool = False, seed: int = 0,
    report: Progress = silent,
) -> PredictResult:  # fmt: skip
    """The document of ``orchard predict``: the input rows with what is predicted beside them."""
    made = predict(fit, table, confidence, new_observation, seed, report)
    return document_of(fit, made, confidence, new_observation, fit.settings.df)


def document_of(
    fit: Fit,
    made: Predictions,
    confidence: float,
    new_observation: bool,
    df: str,
    notes: Sequence[str] = (),
    **more: Any,
) -> PredictResult:
    """The document, from what was predicted."""
    table = made.table
    columns: dict[str, Any] = {
        "predicted": made.predicted, "se": made.se, "low": made.low, "high": made.high,
        "predicted_average": made.average, "residual": made.residual,
    } | {f"probability[{level}]": p for level, p in made.probabilities.items()}  # fmt: skip
    if made.probabilities and not fit.design.graded:
        columns["most_probable"] = by_runs_of_levels(table, made.probabilities)
    columns["units_known"] = _units_known(fit, table, made.known)
    given = by_runs(table, made.given_neighbours, lambda values: values == GIVEN)
    neighboured = int(given.sum())
    alone = int(by_runs(table, made.given_neighbours, lambda values: values == UNTOLD_OF_NEIGHBOURS).sum())
    if neighboured:
        columns["given_neighbours"] = given
    new_units = int(by_runs(table, made.known, lambda known: (known == 0).any(axis=1)).sum())
    number = f"row of {fit.name}" if table.has("row") else "row"
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "confidence": confidence,
        "df": df,
        "units": sorted(u.name for u in fit.design.groups),
        "new_units": new_units,
        "grades": list(fit.design.levels) if _has_chances(fit) else [],
        "rows": Rows(
            {number: range(1, len(table) + 1) if table.rows is None else table.rows} | beside(table, columns, fit.name)
        ),
        "new_observation": new_observation,
        "notes": [
            *notes,
            *not_observed(fit),
            *_refused(refused(fit, table, new_observation)),
            *_notes(new_units),
            *_neighbour_notes(neighboured, alone, fit.design.residual.unit),
            *_beyond(outside(fit, table)),
            *_grade_notes(fit),
            *([NO_ERROR_KNOWN] if new_observation and fit.design.known_errors else []),
        ],
    }
    return PredictResult.from_dict(document | more)


def beside(table: Table, made: dict[str, Any], name: str) -> dict[str, Any]:
    """The user's columns and ours; one of ours that bears the name of a user's gets the fit's name after it."""
    table.data.fetch(table.columns)
    ours = OURS if is_stacked(table) else ()
    own = {c: table.column(c) for c in table.columns if c not in ours}
    if ours:
        made = {"outcome": table.column(OUTCOME)} | made
    return own | {f"{k} of {name}" if k in own else k: v for k, v in made.items()}


def by_runs_of_levels(table: Table, probabilities: dict[str, Array]) -> Texts:
    """The most probable level of every row; nothing where there is no prediction."""
    levels = list(probabilities)
    stacked = np.stack([np.asarray(p) for p in probabilities.values()], axis=1)
    codes = np.where(np.isnan(stacked).any(axis=1), len(levels), np.nan_to_num(stacked).argmax(axis=1))
    return texts_of(codes.astype(np.intp), [*levels, ""])


def _units_known(fit: Fit, table: Table, known: Array) -> Texts:
    """For each row 'all', or the units whose level was not in the fit; nothing where there is no prediction."""
    names = [str(each.unit) for each in fit.design.sentence.clauses]

    def words(row: Any) -> str:
        new = list(dict.fromkeys(n for n, k in zip(names, row) if k == 0))
        return f"not {', '.join(new)}" if new else "all" if not any(np.isnan(k) for k in row) else ""

    seen: dict[int, str] = {}
    place: dict[int, int] = {}

    def codes(own: Array) -> Array:
        states = np.where(np.isnan(own), 2, own).astype(np.int64)
        pattern = states @ 3 ** np.arange(states.shape[1]) if states.shape[1] else np.zeros(len(own), dtype=np.int64)
        kinds, first, inverse = np.unique(pattern, return_index=True, return_inverse=True)
        for kind, row in zip(kinds.tolist(), first.tolist()):
            place.setdefault(kind, len(place))
            seen.setdefault(kind, words(own[row]))
        return np.array([place[k] for k in kinds.tolist()], dtype=np.intp)[inverse.ravel()]

    made = by_runs(table, known, codes)
    return texts_of(made, list(seen.values()))


def _grade_notes(fit: Fit) -> list[str]:
    if not fit.design.graded:
        return []
    levels = fit.design.levels
    return [
        f"Predicted values are mean grades (1 = {levels[0]}, {len(levels)} = {levels[-1]}); the chance of each grade stands in the columns "
        "probability[grade]."
    ]


def _refused(rows: Array) -> list[str]:
    if not len(rows):
        return []
    first = ", ".join(map(str, rows[:3])) + (", ..." if len(rows) > 3 else "")
    return [f"{counted(len(rows), 'row')} ({first}) without a prediction: {UNTOLD}."]


def _beyond(found: list[tuple[str, int]]) -> list[str]:
    return [
        f"{counted(rows, 'row')} with {column} beyond the values of the fit's data: predictions there extrapolate."
        for column, rows in found
    ]


def _neighbour_notes(rows: int, alone: int, unit: str | None) -> list[str]:
    out = []
    if rows:
        out.append(
            f"{counted(rows, 'row')} without an outcome are predicted given the observed errors of their {unit} too "
            "(column given_neighbours)."
        )
    if alone:
        out.append(
            f"{counted(alone, 'row')} without an outcome are predicted without the observed errors of their {unit}: the fit was "
            "read in pieces, too many rows hang together, or an occasion is new."
        )
    return out


def _notes(new: int) -> list[str]:
    if not new:
        return []
    return [
        f"{counted(new, 'row')} of units that were not in the fit (column units_known): the average, and the wider error that belongs to it."
    ]
