"""Variance components with standard errors, intervals, shares, ICC and R squared."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.inference.comparison.compare import same_question, same_rows
from bold_orchard.inference.comparison.explained import variance_explained
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.intervals.intervals import profiled_quantities, wald_ends
from bold_orchard.inference.summary import number, residual_variance
from bold_orchard.inference.variances.averages import (
    given_scale,
    grown_squares,
    mean_products,
    mean_residual_variance,
    part_of_effect,
)
from bold_orchard.inference.variances.heterogeneity import heterogeneity
from bold_orchard.inference.variances.quantities import Effects, of_occasions, own_places, quantities
from bold_orchard.inference.variances.shares import intraclass_correlations, latent_variance, r_squared
from bold_orchard.likelihood.gaussian import GaussianPoint
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.progress import Progress
from bold_orchard.results.components import ComponentsResult

Array = NDArray[Any]
SCHEMA = "bold-orchard/components/1"


def components(
    fit: Fit,
    confidence: float = 0.95,
    method: str = "wald",
    against: Fit | None = None,
    progress: Progress | None = None,
) -> ComponentsResult:
    """The document of ``orchard components``; intervals on the log scale (wald) or by profile.

    ``change`` is what one more step of the search would alter; with ``against``, the proportional reduction of each
    variance from that fit to this one. Raises OrchardError when ``against`` explains another outcome or other rows.
    """
    e, design = fit.evaluation, fit.design
    rows = _entries(fit)
    covariance = fit.known.model_parameter_covariance
    step = -0.5 * covariance @ e.psi_slope
    gradients = _gradients(fit, rows)
    total = sum(r["part"] for r in rows if r["part"] is not None)
    z = quantile_t(confidence, None)
    out: list[dict[str, Any]] = []
    named: list[Parameter | None] = []
    for row, slope in zip(rows, gradients):
        if row["kind"] in ("latent", "known"):
            continue
        se = float(np.sqrt(max(float(slope @ covariance @ slope), 0.0)))
        boundary = row["group"] in fit.result["convergence"]["boundary_terms"]
        zero = row["kind"] == "variance" and row["estimate"] == 0
        made = _row(
            row,
            None if zero or se == 0 else se,
            z,
            None if row["part"] is None or design.stacked_names else row["part"] / total,
            boundary,
        )
        out.append(made | {"change": number(float(slope @ step))})
        named.append(row["parameter"])
    beside = _correlations(fit, covariance, z)
    for parameter, row in zip(named, out):
        if row["kind"] == "covariance" and parameter in beside:
            row |= beside[parameter]
    for parameter, made in [*_of_labels(fit, covariance, z, beside), *_own(fit, covariance, z), *_coefficients(fit, z)]:
        out.append(made)
        named.append(parameter)
    notes = list(fit.result["warnings"])
    if method == "profile":
        _profile_ends(fit, out, named, confidence, progress, notes)
    reduction = None if against is None else _reduction(fit, against)
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "method": fit.result["method"],
        "interval": method,
        "confidence": confidence,
        "components": out,
        "icc": intraclass_correlations(fit),
        "r2": r_squared(fit),
        "latent_variance": None if design.additive or design.predictors else rows[-1]["estimate"],
        "against": None if against is None else against.name,
        "reduction": reduction,
        "notes": notes,
    }
    if design.known_errors:
        document["heterogeneity"] = [h.to_dict() for h in heterogeneity(fit)]
    if fit.imputations:
        document |= _over_completed(document, [components(f, confidence).to_dict() for f in fit.imputations])
    return ComponentsResult.from_dict(document)


def _over_completed(document: dict[str, Any], each: list[dict[str, Any]]) -> dict[str, Any]:
    """Shares, ICC and R^2 of a pooled fit: their means over the completed tables, whose rows are those that vary."""

    def mean(values: list[float | None]) -> float | None:
        return None if None in values else number(float(np.mean([v for v in values if v is not None])))

    rows = [row | {"share": mean([d["components"][k]["share"] for d in each]), "change": None}
            for k, row in enumerate(document["components"])]  # fmt: skip
    icc = []
    for k, entry in enumerate(document["icc"]):
        icc.append(entry | {key: mean([d["icc"][k][key] for d in each]) for key in ("value", "share")})
        for i, level in enumerate(entry.get("by_level", [])):
            level |= {key: mean([d["icc"][k]["by_level"][i][key] for d in each]) for key in ("value", "share")}
    r2 = {key: mean([d["r2"][key] for d in each]) for key in ("marginal", "conditional")}
    return {"components": rows, "icc": icc, "r2": r2, "latent_variance": mean([d["latent_variance"] for d in each])}


def _profile_ends(
    fit: Fit, rows: list[dict[str, Any]], parameters: list[Parameter | None], confidence: float, progress: Progress | None,
    notes: list[str],
) -> None:  # fmt: skip
    """Put profile intervals in place of the Wald ones, on the variance scale; ``parameters`` of the rows, None where nothing is estimated."""
    followed = quantities(fit, covariances=True)
    made = zip(followed, profiled_quantities(fit, followed, confidence, progress, notes))
    found = {q.parameter: row for q, row in made}
    for row, parameter in zip(rows, parameters):
        match = found.get(parameter) if parameter is not None else None
        power = 1 if row["kind"] in ("parameter", "covariance") else 2
        row["ci"] = None if match is None else [None if v is None else v**power for v in (match["low"], match["high"])]


def _reduction(fit: Fit, against: Fit) -> list[dict[str, Any]]:
    """1 - variance here / variance there for every component both have, and why a value may be negative."""
    same_question([against, fit], force=False)
    same_rows(fit, against)
    return variance_explained(against, fit)


def _entries(fit: Fit) -> list[dict[str, Any]]:
    """Every variance, covariance and the residual; ``part`` is what it adds to the variance of a row on average.

    Effects that may covary share one part, which stands with the first of them. The last row of a generalized fit is the variance its
    family adds on the linear scale (kind 'latent').
    """
    design, e = fit.design, fit.evaluation
    rows: list[dict[str, Any]] = []
    for clause in design.clauses:
        at = clause.columns.start
        names, own = clause.names, fit.catalogue.of(clause)
        g = e.covariance(clause.block)[clause.columns, clause.columns] * given_scale(design, clause)
        m = mean_products(design, clause, grown_squares(fit.model, clause)) / given_scale(design, clause)
        base = {"group": design.units[clause.unit].name, "unit": clause.unit, "block": clause.block}
        for i, term in enumerate(names):
            part = part_of_effect(design, clause, i, g, m)
            rows.append(base | {"kind": "variance", "term": term, "term2": None, "estimate": g[i, i], "at": (at + i, at + i),
                                "parameter": own.sds[i] if own.sds else None,
                                "part": part, "size": float(np.sqrt(design.mean_of(clause.part.values[i] ** 2))), "sd": np.sqrt(max(g[i, i], 0.0)), "correlation": None})  # fmt: skip
        for i, j in itertools.combinations(range(len(names)), 2):
            if not clause.kind.correlated:
                continue
            known = own.correlations.get((i, j))
            sd = np.sqrt(g[i, i] * g[j, j])
            rows.append(base | {"kind": "covariance", "term": names[i], "term2": names[j], "estimate": g[i, j], "at": (at + i, at + j),
                                "parameter": None if known is None else known.as_covariance,
                                "part": None, "size": None, "sd": None, "correlation": g[i, j] / sd if sd > 0 else None})  # fmt: skip
    if design.known_errors:
        v, kind, part = mean_residual_variance(fit.model), "known", mean_residual_variance(fit.model)
    elif design.additive:
        v, kind = residual_variance(design, e.criterion, e.theta[e.criterion.phi], e.row_variance), "residual"
        part = mean_residual_variance(fit.model)
    else:
        v = part = np.nan if design.predictors else latent_variance(fit)
        kind = "latent"
    rows.append({"group": "residual", "unit": None, "kind": kind, "term": "residual", "term2": None, "estimate": v,
                 "parameter": fit.catalogue.residual_sd, "at": None, "part": part, "size": 1.0, "sd": np.sqrt(v), "correlation": None})  # fmt: skip
    return rows


def _row(row: dict[str, Any], se: float | None, z: float, share: float | None, boundary: bool) -> dict[str, Any]:
    estimate = float(row["estimate"])
    ci: list[float | None] | None = None
    if se is not None and se > 0:
        if row["kind"] == "covariance":
            ci = [number(estimate - z * se), number(estimate + z * se)]
        else:
            factor = np.exp(min(z * se / estimate, 700.0))
            ci = [number(estimate / factor), number(estimate * factor)]
    return {
        "group": row["group"],
        "kind": row["kind"],
        "term": row["term"],
        "term2": row["term2"],
        "estimate": number(estimate),
        "sd": None if row["sd"] is None else number(row["sd"]),
        "correlation": None if row["correlation"] is None else number(np.clip(row["correlation"], -1, 1)),
        "se": None if se is None else number(se),
        "ratio": number(estimate / se) if se else None,
        "ci": ci,
        "share": None if share is None else number(share),
        "boundary": boundary,
        "sd_in_outcome": None if row["size"] is None else number(row["sd"] * row["size"]),
    }


def _correlations(fit: Fit, covariance: Array, z: float) -> dict[Parameter | None, dict[str, Any]]:
    """Of every covariance the error and the interval of its correlation, by Fisher's z."""
    psi = fit.evaluation.psi
    out: dict[Parameter | None, dict[str, Any]] = {}
    for q in quantities(fit):
        if q.parameter.kind == "correlation" and q.exists(psi):
            t, slope = q.value_and_slope(psi)
            se = float(np.sqrt(max(float(slope @ covariance @ slope), 0.0))) * float(np.cos(t))
            ends = [None if v is None else number(v) for v in wald_ends(q, psi, covariance, z)]
            out[q.parameter.as_covariance] = {
                "correlation_se": number(se),
                "correlation_ci": None if None in ends else ends,
            }
    return out


