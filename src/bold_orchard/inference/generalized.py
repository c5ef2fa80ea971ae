"""What models that are not gaussian answer in their own way: standard errors, thresholds, dispersion, what goes wrong."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design import validation
from bold_orchard.design.design import Design
from bold_orchard.errors import UsageError
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.generalized_search import AUTO, ENOUGH
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood, thresholds
from bold_orchard.inference.coefficients.methods import precision
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.separation import separated
from bold_orchard.inference.summary import fixed_part, fixed_rows, full_covariance, number, residual_part
from bold_orchard.inference.trouble import Trouble, trouble_of
from bold_orchard.inference.variances.identified import levels_apart
from bold_orchard.own_parameter import OwnParameter
from bold_orchard.parameters.catalogue import Catalogue
from bold_orchard.results.notes import Note

Array = NDArray[Any]
NEARLY = 8.0  # deviance within which another maximum of the likelihood is told
ENDLESS = 30.0  # standard error of what a coefficient adds to a linear predictor, from which nothing holds it back
NEVER = -10.0  # logit of a probability that is as good as none
HUGE = 12.0  # SD on the linear scale beyond which chances inside a unit are all but 0 or 1


@precision.register
def _(model: GeneralizedModel, method: str) -> CoefficientInference:
    if method not in ("satterthwaite", "normal"):
        raise UsageError(f"--df {method} is for gaussian fits; tests of {model.design.family} fits use the normal")
    return MaximumLikelihood(model)


@residual_part.register
def _(model: GeneralizedModel) -> dict[str, Any] | None:
    own = model.family.reported(model.extra)
    return {name: number(value) for name, value in own.items()} or None


@fixed_part.register
def _(known: MaximumLikelihood, confidence: float) -> tuple[list[dict[str, Any]], list[list[float | None]]]:
    """Thresholds of grades stand before the coefficients."""
    rows, covariance = fixed_rows(known.model, known, confidence), full_covariance(known.model, known.covariance)
    if not known.model.design.graded:
        return rows, covariance
    values, joint = thresholds(known)
    own = threshold_rows(known.model.design, values, joint, confidence)
    return [*own, *rows], with_thresholds(joint, covariance, len(values))


def with_thresholds(joint: Array, covariance: list[list[float | None]], m: int) -> list[list[float | None]]:
    kept = [i for i, row in enumerate(covariance) if row[i] is not None]
    p = len(covariance)
    full: list[list[float | None]] = [[None] * (m + p) for _ in range(m + p)]
    places = [*range(m), *(m + k for k in kept)]
    for i, a in enumerate(places):
        for j, b in enumerate(places):
            full[a][b] = number(joint[i, j])
    return full


def threshold_rows(design: Design, values: Array, joint: Array, confidence: float) -> list[dict[str, Any]]:
    width, rows = quantile_t(confidence, None), []
    for i, name in enumerate(p.label for p in Catalogue(design).thresholds):
        se = float(np.sqrt(max(joint[i, i], 0.0)))
        z = values[i] / se if se > 0 else np.nan
        rows.append({"term": name, "estimate": number(values[i]), "se": number(se), "df": None, "statistic": number(z),
                     "p": number(p_of_t(z, None)) if np.isfinite(z) else None,
                     "ci": [number(values[i] - width * se), number(values[i] + width * se)], "label": name})  # fmt: skip
    return rows


@trouble_of.register
def _(model: GeneralizedModel) -> Trouble:
    design, c, e = model.design, model.criterion, model.evaluation
    apart, single = separated(design, c, e), validation.told_by_one_row(design)
    named: dict[str, list[str | None]] = {
        "separation": [apart, *_coefficients_without_end(model)],
        "runs away": list(_run_away(model)),
        "not identified": [single, *(levels_apart(design, c) for c in design.clauses)],
    }
    notes = [Note(text, code) for code, texts in named.items() for text in texts if text]
    remarks = [] if (rivals := _rivals(model)) is None else [Note(rivals, "several maxima")]
    if model.options.points == "auto" and model.points == AUTO[-1]:
        remarks.append(
            Note(
                f"--points auto ended at {AUTO[-1]}, the most it tries: the log-likelihood still moves by more than {ENOUGH:g} there.",
                "points",
            )
        )
    lost = c.lost(e.theta)[c.extra]
    for own in c.family.own:
        if lost[own.place]:
            remarks.append(_at_limit(own, dict(enumerate(c.family.limits)).get(own.place)))
    return Trouble(tuple(notes), not any(named["not identified"]), tuple(remarks))


def _at_limit(own: OwnParameter, family: str | None) -> Note:
    """A parameter of the family that vanishes, and the family without it, where there is one."""
    text, code = (
        f"{own.gone[0].upper()}{own.gone[1:]} and cannot be estimated.",
        f"{own.name.replace('_', ' ')} at its limit",
    )
    return Note(f"{text} Use --family {family}.", code, f"--family {family}") if family else Note(text, code)


def _rivals(model: GeneralizedModel) -> str | None:
    """Another maximum of the likelihood, nearly as high."""
    found = model.found
    if found.rival is None or found.rival - found.point.deviance > NEARLY:
        return None
    return (
        f"The likelihood has more than one maximum: another, {(found.rival - found.point.deviance) / 2:.2g} lower in log-likelihood, has other "
        "estimates, and so few rows may hide a higher one. Try a simpler sentence; orchard sample shows what the rows leave open."
    )


def _coefficients_without_end(model: GeneralizedModel) -> list[str]:
    """Of several linear predictors the coefficients that nothing holds back: rows to which they apply all lie on one
    side."""
    design = model.design
    if not design.predictors or not model.found.hessian.size:
        return []
    errors, out = np.sqrt(np.maximum(np.diag(MaximumLikelihood(model).covariance), 0.0)), []
    for k, b, se in zip(model.kept, model.evaluation.b, errors):
        values, term = design.fixed.values[k], design.fixed.terms[design.fixed.owner[k]]
        if se * float(np.ptp(values)) > ENDLESS and term.alone.factors:
            where = {"zeros": "zeros are never or always there", "spread": "nothing tells the spread"}.get(
                str(term.outcome), "the outcome lies on one side"
            )
            if term.outcome == "zeros" and (explained := _zeros_explained(model)):
                out += [] if explained in out else [explained]
                continue
            out.append(
                f"{design.fixed.labels[k]} runs away ({b:.3g}, SE {se:.2g}): where it applies {where}, so its size has no end. Leave it out of "
                f"{term.outcome if term.outcome in ('zeros', 'spread') else 'the sentence'}, or put levels together."
            )
    return out


def _zeros_explained(model: GeneralizedModel) -> str | None:
    """What is said where the counts explain all zeros, so that the probability of one of its own is none in every row."""
    design, counts = model.design, model.design.family.removeprefix("zero-inflated-")
    own = design.folded(model.linear_predictor())[design.predictors.index("zeros")]
    if counts == design.family or own.max() > NEVER:
        return None
    return f"The counts explain all zeros: no row needs one of its own, so nothing of zeros is told. Leave it out, with --family {counts}."


def _run_away(model: GeneralizedModel) -> list[str]:
    """Effects so large that the outcome hardly varies inside a unit."""
    design, out = model.design, []
    if not model.family.chances:
        return []
    for clause in design.clauses:
        unit = design.units[clause.unit].name
        g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns]
        for values, term, sd in zip(clause.part.values, clause.part.names, np.sqrt(np.maximum(np.diag(g), 0.0))):
            if sd * float(np.sqrt(np.mean(values**2))) > HUGE:
                out.append(
                    f"The {term} effects of {unit} run away (SD {sd:.3g} on the {design.link} scale): the outcome hardly varies "
                    f"inside one {unit}, so its size has no upper end. Leave the clause out, or model the {unit} itself."
                )
    return out
