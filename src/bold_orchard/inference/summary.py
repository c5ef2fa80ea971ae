"""A fit as the JSON document of the contract: plain dictionaries and lists, null for what does not exist."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import singledispatch
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.errors import UsageError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.model import FittedModel
from bold_orchard.families import family_of
from bold_orchard.inference import advice
from bold_orchard.inference.aliasing import alias_notes
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.monte_carlo import monte_carlo, note
from bold_orchard.inference.smooths import smooths
from bold_orchard.inference.trouble import Trouble
from bold_orchard.inference.variances.averages import given_scale, mean_effect_variance, mean_residual_variance
from bold_orchard.inference.variances.information import parameter_covariance
from bold_orchard.optimize.protocol import OptimizeResult
from bold_orchard.results.base import Absent
from bold_orchard.results.fit import Coefficient, FitResult
from bold_orchard.results.plain import plain
from bold_orchard.sentence.tree import MEAN

Array = NDArray[Any]
R = TypeVar("R", bound=FitResult)
SCHEMA = "bold-orchard/fit/1"


def summarise(
    name: str,
    model: FittedModel[Any, Any],
    known: CoefficientInference,
    df_method: str,
    confidence: float,
    trouble: Trouble,
) -> FitResult:
    """The document that ``fit`` prints; keys and their order are a contract."""
    design, e, found = model.design, model.evaluation, model.found
    random = random_parts(model)
    boundary = advice.boundary_notes(model, random)
    failed = [] if found.converged or not trouble.identified else [advice.not_converged(found)]
    warnings = [*failed, *trouble.notes, *design.warnings, *boundary.notes, *trouble.remarks]
    rows, covariance, parts = _by_part(design, *fixed_part(known, confidence))
    found_by_signs = monte_carlo(model)
    told = [] if found_by_signs is None else [note(model, found_by_signs)]
    document = {
        "schema": SCHEMA,
        "name": name,
        "model": design.sentence.source,
        "outcome": design.outcome,
        "family": design.family,
        "link": design.link,
        "method": model.method,
        "rows": design.rows,
        "groups": group_rows(design),
        "fixed": rows,
        "fixed_covariance": covariance,
        "random": random,
        "residual": residual_part(model),
        "fit": likelihood_figures(e.deviance, model.n_parameters, design.n_rows),
        "convergence": convergence(found, boundary.units, trouble),
        "notes": [*warnings, *told, *design.notes, *alias_notes(design, model.criterion.products)],
        "warnings": warnings,
        "df_method": df_method,
        "confidence": confidence,
        "intercept_at": list(design.fixed.zeros)
        if design.fixed.intercept or design.graded or design.outcomes or design.predictors
        else [],
        "transformations": [{"term": t, "meaning": m} for t, m in design.meanings.items()],
    } | mean_variances(model)
    engine, workers = design.engine
    document["reading"] = {
        "pieces": design.table.parts,
        "rows": design.rows["read"],
        "engine": engine,
        "workers": workers,
    }
    if found_by_signs is not None:
        document["monte_carlo"] = found_by_signs.to_dict()
    if any(c.wiggle for c in design.clauses):
        document["smooths"] = [s.to_dict() for s in smooths(model)]
    if parts:
        document["parts"] = parts
    own = {} if model.criterion.profiled else {"points": model.points, "levels": list(design.levels)}
    return FitResult.from_dict(plain(document | own))


def _by_part(
    design: Design, rows: list[dict[str, Any]], covariance: list[list[float | None]]
) -> tuple[list[dict[str, Any]], list[list[float | None]], list[dict[str, Any]]]:
    """The rows of the mean with their covariance, and those of every other linear predictor that has a name."""
    if MEAN not in design.predictors:
        return rows, covariance, []
    owner = [design.fixed.terms[k].outcome for k in design.fixed.owner]
    links = {p.name: p.link for p in family_of(design.family, design.link, design.limits is not None).parts}

    def of(name: str) -> tuple[list[dict[str, Any]], list[list[float | None]]]:
        mine, prefix = [k for k, o in enumerate(owner) if o == name], "" if name == MEAN else f"{name}: "
        own = [rows[k] | {key: rows[k][key].removeprefix(prefix) for key in ("term", "label")} for k in mine]
        return own, [[covariance[i][j] for j in mine] for i in mine]

    parts = [
        dict(zip(("fixed", "fixed_covariance"), of(n))) | {"part": n, "link": links[n]} for n in design.predictors[1:]
    ]
    return *of(MEAN), parts


def group_rows(design: Design) -> list[dict[str, Any]]:
    """Levels of each unit and their numbers of rows, of several outcomes those of the table."""
    first = np.unique(np.asarray(design.residual.codes), return_index=True)[1] if design.outcomes else None
    if design.stacked:
        first = np.arange(0, len(design.y), len(design.predictors))
    out = []
    for u in design.groups:
        counts = u.counts if first is None else np.bincount(u.codes[first], minlength=u.size)
        out.append(
            {
                "group": u.name,
                "levels": u.size,
                "smallest": int(counts.min()),
                "median": number(np.median(counts)),
                "largest": int(counts.max()),
            }
        )
    return out


def number(x: float) -> float | None:
    """A JSON number; null for what is not finite."""
    value = float(x)
    return value if np.isfinite(value) else None


def numbers(values: Array) -> list[Any]:
    """The same of an array, as lists."""
    whole: Any = values
    if not np.isfinite(values).all():
        whole = values.astype(object)
        whole[~np.isfinite(values)] = None
    return list(whole.tolist())


def convergence(found: OptimizeResult[Any], boundary_units: list[str], trouble: Trouble) -> dict[str, Any]:
    """How the search ended."""
    return {
        "converged": found.converged and not trouble.notes,
        "boundary": bool(boundary_units),
        "boundary_terms": boundary_units,
        "iterations": found.iterations,
        "evaluations": found.evaluations,
        "gradient": number(np.sqrt(2.0 * found.decrement)),
        "identified": trouble.identified,
    }


def likelihood_figures(deviance: float, count: int, n: int) -> dict[str, Any]:
    """Log-likelihood and criteria of ``count`` parameters on n rows."""
    return {
        "loglik": number(-0.5 * deviance),
        "deviance": number(deviance),
        "aic": number(deviance + 2 * count),
        "bic": number(deviance + np.log(n) * count),
        "n_parameters": count,
    }


@singledispatch
def fixed_part(known: CoefficientInference, confidence: float) -> tuple[list[dict[str, Any]], list[list[float | None]]]:
    """Rows of the fixed part and their covariance, null where aliased."""
    return fixed_rows(known.model, known, confidence), full_covariance(known.model, known.covariance)


def fixed_rows(model: FittedModel[Any, Any], known: CoefficientInference, confidence: float) -> list[dict[str, Any]]:
    """One row per column of X, null where the column is aliased."""
    e, design = model.evaluation, model.design
    position = {column: i for i, column in enumerate(model.kept)}
    b, covariance = e.b, known.covariance
    rows = []
    for column, (term, label) in enumerate(zip(design.fixed.names, design.fixed.labels)):
        row: dict[str, Any] = dict.fromkeys(("term", "estimate", "se", "df", "statistic", "p", "ci"))
        row |= {"term": term, "label": label}
        if column in position:
            i = position[column]
            df = known.df(np.eye(len(b))[i : i + 1])
            estimate = float(b[i])
            se = float(np.sqrt(covariance[i, i])) if covariance[i, i] >= 0 else np.nan
            statistic = estimate / se if se > 0 else np.nan
            width = quantile_t(confidence, df)
            row |= {
                "estimate": number(estimate),
                "se": number(se),
                "df": df,
                "statistic": number(statistic),
                "p": number(p_of_t(statistic, df)),
                "ci": [number(estimate - width * se), number(estimate + width * se)],
            }
        rows.append(row)
    return rows


def full_covariance(model: FittedModel[Any, Any], covariance: Array) -> list[list[float | None]]:
    """Covariance of all fixed rows, null where aliased."""
    p = len(model.design.fixed.names)
    full: list[list[float | None]] = [[None] * p for _ in range(p)]
    for i, a in enumerate(model.kept):
        for j, b in enumerate(model.kept):
            full[a][b] = number(covariance[i, j])
    return full


def random_parts(model: FittedModel[Any, Any]) -> list[dict[str, Any]]:
    """One entry per each clause, in the order of the sentence."""
    design, out = model.design, []
    varied = vary_rows(model)
    for clause in design.clauses:
        g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns] * given_scale(design, clause)
        g = g[:1, :1] if clause.wiggle else g
        made: dict[str, Any] = {
            "group": design.units[clause.unit].name,
            "structure": clause.structure.kind,
            "terms": list(clause.names),
            "covariance": [[number(x) for x in row] for row in g],
            "correlation": correlation(g),
            "sd": [number(x) for x in np.sqrt(np.maximum(np.diag(g), 0.0))],
        }
        if clause.vary is not None:
            made["vary"] = next(varied)
        out.append(made)
    return out


def vary_rows(model: FittedModel[Any, Any]) -> Iterator[list[dict[str, Any]]]:
    """Per clause whose SDs depend on columns, the coefficients of these on the log SD."""
    c = model.criterion
    if not c.profiled or c.vary is None:
        return
    errors = np.sqrt(np.maximum(np.diag(parameter_covariance(model.evaluation))[c.alpha], 0.0))
    values = model.evaluation.theta[c.alpha]
    clauses = [x for x in model.design.clauses if x.vary is not None]
    for clause, part, at in zip(clauses, c.vary.parts, c.vary.slices()):
        assert clause.vary is not None
        yield [
            {"term": name, "label": label, "estimate": number(value / sd), "se": number(error / sd)}
            for name, label, value, error, sd in zip(
                clause.vary.names, clause.vary.labels, values[at], errors[at], part.sd
            )
        ]


def residual_variance(design: Design, c: Any, phi: Array, sigma2: float) -> float:
    """The residual variance: of the baseline under a spread, the mean one under unstructured."""
    spread = design.residual.spread
    if spread is not None:
        columns = np.array([(v.mean(), v.std()) for v in spread.values])
        sigma2 *= float(np.exp(-2.0 * (phi[-len(columns) :] / columns[:, 1]) @ columns[:, 0]))
    return sigma2 if c.correlated is None else float(c.correlated.rows.variance(phi, sigma2))


def spread_rows(design: Design, phi: Array, variances: Array) -> list[dict[str, Any]]:
    """Coefficients of the spread clause's columns, from those ``phi`` of the standardised ones and their ``variances``."""
    spread = design.residual.spread
    assert spread is not None
    return [
        {
            "term": name,
            "label": label,
            "estimate": number(value / values.std()),
            "se": number(np.sqrt(max(variance, 0.0)) / values.std()),
        }
        for name, label, values, value, variance in zip(spread.names, spread.labels, spread.values, phi, variances)
    ]