def _of_labels(
    fit: Fit, covariance: Array, z: float, beside: dict[Parameter | None, dict[str, Any]]
) -> Iterator[tuple[Parameter, dict[str, Any]]]:
    """Variances of the residuals' occasions and levels, and covariances of occasions."""
    if not fit.catalogue.occasions:
        return
    psi, sds = fit.evaluation.psi, {}
    for q in of_occasions(fit.criterion, fit.catalogue, covariances=True):
        value, slope = q.value_and_slope(psi)
        p = q.parameter
        row: dict[str, Any] = {
            "group": "residual",
            "kind": p.kind,
            "term": p.term,
            "term2": p.term2,
            "part": None,
            "size": None,
            "sd": None,
            "correlation": None,
        }
        if p.kind == "sd":
            sds[p.places[0]] = value
            slope = 2.0 * value * slope
            row |= {"kind": "variance", "estimate": value**2, "sd": value, "size": 1.0}
        else:
            row |= {"estimate": value, "correlation": value / (sds[p.places[0]] * sds[p.places[1]])}
        se = float(np.sqrt(max(float(slope @ covariance @ slope), 0.0)))
        yield p, _row(row, se or None, z, None, False) | {"change": None} | beside.get(p, {})


def _own(fit: Fit, covariance: Array, z: float) -> list[tuple[Parameter, dict[str, Any]]]:
    """What the residual structure or the family has of its own; errors by its slope in the search's parameters."""
    out, psi, mine = [], fit.evaluation.psi, {p for p, _, _ in own_places(fit)}
    for q in quantities(fit):
        if q.parameter not in mine:
            continue
        (t, slope), h = q.value_and_slope(psi), 1e-5
        working = float(np.sqrt(max(float(slope @ covariance @ slope), 0.0)))
        se = working * abs(q.back(t + h) - q.back(t - h)) / (2 * h)
        sides = (np.clip(t + side * min(z * working, 700.0), q.low, q.high) for side in (-1, 1))
        low, high = sorted(q.back(float(side)) for side in sides)
        out.append((q.parameter, _parameter_row(q.parameter.group, q.parameter.term, q.back(t), se, (low, high))))
    return out


