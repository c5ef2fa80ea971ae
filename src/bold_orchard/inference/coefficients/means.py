"""Adjusted means of a term's levels, their differences, and slopes per level."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.dates import COUNTED
from bold_orchard.errors import OrchardError, UsageError, date_of, shown, unknown_name
from bold_orchard.families.links import LINKS
from bold_orchard.inference.coefficients.comparisons import (
    Comparisons,
    add_effect_sizes,
    all_pairs,
    letters,
    place_of,
    trends,
    with_simultaneous,
)
from bold_orchard.inference.coefficients.curves import with_curves
from bold_orchard.inference.coefficients.difference_curves import difference_curves
from bold_orchard.inference.coefficients.multiplicity import adjusted
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.coefficients.reference_grid import Asked, ReferenceGrid
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.outcome_scale import latent, outcome_difference, outcome_scale
from bold_orchard.inference.prediction.unit_means import too_many, unit_means
from bold_orchard.inference.summary import number
from bold_orchard.results.means import MeansResult, sed_of
from bold_orchard.sentence.tree import MEAN

Array = NDArray[Any]
Hold = Mapping[str, Sequence["float | str"]]
SCHEMA = "bold-orchard/means/1"


def means(
    fit: Fit, term: str, hold: Hold | None = None, correction: str = "tukey", df_method: str | None = None,
    confidence: float = 0.95, slope: str | None = None, force: bool = False, within: str | None = None,
    ratios: bool = False, more: Comparisons | None = None,
) -> MeansResult:  # fmt: skip
    """The document of ``orchard means``: equal weights over the other categories, covariates at their means or held.

    ``hold`` has values of raw columns, numbers or levels. With ``slope`` the same of the slope of a covariate; ``within``
    keeps the differences inside one level of a factor of the term; ``more`` asks for other comparisons. Raises OrchardError for an unknown term, column or
    level, for means of which none is estimable, and for a fit that did not converge (unless ``force``); UsageError for
    ratios where exp(difference) means nothing.
    """
    if not fit.converged and not force:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so its means mean nothing; mend it, or --force")
    asked = ask(fit, term, hold, slope, within, ratios)
    method = df_method or fit.settings.df
    known = with_curves(fit, fit.precision(method))
    kept, offset, sure, own_scale = asked.kept, asked.offset, asked.sure, slope is None
    made = [{"levels": cell} | own for cell, own in zip(asked.cells, _means(fit, known, asked, confidence))]
    more = more or Comparisons()
    if (
        fit.one is None and fit.model.family.reads == "levels"
    ):  # probabilities of several levels, compared in no one number
        asked_more = (more.against, more.letters, more.effect_sizes, more.trend, more.curve, slope, within, ratios)
        if any(asked_more):
            raise UsageError(
                "of unordered levels the means are probabilities; name an equation with --part LEVEL for what compares them"
            )
        return document_of(
            fit, asked, made, [], np.full((len(kept), len(kept)), np.nan), correction, fit.df_name(method), confidence
        )
    base = None if more.against is None else place_of(more.against, asked.cells, [label(c) for c in asked.cells])
    cells = (known, asked.cells, kept, offset, sure, asked.within, confidence, correction)
    pairs, errors = _pairs(*cells)
    if more.letters:
        for mean, text in zip(made, letters([m["mean"] for m in made], pairs, 1.0 - confidence)):
            mean["letters"] = text
    if base is not None:
        pairs, errors = _pairs(*cells, base)
        correction = "dunnett"
        with_simultaneous(pairs, known, kept, base, confidence)
    _finish_pairs(fit, known, pairs, kept, offset, confidence, own_scale, ratios)
    if more.effect_sizes:
        add_effect_sizes(fit, pairs)
    found: dict[str, Any] = {"trends": trends(known, asked.cells, kept, offset, sure)} if more.trend else {}
    if more.curve is not None:
        found["curves"] = difference_curves(asked, known, pairs, more.curve, confidence)
    return document_of(fit, asked, made, pairs, errors, correction, fit.df_name(method), confidence, **found)


def ask(
    fit: Fit, term: str, hold: Hold | None = None, slope: str | None = None, within: str | None = None, ratios: bool = False
) -> Asked:  # fmt: skip
    """The combinations of coefficients that are the means; raises as ``means`` does."""
    if ratios and (LINKS[fit.design.link].ratio is None or slope):
        raise UsageError(f"--ratios: exp(difference) means nothing under the {fit.design.link} link; leave it out")
    grid = ReferenceGrid(fit)
    factors = grid.factor_columns(term)
    held = _checked_hold(grid, hold or {}, factors)
    if slope is not None and slope not in grid.means and slope not in grid.named:
        covariates = [*grid.means, *grid.named] or ["(none)"]
        raise OrchardError(unknown_name("covariate", slope, covariates, f"the fixed part of '{fit.name}'"))
    within = next((f for f, column in factors.items() if within in (f, column)), within)
    if within is not None and within not in factors:
        raise UsageError(f"--within names a factor of the term: {' or '.join(factors)}, not '{within}'")
    cells = _cells(grid, factors, held)
    points = [{factors.get(k, k): v for k, v in cell.items()} for cell in cells]
    rows, offset = (grid.slope(points, slope), np.zeros(len(points))) if slope else grid.rows(points)
    sure = grid.estimable(rows, 0.0 if slope else 1.0)
    if not sure.any():
        raise OrchardError(
            f"no mean of '{term}' is estimable in '{fit.name}': all rest on coefficients that have no estimate (aliased); "
            "leave the aliased terms out"
        )
    return Asked(grid, term, slope, within, dict(factors), held, cells, points, grid.kept(rows), offset, sure)


def document_of(
    fit: Fit, asked: Asked, made: list[dict[str, Any]], pairs: list[dict[str, Any]], errors: Array, correction: str, method: str,
    confidence: float, units: bool = True, notes: Sequence[str] = (), **more: Any,
) -> MeansResult:  # fmt: skip
    """The document, from its means and differences."""
    grid, factors, held, slope = asked.grid, asked.factors, asked.held, asked.slope
    averaged = [name for name, column in grid.factors.items() if name not in factors and column not in held]
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "family": fit.design.family,
        "term": asked.term,
        "slope": slope,
        "means": made,
        "sed": sed_of([[number(v) for v in row] for row in errors]).to_dict(),
        "pairs": [{k: v for k, v in p.items() if k != "places"} for p in pairs],
        "correction": correction,
        "within": asked.within,
        "df_method": method,
        "confidence": confidence,
        "link": fit.design.link,
        "grades": list(fit.design.levels)
        if fit.design.graded or (fit.one is None and fit.model.family.reads == "levels")
        else [],
        "covariates": {c: v for c, v in grid.means.items() if c not in held},
        "averaged": averaged,
        "typical_units": grid.typical_units(),
        "notes": [*notes, *_notes([c for c, ok in zip(asked.cells, asked.sure) if not ok]), *_dates(fit, grid, held)],
    } | more
    if fit.one in fit.design.predictors and fit.one != MEAN:
        document["part"] = fit.one
    if units and slope is None and not fit.design.graded and not fit.design.predictors:
        raw = [{c: v for c, v in point.items() if isinstance(v, str)} for point in asked.points]
        numbers = grid.means | {c: v for c, v in asked.points[0].items() if not isinstance(v, str)}
        lines = (
            unit_means(fit, list(factors.values()), raw, [m["mean"] for m in made], numbers)
            if raw[0] and len(held) == 0
            else []
        )
        document |= {"units": lines} if lines else {}
        many = too_many(fit, list(factors.values()))
        document["notes"] += [many] if many else []
    return MeansResult.from_dict(document)


def _checked_hold(grid: ReferenceGrid, hold: Hold, factors: Mapping[str, str]) -> dict[str, list[float | str]]:
    held = {}
    for column, values in hold.items():
        if column in factors.values() or column in factors:
            raise UsageError(f"--hold: '{column}' is the term whose means are asked; hold another column")
        at = [grid.checked(column, v) for v in values]
        number = grid.named.get(column) if column not in grid.means else None
        column = column if number is None else number.column
        if column in held:
            raise UsageError(f"--hold: '{column}' is held twice, once by the name of a function of it")
        held[column] = list(dict.fromkeys(at))
    return held


def _cells(
    grid: ReferenceGrid, factors: Mapping[str, str], held: Mapping[str, Sequence[float | str]]
) -> list[dict[str, Any]]:
    """The term's levels at every combination of held values, in the order typed."""
    levels = list(itertools.product(*(grid.levels[c] for c in factors.values())))
    values = list(itertools.product(*held.values()))
    return [dict(zip(factors, own)) | dict(zip(held, at)) for at in values for own in levels]