@singledispatch
def residual_part(model: object) -> dict[str, Any] | None:
    """The residuals of an additive outcome, the dispersion of others."""
    raise NotImplementedError(type(model).__name__)


@residual_part.register
def _(model: GaussianModel) -> dict[str, Any]:
    """Variance, SD, structure and parameters of the residuals."""
    design, e = model.design, model.evaluation
    c, spread, codes = e.criterion, design.residual.spread, design.residual.codes
    if design.known_errors:
        return {"variance": None, "sd": None, "structure": "known", "parameters": {}}
    phi = e.theta[c.phi]
    variance = residual_variance(design, c, phi, e.sigma2)
    parameters: dict[str, Any] = {}
    if c.correlated is not None:
        parameters = c.correlated.rows.parameters(phi, e.sigma2)
    if spread is not None:
        at = slice(c.phi.stop - len(spread.names), c.phi.stop)
        parameters["spread"] = spread_rows(design, e.theta[at], np.diag(parameter_covariance(e))[at])
    return {
        "variance": number(variance),
        "sd": number(np.sqrt(variance)),
        "structure": design.residual.kind,
        "unit": design.residual.unit,
        **({} if codes is None or design.outcomes else {"levels": int(codes.max()) + 1}),
        "parameters": parameters,
    }


def correlation(g: Array) -> list[list[float | None]]:
    """Correlations of a covariance matrix; null where a variance is zero."""
    sd = np.sqrt(np.maximum(np.diag(g), 0.0))
    outer = np.outer(sd, sd)
    with np.errstate(invalid="ignore", divide="ignore"):
        r = np.where(outer > 0, g / outer, np.nan)
    r = np.clip(r, -1.0, 1.0)
    r[np.diag_indices(len(r))] = 1.0
    r[np.diag(sd == 0)] = np.nan
    return [[number(x) for x in row] for row in r]


