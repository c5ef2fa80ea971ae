"""What the variances amount to: how alike rows of one unit are, and how much of the variance is explained."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.design.validation import constant_inside, is_nested
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.response_scale import random_variance
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.averages import levels_that_matter, mean_effect_variance, mean_residual_variance
from bold_orchard.inference.variances.quantities import own_places


def intraclass_correlations(fit: Fit) -> list[dict[str, Any]]:
    """Per unit ``share``, its own part of the variance, and ``value``, the correlation of two rows of one level.

    Where variances depend on a category the same for each of its levels, in ``by_level``.
    """
    design = fit.design
    if design.predictors:  # each on a scale of its own
        return []
    if design.outcomes:
        return [entry for name in design.outcomes for entry in _icc_of(fit, name)]
    whole = _alike(fit, [mean_effect_variance(fit.model, c) for c in design.clauses], _rest(fit))
    out: list[dict[str, Any]] = [
        {"group": u.name, "value": number(v), "share": number(s)} for u, (v, s) in zip(design.groups, whole)
    ]
    for column, level, own in levels_that_matter(design):
        rest = mean_residual_variance(fit.model, own) if design.additive else _rest(fit)
        made = _alike(fit, [mean_effect_variance(fit.model, c, own) for c in design.clauses], rest)
        for entry, (value, share) in zip(out, made):
            entry.setdefault("by_level", []).append(
                {"column": column, "level": level, "value": number(value), "share": number(share)}
            )
    return out


def _icc_of(fit: Fit, outcome: str) -> list[dict[str, Any]]:
    """The same of one of several outcomes."""
    own = fit.of(outcome)
    parts = [mean_effect_variance(own.model, c) for c in own.design.clauses]
    k = fit.design.outcomes.index(outcome)
    rest = fit.result["residual"]["parameters"]["covariance"][k][k]
    return [
        {"group": u.name, "outcome": outcome, "value": number(v), "share": number(s)}
        for u, (v, s) in zip(own.design.groups, _alike(own, parts, rest))
    ]


def _alike(fit: Fit, parts: list[float], rest: float) -> list[tuple[float, float]]:
    """ICC and own share of every unit, from what each clause and the residuals add.

    Two rows of one tree also share the tree's orchard, and what exchangeable residuals of their unit have in common.
    """
    design, out = fit.design, []
    total = sum(parts) + rest
    of_unit = [sum(p for c, p in zip(design.clauses, parts) if design.units[c.unit] is u) for u in design.groups]
    total -= sum(parts) - sum(of_unit)  # curves of all rows are no differences between units
    residual = design.residual
    for unit, own in zip(design.groups, of_unit):
        shared = sum(part for other, part in zip(design.groups, of_unit) if other is unit or is_nested(unit, other))
        alike = residual_structure_of(residual.kind).one_correlation and residual.codes is not None
        if alike and constant_inside(unit.codes, unit.size, np.asarray(residual.codes)):
            _, rho, at = own_places(fit)[0]
            shared += rho.back(float(fit.evaluation.psi[at])) * rest
        out.append((shared / total, own / total))
    return out


def r_squared(fit: Fit) -> dict[str, float | None]:
    """Marginal and conditional R^2 (Nakagawa & Schielzeth 2013; with random slopes Johnson 2014)."""
    e, design = fit.evaluation, fit.design
    if design.stacked_names:
        return {"marginal": None, "conditional": None}
    kept = e.criterion.products.standard.kept
    predicted = np.zeros(len(design.y))
    for b, column in zip(e.b, kept):
        predicted += b * design.fixed.values[column]
    predicted += fit.model.curve_part()
    centred = predicted - design.mean_of(predicted)
    fixed = design.mean_of(centred**2) * design.n_rows / max(design.n_rows - 1, 1)
    random = random_variance(fit)
    total = fixed + random + _rest(fit)
    return {"marginal": number(fixed / total), "conditional": number((fixed + random) / total)}


def _rest(fit: Fit) -> float:
    """What no unit explains, on average over the rows."""
    return float(mean_residual_variance(fit.model) if fit.design.additive else latent_variance(fit))


def latent_variance(fit: Fit) -> float:
    """What the family itself adds on the scale of eta, at the average row (Nakagawa, Johnson & Schielzeth 2017)."""
    criterion: Any = fit.criterion
    point: Any = fit.evaluation
    design = fit.design
    kept = criterion.products.standard.kept
    eta = sum(b * float(design.fixed.values[k].mean()) for b, k in zip(point.b, kept))
    eta += 0.0 if design.offset is None else float(design.offset.mean())
    if design.link == "log":  # the mean of the outcome averaged over units, lognormal in them
        eta += 0.5 * random_variance(fit)
    return float(criterion.family.latent_variance(np.array(eta), point.extra))