def _means(fit: Fit, known: CoefficientInference, asked: Asked, confidence: float) -> list[dict[str, Any]]:
    """What is said of every cell."""
    own_scale, rows = asked.slope is None, zip(asked.kept, asked.offset, asked.sure)
    if fit.design.predictors:
        from bold_orchard.inference.prediction.several_predictors import effect_covariances, outcome_of_means
        from bold_orchard.inference.prediction.several_predictors import own_scale as of_part

        plain = [_mean(fit, known, row, constant, confidence, False, 0.0) for row, constant, _ in rows]
        if not own_scale:
            return plain
        if fit.one is not None and fit.one != MEAN:
            k = fit.design.predictors.index(fit.one)
            over_units = effect_covariances(fit, asked.points)[:, k, k].tolist()
            return [m | of_part(fit.one, m["mean"], m["se"], confidence, v) for m, v in zip(plain, over_units)]
        levels = fit.model.family.reads == "levels"
        whole = outcome_of_means(fit, asked.points, confidence)
        return [(dict.fromkeys(m) if levels else m) | w for m, w in zip(plain, whole)]
    over = (
        asked.grid.random_variances(asked.points)
        if own_scale and not fit.design.additive
        else np.zeros(len(asked.kept))
    )
    return [
        _mean(fit, known, row, constant, confidence, own_scale, v) if ok else nothing(fit, own_scale)
        for (row, constant, ok), v in zip(rows, over.tolist())
    ]


