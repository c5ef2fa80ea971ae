"""Predictions pooled over the fits of completed tables."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.data.table import Table
from bold_orchard.families.links import LINKS
from bold_orchard.imputing.fit import ImputedFit
from bold_orchard.imputing.impute import Imputed
from bold_orchard.inference.coefficients.rubin import pooled
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.predict import document_of, predict
from bold_orchard.inference.prediction.predictions import Predictions
from bold_orchard.progress import Progress
from bold_orchard.results.predict import PredictResult

Array = NDArray[Any]


def predict_pooled(
    fit: Fit, table: Table, own: bool, confidence: float, new_observation: bool, seed: int, report: Progress
) -> PredictResult:  # fmt: skip
    """The document of ``orchard predict`` of a pooled fit; the fit's ``own`` rows are predicted with their gaps as drawn."""
    assert isinstance(fit, ImputedFit)
    cells: Imputed = fit.cells
    made = []
    for i, one in enumerate(fit.imputations):
        report(i, len(fit.imputations))
        made.append(predict(one, cells.completed(table, i) if own else table, confidence, new_observation, seed))
    return document_of(fit, _pooled(fit, table, made, confidence), confidence, new_observation, fit.settings.df)


def _pooled(fit: ImputedFit, table: Table, made: list[Predictions], confidence: float) -> Predictions:
    one = fit.imputations[0]
    products = one.criterion.products
    complete = None if one.settings.df == "normal" else float(products.n - products.p)
    away, back = _scale(fit)
    with np.errstate(all="ignore"):
        middle = np.array([away(p.predicted) for p in made])
        halves = np.array([0.5 * (away(p.high) - away(p.low)) for p in made]) / quantile_t(confidence, complete)
        centre = np.array([0.5 * (away(p.high) + away(p.low)) for p in made])
        predicted = np.mean([p.predicted for p in made], axis=0)
        between = np.var([p.predicted for p in made], axis=0, ddof=1) * (1.0 + 1.0 / len(made))
        se = np.sqrt(np.mean([p.se**2 for p in made], axis=0) + between)
    low, high = np.full(len(predicted), np.nan), np.full(len(predicted), np.nan)
    there = np.flatnonzero(
        np.isfinite(halves).all(axis=0) & np.isfinite(middle).all(axis=0) & np.isfinite(centre).all(axis=0)
    )
    for at in there:
        known = np.array([np.inf if complete is None else complete])
        whole = pooled(middle[:, at : at + 1], halves[:, at, None, None] ** 2, known)
        width = quantile_t(confidence, float(min(whole.df[0], 1e12))) * float(np.sqrt(whole.covariance[0, 0]))
        low[at], high[at] = (float(back(np.array(centre[:, at].mean() + side * width))) for side in (-1.0, 1.0))
    return replace(
        made[0], table=table, predicted=predicted, se=se, low=low, high=high,
        average=np.mean([p.average for p in made], axis=0), residual=np.mean([p.residual for p in made], axis=0),
        probabilities={k: np.mean([p.probabilities[k] for p in made], axis=0) for k in made[0].probabilities},
    )  # fmt: skip


def _scale(fit: ImputedFit) -> tuple[Any, Any]:
    """To the scale on which ends of intervals are pooled, and back: the link's, of mean grades the logit of their place between the ends."""
    design = fit.design
    if design.additive:
        return (lambda v: v), (lambda v: v)
    if design.graded:
        most = float(len(design.levels)) - 1.0
        return (lambda v: special.logit((v - 1.0) / most)), (lambda v: 1.0 + most * special.expit(v))
    link = LINKS[design.link]
    return link.inverse, link.mean
