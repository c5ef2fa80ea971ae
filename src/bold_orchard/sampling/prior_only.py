"""Draws from the prior alone, and the outcomes they imply."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.results.sample import SampleArrays, SampleResult
from bold_orchard.sampling.gaussian import GaussianTarget
from bold_orchard.sampling.laws import Law, read_priors
from bold_orchard.sampling.posterior import (
    SCHEMA,
    SampleOptions,
    check_options,
    kind_of,
    target_of,
)
from bold_orchard.sampling.priors import priors_of
from bold_orchard.sampling.rows import observed_statistics, replicated, replicates, statistics
from bold_orchard.sampling.scales import AT_ENDS, found
from bold_orchard.sampling.words import effect_names


def prior_draws(fit: Fit, options: SampleOptions, report: Any) -> SampleResult:
    """Independent draws of all parameters from their priors, and an outcome from each; nothing is learned from the data's outcome.

    Raises OrchardError for a prior that cannot be drawn from: flat, or of single correlations.
    """
    check_options(options)
    priors = priors_of(fit, read_priors(options.priors))
    target = target_of(fit, priors)
    rng = np.random.default_rng(options.seed)
    names = [p.label for p in priors.parameters]
    total = options.chains * options.draws
    parameters, outcomes = np.empty((total, len(names))), []
    every = max(1, total // 1000)
    for i in range(total):
        b, z = _position(fit, target, rng)
        first = target.thresholds(z) if fit.design.graded else np.zeros(0)
        parameters[i] = np.concatenate([first, b, target.values(z)])
        if i % every == 0:
            with np.errstate(all="ignore"):
                y = replicated(target, z, b, _effects(target, z, rng), rng)
            outcomes.append(statistics(fit.of_table.design, np.nan_to_num(y, posinf=1e300, neginf=-1e300)))
        report(i + 1, total, 0)
    drawn = np.array(outcomes)
    level = (1 - options.confidence) / 2
    rows = []
    for k, parameter in enumerate(priors.parameters):
        x = parameters[:, k]
        low, middle, high = np.quantile(x, [level, 0.5, 1 - level])
        rows.append({"parameter": parameter.label, "kind": kind_of(parameter), "mean": number(x.mean()), "sd": number(x.std(ddof=1)), "median": number(middle),
                     "low": number(low), "high": number(high), "effective_bulk": float(total), "effective_tail": float(total), "r_hat": 1.0, "likelihood_estimate": None})  # fmt: skip
    shape = (options.chains, options.draws, len(names))
    document: dict[str, Any] = {
        "schema": SCHEMA, "fit": fit.name, "model": fit.result["model"], "outcome": fit.result["outcome"], "parameters": rows,
        "priors": [{"parameter": p, "law": text, "default": default} for p, text, default in priors.listed],
        "chains": options.chains, "warmup": 0, "draws": options.draws, "divergent": 0, "acceptance": [1.0] * options.chains,
        "energy_fraction": [None] * options.chains, "leave_one_out": None, "replicates": replicates(fit.of_table.design, drawn), "converged": True, "confidence": options.confidence,
        "seed": options.seed, "groups": [], "prior_only": True,
        "notes": ["These are draws from the prior alone: the outcome of the data was not looked at, but for the scale of default laws."],
    }  # fmt: skip
    arrays = SampleArrays(names, parameters.reshape(shape), np.zeros((options.chains, 1, len(names))), [], effect_names(fit),
                          np.zeros((options.chains, 0, 0)), drawn, observed_statistics(fit.of_table.design))  # fmt: skip
    return SampleResult.from_dict(document).with_keys(arrays=arrays)


def _proper(law: Law, name: str, rng: np.random.Generator) -> float:
    value = law.drawn(rng)
    if not np.isfinite(value):
        raise OrchardError(
            f"the prior of {name} is {law.text}, from which nothing can be drawn; give it a proper law: --prior '{name} = normal(0, 1)'"
        )
    return value


def _position(fit: Fit, target: Any, rng: np.random.Generator) -> tuple[Any, Any]:
    """Coefficients and coordinates drawn from the prior."""
    priors, z = target.priors, np.zeros(target.size)
    kept = fit.model.kept
    b = np.array([_proper(law, fit.design.fixed.names[k], rng) for law, k in zip(priors.fixed, kept)])
    for covariance, at in zip(priors.covariances, target.places):
        z[at] = covariance.drawn(rng)
    if isinstance(target, GaussianTarget):
        z[target.coefficients] = (b - target.e.b)[target.free]
        if priors.residual is not None:
            z[target.rows] = priors.residual.drawn(rng)
        for parameter, law in priors.own.items():
            _place_gaussian(target, z, parameter, law, rng)
        return b, z
    z[: target.p] = target.to_work @ b
    own = np.zeros(target.own_size)
    if fit.design.graded:
        cuts = np.sort([_proper(law, "the thresholds", rng) for law in priors.thresholds]) - float(target.means @ b)
        own[:] = np.append(cuts[0], np.log(np.maximum(np.diff(cuts), 1e-12)))
    elif fit.design.random_spread:
        for k, (parameter, law) in enumerate(priors.own.items()):
            value = _proper(law, parameter.label, rng)
            own[k] = np.log(max(value, 1e-300)) if parameter.kind == "sd" else value
    else:
        for mine, law in zip(target.family.own, priors.own.values()):
            own[mine.place] = found(mine.back, _value(law, mine.back, mine.name, rng))
    z[target.own] = own
    return b, z


def _value(law: Law, back: Any, name: str, rng: np.random.Generator) -> float:
    """A value of a parameter with ends; a flat law is uniform between them where both are finite."""
    ends = sorted((back(-AT_ENDS), back(AT_ENDS)))
    if law.name == "flat" and ends[1] - ends[0] <= 2.0 + 1e-9:
        return float(rng.uniform(*ends))
    for _ in range(1000):
        value = _proper(law, name, rng)
        if ends[0] < value < ends[1]:
            return value
    raise OrchardError(f"the prior of {name} lies outside what {name} can be; give it another law")


def _place_gaussian(target: GaussianTarget, z: Any, parameter: Parameter, law: Law, rng: np.random.Generator) -> None:
    own = next((own for p, own, _ in target.own_of_rows if p == parameter), None)
    value = (
        _proper(law, parameter.label, rng)
        if own is None
        else _value(law, target.back(own, z[target.rows]), parameter.label, rng)
    )
    target.place(z, parameter, value)


def _effects(target: Any, z: Any, rng: np.random.Generator) -> list[Any]:
    """Effects of every block (levels, k) from their law at a position."""
    out = []
    for f, unit in enumerate(target.c.products.units):
        drawn = np.zeros((unit.levels, unit.size))
        noise = rng.standard_normal((unit.levels, unit.size))
        if unit.relationship_factor is not None:
            noise = unit.relationship_factor @ noise
        for covariance, at, clause in zip(target.priors.covariances, target.places, target.design.clauses):
            if clause.block == f:
                drawn[:, clause.columns] = noise[:, clause.columns] @ covariance.at(z[at])[0].T
        if isinstance(target, GaussianTarget) and target.c.vary is not None:
            alpha = target.working_alpha(z[target.alpha])[0]
            drawn *= target.c.vary.scales(alpha, f, unit.size, unit.levels).T / target.c.grown(alpha, f)
        out.append(drawn)
    return out
