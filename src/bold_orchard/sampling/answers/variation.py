"""Variance components, ICC and R squared from draws: each figure is worked out at every draw, then summed up."""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.design.validation import constant_inside, is_nested
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.averages import given_scale, part_of_effect
from bold_orchard.results.components import ComponentsResult
from bold_orchard.sampling.answers.draws import METHOD, Draws, told

Array = NDArray[Any]


def components(draws: Draws, confidence: float = 0.95) -> ComponentsResult:
    """The document of ``orchard components`` from draws: posterior means, SDs and equal-tailed intervals.

    ``sd`` and ``correlation`` are posterior means of their own; shares, ICC (of two rows of one level) and R squared (Nakagawa & Schielzeth
    2013, Johnson 2014) have intervals too.
    """
    fit = draws.fit
    design = fit.design
    rows = _entries(draws)
    shared = [r | {"part": None} for r in rows] if design.outcomes else rows  # outcomes have no shares of one another
    total = _total(rows)
    made = [_row(r, total, confidence) for r in [*shared, *_occasion_entries(draws)] if r["kind"] != "latent"]
    made += _parameters(draws, confidence)
    explained = {} if design.outcomes else dict(zip(("marginal", "conditional"), _explained(draws)))
    r2: dict[str, Any] = {key: number(values.mean()) for key, values in explained.items()}
    r2 |= {f"{key}_ci": told(values, confidence)[2] for key, values in explained.items()}
    document: dict[str, Any] = {
        "schema": "bold-orchard/components/1", "name": fit.name, "model": fit.result["model"], "outcome": fit.result["outcome"],
        "method": METHOD, "interval": METHOD, "confidence": confidence, "components": made,
        "icc": _icc(draws, confidence),
        "r2": {"marginal": None, "conditional": None} | r2,
        "latent_variance": None if design.additive else number(rows[-1]["value"].mean()), "against": None, "reduction": None, "notes": draws.warnings,
        "posterior": draws.origin,
    }  # fmt: skip
    return ComponentsResult.from_dict(document)


def figures(draws: Draws, confidence: float) -> list[dict[str, Any]]:
    """ICC of every unit and both R squared by name, each with mean, SD, median and interval."""
    made = {
        f"icc({unit}{of and f', {of}'})": value
        for of, own in _by_outcome(draws).items()
        for unit, value, _ in _alike(own)
    }
    if not draws.fit.design.outcomes:
        made |= dict(zip(("r2(marginal)", "r2(conditional)"), _explained(draws)))
    out = []
    for name, values in made.items():
        if np.isfinite(values).all():
            mean, sd, (low, high) = told(values, confidence)
            out.append(
                {
                    "quantity": name,
                    "mean": mean,
                    "sd": sd,
                    "median": number(np.median(values)),
                    "low": low,
                    "high": high,
                }
            )
    return out


def _entries(draws: Draws) -> list[dict[str, Any]]:
    """Every variance and covariance with its ``value`` (D,) and ``part`` (D,) of the variance of a row on average, the residual last.

    Effects that may covary share one part, which stands with the first of them.
    """
    design, rows = draws.fit.design, []
    for clause in design.clauses:
        names, g = clause.names, draws.covariance(clause) * given_scale(design, clause)
        m = draws.mean_products(clause) / given_scale(design, clause)
        base = {"group": design.units[clause.unit].name, "unit": clause.unit}
        for i, term in enumerate(names):
            size = float(np.sqrt(design.mean_of(clause.part.values[i] ** 2)))
            part = part_of_effect(design, clause, i, g, m)
            rows.append(base | {"kind": "variance", "term": term, "term2": None, "value": g[:, i, i], "part": part,
                                "size": size, "correlation": None})  # fmt: skip
        for i, j in itertools.combinations(range(len(names)), 2) if clause.kind.correlated else ():
            sds = np.sqrt(g[:, i, i] * g[:, j, j])
            rows.append(base | {"kind": "covariance", "term": names[i], "term2": names[j], "value": g[:, i, j],
                                "part": None, "size": None, "correlation": g[:, i, j] / np.maximum(sds, 1e-300)})  # fmt: skip
    kind = "residual" if design.additive and not design.known_errors else "latent"
    rows.append({"group": "residual", "unit": None, "kind": kind, "term": "residual", "term2": None, "value": _residual(draws),
                 "part": _mean_residual(draws), "size": 1.0, "correlation": None})  # fmt: skip
    return rows