def mean_variances(model: FittedModel[Any, Any]) -> dict[str, Any]:
    """What the effects of each clause and, of additive outcomes, the residuals add to the variance of a row on average."""
    own = {"mean_residual_variance": number(mean_residual_variance(model))} if model.design.additive else {}
    return {"mean_random_variance": [number(mean_effect_variance(model, c)) for c in model.design.clauses]} | own


def with_confidence(result: FitResult, confidence: float) -> FitResult:
    """The same fit with its intervals at another level."""

    def at_level(row: Coefficient) -> Coefficient:
        if row.estimate is None or row.se is None:
            return row
        width = quantile_t(confidence, row.df) * row.se
        return row.with_keys(ci=[row.estimate - width, row.estimate + width])

    return _each_row(result, at_level).with_keys(confidence=confidence)


def _each_row(result: R, change: Callable[[Coefficient], Coefficient]) -> R:
    """The same fit with every row of its coefficients changed."""
    made = result.with_keys(fixed=[change(row) for row in result.fixed])
    if isinstance(made.parts, Absent):
        return made
    return made.with_keys(parts=[p.with_keys(fixed=[change(row) for row in p.fixed]) for p in made.parts])


def with_ratios(result: R) -> R:
    """The same fit with exp(estimate) and its interval in every fixed row but the thresholds.

    Raises UsageError for a link under which these mean nothing.
    """
    from bold_orchard.families.links import LINKS

    kind = LINKS[result.link].ratio
    if kind is None:
        raise UsageError(f"--ratios: exp(estimate) means nothing under the {result.link} link; leave it out")
    cuts = {row.term for row in result.thresholds}

    def as_ratio(row: Coefficient) -> Coefficient:
        ratio = ends = None
        if row.estimate is not None and row.ci is not None and row.term not in cuts:
            ratio, ends = _exp(row.estimate), [None if v is None else _exp(v) for v in row.ci]
        return row.with_keys(ratio=ratio, ratio_ci=ends)

    return _each_row(result, as_ratio).with_keys(ratio_kind=kind)


def _exp(x: float) -> float | None:
    return float(np.exp(x)) if x < 700 else None
