"""Adjusted means, their differences, and contrasts from draws."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.inference.coefficients.contrasts import combination
from bold_orchard.inference.coefficients.means import Hold, ask, document_of, label, nothing
from bold_orchard.inference.coefficients.reference_grid import Asked
from bold_orchard.inference.prediction.response_scale import mean_grade, population_mean
from bold_orchard.results.means import MeansResult
from bold_orchard.results.terms import TermsResult
from bold_orchard.sampling.answers.draws import METHOD, Draws, chance_above, told

Array = NDArray[Any]
TOP = 700.0  # of an exponent


def means(
    draws: Draws, term: str, hold: Hold | None = None, confidence: float = 0.95, slope: str | None = None, within: str | None = None,
    ratios: bool = False,
) -> MeansResult:  # fmt: skip
    """The document of ``orchard means`` from draws: means, SDs and equal-tailed intervals of each mean and difference.

    There are no degrees of freedom and no p-values; ``chance_above`` is the posterior chance that a difference is. Raises OrchardError and
    UsageError as the likelihood's means do.
    """
    fit = draws.fit
    asked = ask(fit, term, hold, slope, within, ratios)
    eta = draws.average @ asked.kept.T + asked.offset
    own = slope is None and not fit.design.additive
    outcome = draws.outcome(eta) if own else None
    over = draws.random_variances(asked.grid.random_products(asked.points)) if own else None
    origin = draws.cuts.mean(axis=1)[:, None] if fit.design.graded and slope is None else 0.0
    made = []
    for i, (cell, ok) in enumerate(zip(asked.cells, asked.sure)):
        if not ok:
            made.append({"levels": cell} | nothing(fit, slope is None))
            continue
        mean, sd, ends = told((eta - origin)[:, i], confidence)
        made.append({"levels": cell, "mean": mean, "se": sd, "df": None, "ci": ends})
        if outcome is not None and over is not None:
            made[-1] |= _outcome(draws, eta[:, i], outcome[:, i], over[:, i], confidence)
    pairs, errors = _pairs(asked, eta, outcome, confidence, ratios)
    return document_of(
        fit,
        asked,
        made,
        pairs,
        errors,
        "none",
        METHOD,
        confidence,
        units=False,
        notes=draws.warnings,
        posterior=draws.origin,
    )


def _outcome(draws: Draws, eta: Array, outcome: Array, variance: Array, confidence: float) -> dict[str, Any]:
    """On the outcome's own scale, for an average unit and averaged over units, of whose effects eta has a ``variance`` (D,); of grades the
    chances too."""
    fit, out = draws.fit, {}
    if fit.design.graded:
        chances = np.array([draws.chances_at(d)(eta[d]) for d in range(draws.count)])
        over = np.array([
            population_mean(lambda at, d=d: draws.chances_at(d)(at).swapaxes(-1, -2), eta[d], variance[d]) for d in range(draws.count)
        ])  # fmt: skip
        rows = []
        for g, level in enumerate(fit.design.levels):
            mean, sd, ends = told(chances[:, g], confidence)
            rows.append({"grade": level, "chance": mean, "se": sd, "ci": ends, "population": float(over[:, g].mean())})
        out["chances"], average = rows, mean_grade(over)
    else:
        average = np.array([population_mean(draws.mean_at(d), eta[d], variance[d]) for d in range(draws.count)])
    mean, sd, ends = told(outcome, confidence)
    return out | {"outcome": mean, "outcome_se": sd, "outcome_ci": ends, "population": float(average.mean())}


def _pairs(
    asked: Asked, eta: Array, outcome: Array | None, confidence: float, ratios: bool
) -> tuple[list[dict[str, Any]], Array]:
    """Differences a - b of all pairs, and the matrix of their SDs."""
    n, out = len(asked.cells), []
    errors = np.zeros((n, n))
    blank = dict.fromkeys(("df", "statistic", "p", "p_adjusted"))
    for j, i in itertools.combinations(range(n), 2):  # the later level less the earlier, as coefficients are
        errors[i, j] = errors[j, i] = np.nan
        if not (asked.sure[i] and asked.sure[j]):
            continue
        values = eta[:, i] - eta[:, j]
        mean, sd, ends = told(values, confidence)
        errors[i, j] = errors[j, i] = np.nan if sd is None else sd
        if asked.within is not None and asked.cells[i][asked.within] != asked.cells[j][asked.within]:
            continue
        pair: dict[str, Any] = {"a": label(asked.cells[i]), "b": label(asked.cells[j]), "difference": mean, "se": sd}
        pair |= blank | {"ci": ends, "chance_above": chance_above(values)}
        if outcome is not None:
            keys = ("outcome_difference", "outcome_se", "outcome_ci")
            pair |= dict(zip(keys, told(outcome[:, i] - outcome[:, j], confidence)))
        if ratios:
            middle, _, ends = told(np.exp(np.minimum(values, TOP)), confidence)
            pair |= {"ratio": middle, "ratio_ci": ends}
        out.append(pair)
    return out, errors


def contrasts(draws: Draws, texts: Sequence[str], confidence: float = 0.95) -> TermsResult:
    """The document of ``orchard terms`` with contrasts alone: tests of whole terms have no counterpart among draws.

    Raises UsageError where no contrast is named, and what the likelihood's contrasts raise.
    """
    if not texts:
        raise UsageError('--posterior answers for contrasts, not for whole terms; name one: --contrast "hard - light"')
    fit, rows = draws.fit, []
    for text in texts:
        row, target = combination(fit, text)
        values = draws.b @ row
        mean, sd, ends = told(values, confidence)
        rows.append({"contrast": text, "estimate": mean, "se": sd, "df": None, "statistic": None, "p": None, "ci": ends,
                     "against": target, "chance_above": chance_above(values - target)})  # fmt: skip
    document: dict[str, Any] = {
        "schema": "bold-orchard/terms/1", "name": fit.name, "model": fit.result["model"], "type": 3, "df_method": METHOD, "tests": [],
        "contrasts": rows, "confidence": confidence, "by": METHOD, "notes": draws.warnings, "posterior": draws.origin,
    }  # fmt: skip
    return TermsResult.from_dict(document)
