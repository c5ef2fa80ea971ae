"""What a generalized fit reports: the document, standard errors from the full observed information, ratios."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design import validation
from bold_orchard.design.build import Design
from bold_orchard.inference import advice
from bold_orchard.inference.coefficients.precision import Precision
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.separation import separated
from bold_orchard.inference.summary import (
    SCHEMA,
    alias_notes,
    convergence,
    fixed_rows,
    group_rows,
    likelihood_figures,
    mean_variances,
    number,
    random_parts,
)
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.point import LaplacePoint
from bold_orchard.optimize.newton import Found

Array = NDArray[Any]
HUGE = 12.0
RATIOS = {"logit": "odds ratio", "log": "rate ratio", "cloglog": "hazard ratio"}


class MaximumLikelihood(Precision):
    """Covariance of everything from the inverse of the observed information over all parameters; z throughout."""

    def __init__(self, found: Found[LaplacePoint]) -> None:
        super().__init__(found.point)  # type: ignore[arg-type]
        self.found = found

    @cached_property
    def everything(self) -> Array:
        """Covariance of the search's parameters (working b, theta, extras), zero where held at an edge."""
        c, hessian = self.found.point.criterion, self.found.hessian
        free = ~(c.bounded & (self.found.point.theta <= 0)) & ~c.held(self.found.point.theta)
        out = np.zeros_like(hessian)
        inner = hessian[np.ix_(free, free)]
        d = np.sqrt(np.maximum(np.abs(np.diag(inner)), 1e-300))
        out[np.ix_(free, free)] = (
            2.0 * np.linalg.pinv(inner / np.outer(d, d), rcond=1e-12, hermitian=True) / np.outer(d, d)
        )
        return out

    @cached_property
    def to_user(self) -> Array:
        """Working coefficients -> the user's, (p, p)."""
        return np.linalg.inv(self.found.point.criterion.products.standard.to_work)

    @property
    def covariance(self) -> Array:
        p = self.found.point.criterion.p
        return np.asarray(self.to_user @ self.everything[:p, :p] @ self.to_user.T)


def thresholds(design: Design, point: LaplacePoint, known: MaximumLikelihood) -> tuple[Array, Array]:
    """Thresholds on the user's scale and the joint covariance of (thresholds, b); columns were centred for the search."""
    c = point.criterion
    family: Any = c.family
    kept = c.products.standard.kept
    means = np.array([design.fixed.values[k].mean() for k in kept])
    values = family.thresholds(point.extra) + float(means @ point.b)
    m = len(values)
    turn = np.zeros((m + c.p, len(point.theta)))
    turn[:m, c.extra] = family.thresholds_slope(point.extra)
    turn[:m, : c.p] = means @ known.to_user
    turn[m:, : c.p] = known.to_user
    return values, turn @ known.everything @ turn.T


def threshold_names(design: Design) -> list[str]:
    return [f"threshold[{a}|{b}]" for a, b in zip(design.levels, design.levels[1:])]


