"""Curvature in a predictor that the model has not taken up."""

from __future__ import annotations

from dataclasses import replace
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.validation import constant_inside
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.distributions import p_of_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.average_lines import covariates
from bold_orchard.sentence.tree import columns_of

Array = NDArray[Any]


def curvature(fit: Fit, standardised: Array) -> list[dict[str, Any]]:
    """For each numeric predictor the test of its square, all squares together in the fixed part.

    Variances stay at the fit's estimates (a Wald test of the larger model, one evaluation). Of a generalized fit the
    quantile residuals are regressed on the predictor and its square. A square that the terms span already has no test.
    """
    bent = {c.name for curve in fit.design.sentence.smooths for c in columns_of(curve)}
    names = [name for name in covariates(fit) if name not in bent]
    if not names:
        return []
    tested = _tested(fit.model, fit, names, standardised)
    return [
        {"predictor": name, "statistic": t, "df": df, "p": None if t is None else p_of_t(t, df)}
        for name, (t, df) in zip(names, tested)
    ]


def _squares(fit: Fit, names: list[str]) -> list[Array]:
    out = []
    for name in names:
        x = fit.design.table.numbers(name)
        centred = x - x.mean()
        out.append(centred**2 / max(float((centred**2).mean()), 1e-300))
    return out


@singledispatch
def _tested(model: object, fit: Fit, names: list[str], standardised: Array) -> list[tuple[float | None, float]]:
    raise NotImplementedError(type(model).__name__)


@_tested.register
def _(model: GaussianModel, fit: Fit, names: list[str], standardised: Array) -> list[tuple[float | None, float]]:
    part = model.design.fixed
    extra = _squares(fit, names)
    more = ModelMatrix(
        part.terms, (*part.names, *(f"{n}^2" for n in names)), (*part.labels, *names), (*part.values, *extra),
        (*part.owner, *(0 for _ in names)), part.zeros,
    )  # fmt: skip
    nothing: list[tuple[float | None, float]] = [(None, 0.0) for _ in names]
    try:
        criterion = make_criterion(replace(model.design, fixed=more), model.criterion.reml, few=True)
    except OrchardError:
        return nothing
    e = criterion.at(model.carried(criterion))
    errors = np.sqrt(np.maximum(np.diag(e.b_covariance), 0.0))
    kept = criterion.products.standard.kept
    out = nothing
    for k, name in enumerate(names):
        column = len(part.values) + k
        if column in kept and errors[kept.index(column)] > 0:
            i = kept.index(column)
            out[k] = (float(e.b[i] / errors[i]), _df(fit, name, len(kept)))
    return out


def _df(fit: Fit, name: str, rank: int) -> float:
    """Rows less the rank of X; of a predictor that is constant in a unit the unit's levels less that rank."""
    x = fit.design.table.numbers(name)
    levels = len(x)
    for unit in fit.design.groups:
        if constant_inside(unit.codes, unit.size, x):
            levels = min(levels, unit.size)
    return float(max(levels - rank, 1))


@_tested.register(SpreadModel)
@_tested.register
def _(model: GeneralizedModel, fit: Fit, names: list[str], standardised: Array) -> list[tuple[float | None, float]]:
    out: list[tuple[float | None, float]] = []
    for name, square in zip(names, _squares(fit, names)):
        x = fit.design.table.numbers(name)
        w = np.column_stack([np.ones(len(x)), x - x.mean(), square])
        df = float(len(x) - 3)
        if df < 1 or np.linalg.matrix_rank(w / np.maximum(np.abs(w).max(axis=0), 1e-300)) < 3:
            out.append((None, df))
            continue
        b, rest, *_ = np.linalg.lstsq(w, standardised, rcond=None)
        variance = float(rest[0]) / df * np.linalg.inv(w.T @ w)[2, 2]
        out.append((float(b[2] / np.sqrt(variance)), _df(fit, name, 3)) if variance > 0 else (None, df))
    return out