def _mean(
    fit: Fit,
    known: CoefficientInference,
    row: Array,
    constant: float,
    confidence: float,
    own_scale: bool,
    variance: float,
) -> dict[str, Any]:
    mean, se = latent(fit, known, row, constant) if own_scale else (float(row @ known.b) + constant, known.se(row))
    df = known.df(row[None, :])
    width = quantile_t(confidence, df) * se
    entry = {"mean": number(mean), "se": number(se), "df": df, "ci": [mean - width, mean + width]}
    if own_scale and not fit.design.additive:
        entry |= outcome_scale(fit, known, row, constant, confidence, variance)
    return entry


def nothing(fit: Fit, own_scale: bool) -> dict[str, Any]:
    entry: dict[str, Any] = dict.fromkeys(("mean", "se", "df", "ci"))
    if own_scale and not fit.design.additive:
        keys = ("chances", "outcome", "outcome_se", "outcome_ci", "population")
        entry |= dict.fromkeys(keys[0 if fit.design.graded else 1 :])
    return entry


def _dates(fit: Fit, grid: ReferenceGrid, held: Mapping[str, Any]) -> list[str]:
    """Which days the numbers of columns of dates are."""
    dates = [
        c for c, meaning in fit.design.meanings.items() if meaning == COUNTED and c in grid.means and c not in held
    ]
    return [f"{c} is {COUNTED}: {grid.means[c]:,.6g} is {date_of(grid.means[c])}." for c in dates]


def _notes(lost: list[dict[str, Any]]) -> list[str]:
    if not lost:
        return []
    names = "; ".join(shown([label(c) for c in lost]))
    return [
        f"No mean for {names}: there it rests on coefficients that the rows do not tell apart (empty combinations of "
        "categories, or aliased terms)."
    ]


def label(levels: Mapping[str, Any]) -> str:
    return ", ".join(v if isinstance(v, str) else f"{k} {v:g}" for k, v in levels.items())


def _pairs(
    known: CoefficientInference, cells: list[dict[str, Any]], rows: Array, offset: Array, sure: NDArray[np.bool_],
    within: str | None, confidence: float, correction: str, base: int | None = None,
) -> tuple[list[dict[str, Any]], Array]:  # fmt: skip
    """Differences a - b of all pairs (or from ``base`` alone), corrected for their number, and the matrix of their standard errors."""
    n = len(rows)
    errors = np.zeros((n, n))
    families: dict[Any, list[dict[str, Any]]] = {}
    asked = set(all_pairs(n, base))
    for j, i in itertools.combinations(range(n), 2):  # the later level less the earlier, as coefficients are
        if (j, i) in asked:
            i, j = j, i
        if not (sure[i] and sure[j]):
            errors[i, j] = errors[j, i] = np.nan
            continue
        row = rows[i] - rows[j]
        difference, se = float(row @ known.b) + float(offset[i] - offset[j]), known.se(row)
        errors[i, j] = errors[j, i] = se
        if (i, j) not in asked:
            continue
        if within is not None and cells[i][within] != cells[j][within]:
            continue
        df = known.df(row[None, :])
        t = difference / se if se > 0 else np.nan
        pair: dict[str, Any] = {"a": label(cells[i]), "b": label(cells[j]), "difference": number(difference), "se": number(se),
                "df": df, "statistic": number(t), "p": number(p_of_t(t, df)), "places": (i, j)}  # fmt: skip
        families.setdefault(None if within is None else cells[i][within], []).append(pair)
    for pairs in families.values():
        groups = len({place for p in pairs for place in p["places"]})
        for pair, (p, factor) in zip(pairs, adjusted(pairs, correction, groups, confidence)):
            width = factor * (pair["se"] or 0.0)
            pair |= {"p_adjusted": number(p), "ci": [pair["difference"] - width, pair["difference"] + width]}
    return [p for pairs in families.values() for p in pairs], errors


def _finish_pairs(
    fit: Fit, known: CoefficientInference, pairs: list[dict[str, Any]], rows: Array, offset: Array, confidence: float,
    own_scale: bool, ratios: bool,
) -> None:  # fmt: skip
    """Differences on the outcome's own scale, and ratios where they are asked for."""
    for pair in pairs:
        if own_scale and not fit.design.additive and not fit.design.predictors:
            i, j = pair["places"]
            pair |= outcome_difference(fit, known, (rows[i], rows[j]), (float(offset[i]), float(offset[j])), confidence)
        if ratios:
            ratio, low, high = (number(np.exp(min(v, 700.0))) for v in (pair["difference"], *pair["ci"]))
            pair |= {"ratio": ratio, "ratio_ci": [low, high]}


def terms_with_means(fit: Fit) -> list[str]:
    """All categories and products of categories of the fixed part; "" where there is none, for the mean of all."""
    known = {name for name, _ in fit.design.categories()}
    one = MEAN if fit.one is None and MEAN in fit.design.predictors else fit.one
    plain = [t.alone for t in fit.design.fixed.terms if one is None or t.outcome == one]
    out = [str(t) for t in plain if t.factors and all(str(f) in known for f in t.factors)]
    return list(dict.fromkeys(out)) or [""]