def _coefficients(fit: Fit, z: float) -> Iterator[tuple[Parameter, dict[str, Any]]]:
    """What the residual SD and the SDs of units' effects depend on."""
    spread = fit.result["residual"]["parameters"].get("spread", []) if fit.catalogue.spread else []
    for parameter, row in zip(fit.catalogue.spread, spread):
        b, se = row["estimate"], row["se"]
        yield parameter, _parameter_row("residual", f"spread {parameter.term}", b, se, (b - z * se, b + z * se))
    for own, part in zip(fit.catalogue.clauses, fit.result["random"]):
        for parameter, row in zip(own.vary, part.get("vary", [])):
            b, se = row["estimate"], row["se"]
            yield parameter, _parameter_row(part["group"], parameter.term, b, se, (b - z * se, b + z * se))


def _parameter_row(group: str | None, term: str, b: float, se: float, ci: tuple[float, float]) -> dict[str, Any]:
    """Without error and interval at an edge of the model."""
    blank = dict.fromkeys(("term2", "sd", "correlation", "share", "sd_in_outcome", "change"))
    return {"group": group, "kind": "parameter", "term": term, "estimate": number(b), "se": number(se) if se else None,
            "ratio": number(b / se) if se else None, "ci": [number(v) for v in ci] if se else None, "boundary": False} | blank  # fmt: skip


def root_mean_square(values: Array) -> float:
    return float(np.sqrt(values @ values / len(values)))


def _gradients(fit: Fit, rows: list[dict[str, Any]]) -> list[Array]:
    """Derivative of each component in psi (theta, phi, log sigma^2; all parameters of a generalized fit)."""
    design, e = fit.design, fit.evaluation
    psi, effects = e.psi, {c.block: Effects(fit.criterion, c.block) for c in design.clauses}
    out = []
    for row in rows:
        g = np.zeros(len(psi))
        if row["unit"] is not None:
            g = effects[row["block"]].element(psi, *row["at"])[1]
        elif row["kind"] == "residual":
            if not design.known_errors:
                g[-1] = row["estimate"]
            g[fit.criterion.phi] = _residual_slope(design, e)
        out.append(g)
    return out


def _residual_slope(design: Design, e: GaussianPoint) -> Array:
    """Derivative of the reported residual variance in phi, by central differences."""
    c, h = e.criterion, 1e-6
    phi = e.theta[c.phi]
    ends = [
        [residual_variance(design, c, phi + side * step, e.row_variance) for side in (1, -1)]
        for step in h * np.eye(len(phi))
    ]
    return np.array([(up - down) / (2 * h) for up, down in ends])
