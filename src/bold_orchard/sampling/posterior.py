"""Draws from the posterior of a saved fit's model: what ``orchard sample`` answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.coefficients.maximum_likelihood import thresholds
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.components import components
from bold_orchard.inference.variances.quantities import quantities
from bold_orchard.machine import check_room
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.results.sample import SampleArrays, SampleResult, Share
from bold_orchard.sampling import chains, diagnostics
from bold_orchard.sampling.answers.draws import Draws
from bold_orchard.sampling.answers.variation import figures
from bold_orchard.sampling.chains import Drawn, Task
from bold_orchard.sampling.family import FamilyTarget
from bold_orchard.sampling.gaussian import GaussianTarget
from bold_orchard.sampling.laws import read_priors
from bold_orchard.sampling.leave_one_out import DOUBTFUL, leave_one_out
from bold_orchard.sampling.nuts import Chain
from bold_orchard.sampling.priors import Priors, priors_of
from bold_orchard.sampling.rows import (
    closed_form,
    log_densities,
    observed_statistics,
    replicated,
    replicates,
    statistics,
)
from bold_orchard.sampling.spread import SpreadTarget
from bold_orchard.sampling.words import RHAT, effect_names, some

Array = NDArray[Any]
SCHEMA = "bold-orchard/sample/1"
ESS = 100.0  # a chain, below which draws are not to be used
LOW_ENERGY = 0.3  # of E-BFMI, below which the tails are told poorly
MOST_LOGS = 20_000_000  # entries of the rows' log densities (160 MB)
MOST_REPLICATED = 250  # outcomes drawn anew, over all chains
Progress = Callable[[int, int, int], None]


@dataclass(frozen=True)
class SampleOptions:
    priors: tuple[str, ...] = ()
    chains: int = 4
    warmup: int = 1000
    draws: int = 1000
    seed: int = 0
    confidence: float = 0.95


def target_of(fit: Fit, priors: Priors) -> Any:
    """The log posterior density that serves a model."""
    if isinstance(fit.model, GaussianModel):
        return GaussianTarget(fit, priors)
    return (SpreadTarget if isinstance(fit.model, SpreadModel) else FamilyTarget)(fit, priors)


def check_options(options: SampleOptions) -> None:
    """Raise UsageError for numbers that cannot be."""
    if not 1 <= options.chains <= 64:
        raise UsageError("--chains is a whole number from 1 to 64")
    if options.warmup < 50:
        raise UsageError("--warmup needs 50 or more, to tune the sampler")
    if options.draws < 20:
        raise UsageError("--draws needs 20 or more in each chain")


def sample(fit: Fit, options: SampleOptions, report: Progress) -> SampleResult:
    """Raises UsageError for priors and options that cannot be, OrchardError for a fit that cannot be sampled from."""
    check_options(options)
    if fit.design.graded and fit.result.convergence.identified is False:
        raise OrchardError(f"the fit '{fit.name}' is not identified, so no sampler can start from it; mend it first")
    priors = priors_of(fit, read_priors(options.priors))
    target = target_of(fit, priors)
    names = [p.label for p in priors.parameters]
    n, count = len(fit.design.y), options.chains * options.draws
    every = max(1, -(-count * n // MOST_LOGS)) if n * 50 <= MOST_LOGS else 0
    widths = [u.size * u.levels for u in fit.criterion.products.units]
    keep = sum(widths) * count <= chains.MOST_EFFECTS
    again = max(1, count // MOST_REPLICATED)
    held = 2.0 * (len(names) + len(target.start()) + keep * sum(widths))
    drawn = options.chains * (options.draws + options.warmup)
    check_room(8.0 * held * drawn, f"{drawn:,} draws of {len(names)} parameters", "ask for fewer with --draws")

    def finish(made: Chain, rng: np.random.Generator) -> Drawn:
        parameters = np.empty((len(made.positions), len(names)))
        effects = np.empty((len(made.positions) if keep else 0, sum(widths)))
        logs, outcomes = [], []
        with np.errstate(all="ignore"):
            for i, z in enumerate(made.positions):
                b, u = target.complete(z, rng)
                parameters[i] = _values(target, z, b)
                if keep:
                    effects[i] = np.concatenate([np.zeros(0), *(x.ravel() for x in u)])
                if every and i % every == 0:
                    logs.append(log_densities(target, z, b, u))
                if i % again == 0:
                    outcomes.append(statistics(fit.of_table.design, replicated(target, z, b, u, rng)))
            thin = max(1, len(made.warm) // chains.MOST_WARM)
            warm = np.array([_values(target, z, target.complete(z, rng)[0]) for z in made.warm[::thin]])
        return Drawn(parameters, effects, np.array(logs), np.array(outcomes), warm, made)

    seeds = tuple(np.random.SeedSequence(options.seed).spawn(options.chains))
    made = chains.run(Task(target, options.warmup, options.draws, seeds, finish), report)
    return _document(fit, options, priors, names, target, made)


def _values(target: Any, z: Array, b: Array) -> Array:
    first = target.thresholds(z) if target.design.graded else np.zeros(0)
    return np.concatenate([first, b, target.values(z)])


def _likelihood_estimates(fit: Fit) -> dict[Parameter, float | None]:
    """What the likelihood fit says of each parameter."""
    labels, kept = fit.catalogue.coefficients, fit.model.kept
    out: dict[Parameter, float | None] = {labels[k]: number(float(b)) for k, b in zip(kept, fit.evaluation.b)}
    if fit.design.graded:
        known: Any = fit.known
        out |= dict(zip(fit.catalogue.thresholds, map(float, thresholds(known)[0])))
    psi = fit.evaluation.psi
    return out | {q.parameter: number(q.back(q.at(psi))) for q in quantities(fit)}


def kind_of(parameter: Parameter) -> str:
    """Its kind in the document: coefficient, threshold, sd, correlation, or parameter."""
    return parameter.kind if parameter.kind in ("coefficient", "threshold", "sd", "correlation") else "parameter"


def _document(
    fit: Fit, options: SampleOptions, priors: Priors, names: list[str], target: Any, made: list[Drawn]
) -> SampleResult:
    draws = np.stack([d.parameters for d in made])
    estimates = _likelihood_estimates(fit)
    level = (1 - options.confidence) / 2
    rows = []
    for k, parameter in enumerate(priors.parameters):
        x = draws[:, :, k]
        low, middle, high = np.quantile(x, [level, 0.5, 1 - level])
        rows.append({
            "parameter": parameter.label, "kind": kind_of(parameter), "mean": number(x.mean()), "sd": number(x.std(ddof=1)), "median": number(middle),
            "low": number(low), "high": number(high), "effective_bulk": number(diagnostics.ess_bulk(x)), "effective_tail": number(diagnostics.ess_tail(x)),
            "r_hat": number(diagnostics.rhat(x)), "likelihood_estimate": estimates.get(parameter),
        })  # fmt: skip
    divergent = int(sum(d.chain.diverged.sum() for d in made))
    energy = [number(diagnostics.bfmi(d.chain.energy)) for d in made]
    loo, notes = _loo(fit, target, made)
    wrong = trouble(rows, divergent, energy, options)
    document: dict[str, Any] = {
        "schema": SCHEMA, "fit": fit.name, "model": fit.result["model"], "outcome": fit.result["outcome"], "parameters": rows,
        "priors": [{"parameter": p, "law": text, "default": default} for p, text, default in priors.listed],
        "chains": options.chains, "warmup": options.warmup, "draws": options.draws, "divergent": divergent,
        "acceptance": [number(d.chain.acceptance.mean()) for d in made], "energy_fraction": energy, "leave_one_out": loo,
        "replicates": replicates(fit.of_table.design, np.concatenate([d.replicated for d in made])), "converged": not wrong, "confidence": options.confidence, "seed": options.seed,
        "groups": _groups(fit, made, options.confidence), "notes": [*wrong, *notes],
    }  # fmt: skip
    arrays = SampleArrays(
        names, draws, np.stack([d.warm for d in made]), [d.text for d in _laws(priors)], effect_names(fit),
        np.stack([d.effects for d in made]), np.concatenate([d.replicated for d in made]),
        observed_statistics(fit.of_table.design),
    )  # fmt: skip
    made_of = SampleResult.from_dict(document).with_keys(arrays=arrays)
    return made_of.with_keys(shares=_shares(fit, made_of, options.confidence))


def _shares(fit: Fit, made: SampleResult, confidence: float) -> list[Share]:
    """ICC and R squared from the draws, beside those of the likelihood."""
    known = components(fit).document
    estimates = {f"icc({r['group']})": r["value"] for r in known["icc"]}
    estimates |= {f"r2({k})": known["r2"][k] for k in ("marginal", "conditional")}
    drawn = figures(Draws(fit, made.kept(with_effects=False), fit.name), confidence)
    return [Share.from_dict(row | {"likelihood_estimate": estimates.get(row["quantity"])}) for row in drawn]


def _laws(priors: Priors) -> list[Any]:
    return [*priors.thresholds, *priors.fixed]


def trouble(
    rows: list[dict[str, Any]], divergent: int, energy: list[float | None], options: SampleOptions
) -> list[str]:
    """Why the draws must not be used, each with what to try; nothing where they can be."""
    out = []
    moving = [r for r in rows if r["r_hat"] is not None]
    apart = [r["parameter"] for r in moving if r["r_hat"] > RHAT]
    few = [
        r["parameter"]
        for r in moving
        if min(r["effective_bulk"] or 0.0, r["effective_tail"] or 0.0) < ESS * options.chains
    ]
    if apart:
        out.append(
            f"The chains do NOT agree on {some(apart)} (R-hat above {RHAT:g}): do not use these draws. Try --warmup {2 * options.warmup} --draws "
            f"{2 * options.draws}, then a tighter prior or a simpler sentence."
        )
    elif few:
        out.append(
            f"The draws of {some(few)} hang together so much that they count as fewer than {ESS:g} a chain: do not use these draws. Try "
            f"--draws {2 * options.draws}, then a tighter prior or a simpler sentence."
        )
    if divergent:
        out.append(
            f"{divergent:,} draws diverged: the sampler cannot follow the posterior where it is narrow, most often where an SD is near zero. Do not "
            f"use these draws. Try --warmup {2 * options.warmup}, a prior that keeps the SD away from zero or from large values, or a simpler sentence."
        )
    poor = [i + 1 for i, e in enumerate(energy) if e is not None and e < LOW_ENERGY]
    if poor and not out:
        out.append(
            f"Chain {', '.join(map(str, poor))} explores the tails slowly (E-BFMI below {LOW_ENERGY:g}). Do not use these draws. Try --warmup "
            f"{2 * options.warmup}, or tighter priors of the SDs."
        )
    return out


def _loo(fit: Fit, target: Any, made: list[Drawn]) -> tuple[dict[str, Any] | None, list[str]]:
    if any(not d.logs.size for d in made):
        return None, [
            "There are too many rows to hold the density of each at every draw, so leave-one-out was not made."
        ]
    logs = np.concatenate([d.logs for d in made])
    if not np.isfinite(logs).all():
        return None, ["Some rows have no density at some draws, so leave-one-out was not made."]
    elpd, shapes, p = leave_one_out(logs)
    bad = np.flatnonzero(shapes > DOUBTFUL)
    numbers = fit.design.table.row_numbers
    told = {
        "expected_log_density": number(elpd.sum()), "se": number(np.sqrt(len(elpd) * elpd.var(ddof=1))) if len(elpd) > 1 else None, "effective_parameters": number(p),
        "doubtful_rows": [int(numbers[i]) for i in bad], "by_row": [number(v) for v in elpd] if len(elpd) <= 50_000 else [],
    }  # fmt: skip
    notes = []
    if not closed_form(target):
        notes.append(
            "Leave-one-out holds the effects of the other units' rows and of the row's own unit as drawn (conditional), which makes rows look better foretold than new units would be."
        )
    if len(bad):
        notes.append(
            f"{len(bad)} rows move the posterior so much that leave-one-out is not to be relied on for them (Pareto shape above {DOUBTFUL:g})."
        )
    return told, notes


def _groups(fit: Fit, made: list[Drawn], confidence: float) -> list[dict[str, Any]]:
    """Effects of every unit from their draws: mean, SD and interval by term."""
    if any(not len(d.effects) for d in made):
        return []
    drawn, at, out, level = np.concatenate([d.effects for d in made]), 0, [], (1 - confidence) / 2
    mean, sd = drawn.mean(axis=0), drawn.std(axis=0, ddof=1)
    low, high = np.quantile(drawn, [level, 1 - level], axis=0)
    for f, block in enumerate(fit.design.blocks):
        clauses = [c for c in fit.design.clauses if c.block == f]
        width = sum(len(c.part.names) for c in clauses)
        for clause in clauses:
            rows = []
            for j, label in enumerate(block.unit.texts):
                places = {t: at + j * width + clause.columns.start + i for i, t in enumerate(clause.part.names)}
                rows.append({"level": label, "effects": {t: number(mean[i]) for t, i in places.items()}, "sd": {t: number(sd[i]) for t, i in places.items()},
                             "ci": {t: [number(low[i]), number(high[i])] for t, i in places.items()}})  # fmt: skip
            out.append({"group": block.unit.name, "terms": list(clause.part.names), "rows": rows})
        at += width * block.unit.size
    return out