def _occasion_entries(draws: Draws) -> list[dict[str, Any]]:
    """The variances and covariances of occasions, or of several outcomes."""
    known = draws.fit.catalogue
    sds = {p: draws.of(p) for p in known.occasions}
    base = {"group": "residual", "unit": None, "part": None}
    rows: list[dict[str, Any]] = [
        base | {"kind": "variance", "term": p.term, "term2": None, "value": sd**2, "size": 1.0, "correlation": None}
        for p, sd in sds.items()
    ]
    for (i, j), p in known.occasion_correlations.items():
        r = draws.of(p)
        value = r * sds[known.occasions[i]] * sds[known.occasions[j]]
        own = {"kind": "covariance", "term": p.term, "term2": p.term2, "value": value, "size": None, "correlation": r}
        rows.append(base | own)
    return rows


def _by_outcome(draws: Draws) -> dict[str, Draws]:
    """The draws asked about each of several outcomes, by name; of a single one as they are, under no name."""
    names = draws.fit.design.outcomes
    return {name: replace(draws, fit=draws.fit.of(name)) for name in names} or {"": draws}


def _total(rows: list[dict[str, Any]]) -> Array:
    """The variance of a row, (D,)."""
    return np.asarray(np.sum([r["part"] for r in rows if r["part"] is not None], axis=0))


def _residual(draws: Draws) -> Array:
    """The residual variance, of the baseline under a spread, the mean one of occasions; of other outcomes what the family adds, (D,)."""
    design = draws.fit.design
    if not design.additive:
        return _latent(draws)
    if draws.log_sd is not None:
        return np.asarray(np.exp(2.0 * draws.log_sd))
    return np.asarray(np.mean(draws.occasion_sds**2, axis=1))


def _latent(draws: Draws) -> Array:
    """Of the average row, on the scale of eta (Nakagawa, Johnson & Schielzeth 2017)."""
    fit = draws.fit
    design, family = fit.design, fit.model.family
    if design.predictors:  # each on a scale of its own
        return np.full(len(draws.b), np.nan)
    at = np.array([design.fixed.values[k].mean() for k in fit.model.kept])
    eta = draws.b @ at + (0.0 if design.offset is None else float(design.offset.mean()))
    if design.link == "log":
        eta = eta + 0.5 * draws.random_variance
    extra = fit.model.extra if design.graded else None
    return np.array(
        [family.latent_variance(np.array(e), draws.extra[d] if extra is None else extra) for d, e in enumerate(eta)]
    )


def _mean_residual(draws: Draws) -> Array:
    """The residual variance on average over the rows, (D,); of other outcomes what the family adds."""
    design = draws.fit.design
    if not design.additive:
        return _latent(draws)
    squares = _of_occasions(draws) if draws.log_sd is None else np.exp(2.0 * draws.log_sd)[:, None]
    if design.residual.spread is not None:
        squares = squares * np.exp(2.0 * draws.gamma @ np.array(design.residual.spread.values))
    if design.weights is not None and design.counts is None:
        squares = squares / design.weights
    return np.asarray(squares.mean(axis=1))


def _of_occasions(draws: Draws) -> Array:
    """Residual variances of the rows' occasions, (D, n)."""
    residual = draws.fit.design.residual
    return np.asarray(draws.occasion_sds[:, residual.variance_codes(residual.time, residual.level)] ** 2)