def summarise(
    name: str,
    design: Design,
    c: Laplace,
    found: Found[LaplacePoint],
    known: MaximumLikelihood,
    points: int,
    confidence: float,
) -> dict[str, Any]:
    """The document of a generalized fit; keys as for a Gaussian one."""
    e = found.point
    random = random_parts(design, e)  # type: ignore[arg-type]
    boundary = advice.boundary_notes(design, c, found, random)  # type: ignore[arg-type]
    apart, away = separated(design, c, e), _run_away(design, random)
    single = validation.told_by_one_row(design)
    troubles = [*([apart] if apart else []), *away, *([single] if single else [])]
    failed = [] if found.converged else [advice.not_converged(found)]  # type: ignore[arg-type]
    found = replace(found, converged=found.converged and not troubles)
    warnings = [*failed, *troubles, *design.warnings, *boundary.notes]
    if c.held(e.theta).any():
        warnings.append(
            "theta has run away: the counts vary no more than a Poisson law allows, so it cannot be estimated. Use --family poisson."
        )
    rows = fixed_rows(design, known, confidence)
    covariance = _covariance(design, known)
    if design.family == "ordinal":
        values, joint = thresholds(design, e, known)
        rows = [*_threshold_rows(design, values, joint, confidence), *rows]
        covariance = _with_thresholds(joint, covariance, len(values))
    dispersion = c.family.dispersion(e.extra)
    return {
        "schema": SCHEMA,
        "name": name,
        "model": design.sentence.source,
        "outcome": design.outcome,
        "family": design.family,
        "link": design.link,
        "method": "Laplace" if points == 1 else "quadrature",
        "rows": design.rows,
        "groups": group_rows(design),
        "fixed": rows,
        "fixed_covariance": covariance,
        "random": random,
        "residual": None if dispersion is None else {"dispersion": number(dispersion)},
        "fit": likelihood_figures(e.deviance, c.p + int(c.frame.n_theta) + c.family.n_extra, len(design.y)),
        "convergence": convergence(found, boundary.units) | {"identified": single is None},
        "notes": [*warnings, *design.notes, *alias_notes(design, c.products)],
        "warnings": warnings,
        "df_method": "normal",
        "points": points,
        "confidence": confidence,
        "intercept_at": list(design.fixed.zeros) if design.fixed.intercept or design.family == "ordinal" else [],
        "transformations": [{"term": t, "meaning": m} for t, m in design.meanings.items()],
        "mean_random_variance": mean_variances(design, e),  # type: ignore[arg-type]
        "levels": list(design.levels),
    }


def _run_away(design: Design, random: list[dict[str, Any]]) -> list[str]:
    """Effects so large that the outcome hardly varies inside a unit."""
    if design.family not in ("binomial", "ordinal"):
        return []
    out = []
    for clause, part in zip(design.clauses, random):
        for values, term, sd in zip(clause.part.values, part["terms"], part["sd"]):
            if sd is not None and sd * float(np.sqrt(np.mean(values**2))) > HUGE:
                out.append(
                    f"The {term} effects of {part['group']} run away (SD {sd:.3g} on the {design.link} scale): the outcome hardly varies "
                    f"inside one {part['group']}, so its size has no upper end. Leave the clause out, or model the {part['group']} itself."
                )
    return out


def _covariance(design: Design, known: MaximumLikelihood) -> list[list[float | None]]:
    kept, p = known.e.criterion.products.standard.kept, len(design.fixed.names)
    full: list[list[float | None]] = [[None] * p for _ in range(p)]
    covariance = known.covariance
    for i, a in enumerate(kept):
        for j, b in enumerate(kept):
            full[a][b] = number(covariance[i, j])
    return full


def _with_thresholds(joint: Array, covariance: list[list[float | None]], m: int) -> list[list[float | None]]:
    kept = [i for i, row in enumerate(covariance) if row[i] is not None]
    p = len(covariance)
    full: list[list[float | None]] = [[None] * (m + p) for _ in range(m + p)]
    places = [*range(m), *(m + k for k in kept)]
    for i, a in enumerate(places):
        for j, b in enumerate(places):
            full[a][b] = number(joint[i, j])
    return full


def _threshold_rows(design: Design, values: Array, joint: Array, confidence: float) -> list[dict[str, Any]]:
    width, rows = quantile_t(confidence, None), []
    for i, name in enumerate(threshold_names(design)):
        se = float(np.sqrt(max(joint[i, i], 0.0)))
        z = values[i] / se if se > 0 else np.nan
        rows.append({"term": name, "estimate": number(values[i]), "se": number(se), "df": None, "statistic": number(z),
                     "p": number(p_of_t(z, None)) if np.isfinite(z) else None,
                     "ci": [number(values[i] - width * se), number(values[i] + width * se)], "label": name})  # fmt: skip
    return rows


def with_ratios(document: dict[str, Any]) -> dict[str, Any]:
    """The same document with exp(estimate) and its interval in every fixed row but the thresholds."""
    rows = []
    for row in document["fixed"]:
        ratio = ends = None
        if row["estimate"] is not None and not row["term"].startswith("threshold["):
            ratio, ends = _exp(row["estimate"]), [_exp(v) for v in row["ci"]]
        rows.append(row | {"ratio": ratio, "ratio_ci": ends})
    return document | {"fixed": rows, "ratio_kind": RATIOS[document["link"]]}


def _exp(x: float) -> float | None:
    return float(np.exp(x)) if x < 700 else None
