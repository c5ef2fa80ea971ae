"""From the scale of the linear predictor to that of the outcome: for one unit, and averaged over units."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.fitting import Fit
from bold_orchard.inference.summary import number

Array = NDArray[Any]
NODES = 41


def family_of(fit: Fit) -> Any:
    """The family of a generalized fit."""
    criterion: Any = fit.criterion
    return criterion.family


def population_mean(family: Any, eta: Array, variance: Array | float) -> Array:
    """E over units of the outcome's mean, eta + N(0, variance): Gauss-Hermite with 41 nodes."""
    x, w = np.polynomial.hermite_e.hermegauss(NODES)
    sd = np.sqrt(np.asarray(variance, dtype=float))
    made = family.mean(
        np.asarray(eta)[..., None] + sd[..., None] * x if np.ndim(sd) else np.asarray(eta)[..., None] + sd * x
    )
    return np.asarray(made @ (w / w.sum()))


def random_variance(fit: Fit) -> float:
    """Variance of the random part on the linear scale, averaged over the rows."""
    e, total = fit.evaluation, 0.0
    for clause in fit.design.clauses:
        g = e.covariance(clause.block)[clause.columns, clause.columns]
        z = np.array(clause.part.values)
        total += float(np.einsum("an,ab,bn->", z, g, z)) / z.shape[1]
    return total


def outcome_scale(fit: Fit, eta: float, se: float, width: float) -> dict[str, Any]:
    """``outcome`` and its interval for an average unit, ``population`` averaged over units; grades have no mean."""
    family = family_of(fit)
    if fit.design.family == "ordinal":
        return {}
    at = np.array([eta, eta - width, eta + width])
    mean, low, high = (float(v) for v in family.mean(at))
    average = float(population_mean(family, np.array(eta), random_variance(fit)))
    return {"outcome": number(mean), "outcome_se": number(abs(float(family.mean_slope(np.array(eta)))) * se),
            "outcome_ci": [number(low), number(high)], "population": number(average)}  # fmt: skip


def average_effects(fit: Fit) -> list[dict[str, Any]]:
    """Per column of X but the intercept: the average change of the outcome's mean, unit-specific and population-averaged.

    A two-valued column is switched from its low to its high value in every row; of others the slope is averaged. The
    unit-specific figure keeps each row at its unit's average (effect zero), the other integrates over units.
    """
    design, e, family = fit.design, fit.evaluation, family_of(fit)
    if design.family == "ordinal":
        return []
    kept, variance = e.criterion.products.standard.kept, random_variance(fit)
    x = np.column_stack([design.fixed.values[k] for k in kept])
    eta = x @ e.b + (0.0 if design.offset is None else design.offset)
    out = []
    for place, column in enumerate(kept):
        name = design.fixed.names[column]
        if name == "intercept":
            continue
        values = np.unique(x[:, place])
        if len(values) == 2:
            steps = [eta + e.b[place] * (v - x[:, place]) for v in values]
            own = float(np.mean(family.mean(steps[1]) - family.mean(steps[0])))
            whole = float(
                np.mean(population_mean(family, steps[1], variance) - population_mean(family, steps[0], variance))
            )
        else:
            h = 1e-4 * float(x[:, place].std()) * e.b[place]
            span = 2e-4 * float(x[:, place].std())
            own = float(np.mean(family.mean(eta + h) - family.mean(eta - h))) / span
            whole = (
                float(np.mean(population_mean(family, eta + h, variance) - population_mean(family, eta - h, variance)))
                / span
            )
        out.append({"term": name, "unit_specific": number(own), "population": number(whole)})
    return out