def _row(row: dict[str, Any], total: Array, confidence: float) -> dict[str, Any]:
    mean, sd, ends = told(row["value"], confidence)
    root = None if row["kind"] == "covariance" else number(np.sqrt(np.maximum(row["value"], 0.0)).mean())
    r = row["correlation"]
    return {"group": row["group"], "kind": row["kind"], "term": row["term"], "term2": row["term2"], "estimate": mean, "sd": root,
            "correlation": None if r is None else number(np.clip(r, -1, 1).mean()), "se": sd, "ratio": None, "ci": ends,
            "share": None if row["part"] is None else number((row["part"] / total).mean()), "boundary": False,
            "sd_in_outcome": None if row["size"] is None or root is None else root * row["size"], "change": None}  # fmt: skip


def _parameters(draws: Draws, confidence: float) -> list[dict[str, Any]]:
    """Rows of kind 'parameter': rho, coefficients of a spread and of what SDs vary with, the family's own."""
    known, design = draws.fit.catalogue, draws.fit.design
    reported = [("residual", p.term, p) for p in known.residual_own]
    reported += [("residual", f"spread {p.term}", p) for p in known.spread]
    for clause, own in zip(design.clauses, known.clauses):
        reported += [(design.units[clause.unit].name, p.term, p) for p in own.vary]
    reported += [("residual", p.term, p) for p in known.family_own]
    blank = dict.fromkeys(("term2", "sd", "correlation", "ratio", "share", "sd_in_outcome", "change"))
    out = []
    for group, term, parameter in reported:
        mean, sd, ends = told(draws.of(parameter), confidence)
        out.append({"group": group, "kind": "parameter", "term": term, "estimate": mean, "se": sd, "ci": ends, "boundary": False} | blank)  # fmt: skip
    return out


def _alike(draws: Draws) -> list[tuple[str, Array, Array]]:
    """Per unit the correlation of two rows of one level (D,), and its own share of the variance (D,)."""
    design, rows, out = draws.fit.design, _entries(draws), []
    total = _total(rows)
    nothing = np.zeros(draws.count)
    parts = [
        sum((r["part"] for r in rows if r["unit"] == i and r["part"] is not None), nothing)
        for i in range(len(design.units))
    ]
    total = total - sum((p for u, p in zip(design.units, parts) if u.curve), nothing)
    for unit, own in zip(design.units, parts):
        if unit.curve:
            continue
        shared = sum((p for other, p in zip(design.units, parts) if other is unit or is_nested(unit, other)), nothing)
        residual = design.residual
        alike = residual_structure_of(residual.kind).one_correlation and residual.codes is not None
        if alike and constant_inside(unit.codes, unit.size, np.asarray(residual.codes)):
            shared = shared + draws.of(draws.fit.catalogue.residual_own[0]) * rows[-1]["part"]
        out.append((unit.name, shared / total, own / total))
    return out


def _icc(draws: Draws, confidence: float) -> list[dict[str, Any]]:
    if draws.fit.design.predictors:
        return []
    return [
        {"group": unit, "value": number(value.mean()), "share": number(own.mean()), "ci": told(value, confidence)[2]}
        | ({"outcome": outcome} if outcome else {})
        for outcome, mine in _by_outcome(draws).items()
        for unit, value, own in _alike(mine)
    ]


def _explained(draws: Draws) -> tuple[Array, Array]:
    """Marginal and conditional R squared, (D,) each."""
    fit = draws.fit
    design = fit.design
    curves = [values for c in design.clauses if design.units[c.unit].curve for values in c.part.values]
    columns = [
        values - design.mean_of(values) for values in (*(design.fixed.values[k] for k in fit.model.kept), *curves)
    ]
    squares = np.array([[design.mean_of(a * b) for b in columns] for a in columns]).reshape(len(columns), len(columns))
    fixed = np.einsum("di,ij,dj->d", draws.average, squares, draws.average) * design.n_rows / max(design.n_rows - 1, 1)
    rest = _mean_residual(draws)
    random = draws.random_variance
    total = fixed + random + rest
    return fixed / total, (fixed + random) / total
