"""The document of ``orchard carry``: a second outcome explained by units' effects that are known with error."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.carrying.draws import Augmented
from bold_orchard.carrying.effects import Carried, carried, constant_units, with_columns_named
from bold_orchard.carrying.first import FirstModel
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError, shown
from bold_orchard.inference.coefficients.methods import precision
from bold_orchard.inference.coefficients.rubin import Pooled, pooled
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.fit import Fit, Settings, fit
from bold_orchard.inference.summary import fixed_part, number, random_parts, residual_part, with_ratios
from bold_orchard.machine import check_room
from bold_orchard.progress import Progress
from bold_orchard.results.carry import CarryResult
from bold_orchard.sentence.parse import read_sentence

if TYPE_CHECKING:
    from bold_orchard.sampling.answers.draws import Draws

Array = NDArray[np.float64]
SCHEMA = "bold-orchard/carry/1"
SETTLING = 20  # steps before the first draw is made
CELLS = 5  # times that a covariance is held, as lists of Python numbers
APART = 8  # steps at each set of the first model's variances, the last of which is kept
MOST_FAILED = 0.1  # share of refits that may fail before the answer is not to be used


@dataclass(frozen=True)
class CarryOptions:
    """``imputations`` kept draws; ``naive`` shows the fit to the means beside; ``drop_constant`` leaves out units without variation."""

    imputations: int = 100
    naive: bool = False
    drop_constant: bool = False
    ratios: bool = False
    seed: int = 0


def carry(
    first: Fit, table: Table, text: str, settings: Settings, name: str, options: CarryOptions, report: Progress,
    draws: Draws | None = None,
) -> CarryResult:  # fmt: skip
    """The second model with the first one's effects as predictors, their uncertainty carried (METHODS: data augmentation).

    The first model's parameters are drawn about their estimates, or are those of ``draws`` of its posterior.

    Raises OrchardError for effects the first fit lacks, units it does not know and a second model that cannot be fitted.
    """
    if options.imputations < 5:
        raise UsageError("--imputations must be 5 or more")
    first.needs_one_predictor("carry")
    named, wanted = with_columns_named(text)
    sentence = read_sentence(named)
    if sentence.within is not None or sentence.spread:
        raise OrchardError(
            "the second model of carry has independent residuals of one spread; leave out within and spread"
        )
    notes: list[str] = []
    table = _without_constant(first, [u for u, _ in wanted], table, options.drop_constant, notes)
    effects = carried(first, wanted, table)
    columns = {n: v for c in effects for n, v in c.columns(c.mean).items()}
    plain = fit(sentence, table.with_columns(columns), settings, name)
    plain.needs_one_predictor("carry")
    if not plain.converged:
        raise OrchardError(
            f"the second model does not converge even with the effects taken as known; try a simpler sentence than: {text}"
        )
    used = np.searchsorted(table.row_numbers, plain.design.table.row_numbers)
    augmented = Augmented(plain.model, effects, [c.level[used] for c in effects])
    if draws is None:
        known = FirstModel(first, effects)
    else:
        from bold_orchard.carrying.from_posterior import FromPosterior

        known = FromPosterior(draws, effects)
    kept = _run(augmented, known, plain, options, report)
    made = _put_together(plain, kept)
    if draws is None and known.doubtful:
        notes.append(
            f"The variance of {' and '.join(known.doubtful)} is known so poorly that its law about the estimate is a rough one; take it from the "
            f"posterior: orchard sample {first.name} --keep draws.parquet, then --posterior draws.parquet here."
        )
    if draws is not None:
        notes.append(
            f"Parameters of {first.name} are those of {draws.count:,} draws of its posterior ({draws.source})."
        )
    return _document(first, plain, effects, made, kept, augmented, options, notes, text)


@dataclass(frozen=True)
class _Kept:
    """Of every completed data: estimates (m, p) and covariances of the fixed rows that exist, parts of the variation."""

    estimates: Array
    covariances: Array
    random: list[list[dict[str, Any]]]
    residual: list[dict[str, Any] | None]
    steps: int


def _run(augmented: Augmented, first: FirstModel, plain: Fit, options: CarryOptions, report: Progress) -> _Kept:
    rng = np.random.default_rng(options.seed)
    steps = SETTLING + APART * options.imputations
    places = [i for i, r in enumerate(plain.result.fixed) if r.estimate is not None]
    cells = CELLS * len(places) * (len(places) + 1)
    check_room(
        8.0 * cells * options.imputations, f"{options.imputations:,} imputations", "ask for fewer with --imputations"
    )
    estimates, covariances, random, residual = [], [], [], []
    for i in range(steps):
        with np.errstate(all="ignore"):
            if i >= SETTLING and (i - SETTLING) % APART == 0:
                augmented.law(first.drawn(rng))
            augmented.step(rng)
        report(i + 1, steps)
        if i < SETTLING or (i - SETTLING) % APART != APART - 1:
            continue
        known = precision(augmented.model, plain.settings.df)
        rows, covariance = fixed_part(known, plain.settings.confidence)
        estimates.append([rows[k]["estimate"] for k in places])
        covariances.append([[covariance[a][b] for b in places] for a in places])
        random.append(random_parts(augmented.model))
        residual.append(residual_part(augmented.model))
    return _Kept(np.array(estimates, dtype=float), np.array(covariances, dtype=float), random, residual, steps)


def _put_together(plain: Fit, kept: _Kept) -> Pooled:
    complete = np.array([np.inf if r.df is None else float(r.df) for r in plain.result.fixed if r.estimate is not None])
    return pooled(kept.estimates, kept.covariances, complete)


def _without_constant(first: Fit, units: list[str], table: Table, drop: bool, notes: list[str]) -> Table:
    """Tell of units whose first outcome never varies, and leave their rows out where that is asked."""
    for unit in dict.fromkeys(units):
        still = constant_units(first, unit)
        if not still or not table.has(unit.split(" in ")[0]):
            continue
        told = f"{len(still)} of {unit} have the same first outcome in all their rows ({', '.join(shown(still, 3))})"
        if not drop:
            notes.append(f"{told}; they are kept (--drop-constant leaves them out).")
            continue
        from bold_orchard.design.build import unit_codes
        from bold_orchard.sentence.edit import unit_of

        codes = unit_codes(unit_of(unit), table)
        bad = np.append(np.isin(np.array(codes.texts, dtype=object), still), False)[codes.codes]
        if bad.all():
            raise OrchardError(f"{told}, which leaves no row; leave --drop-constant out")
        table = table.take(~bad)
        notes.append(f"{told}; their {int(bad.sum()):,} rows were left out.")
    return table


def _document(
    first: Fit, plain: Fit, effects: list[Carried], made: Pooled, kept: _Kept, augmented: Augmented, options: CarryOptions,
    notes: list[str], text: str,
) -> CarryResult:  # fmt: skip
    level = plain.settings.confidence
    document = plain.result.document
    rows, at = [], iter(range(len(made.estimate)))
    missing: dict[str, float] = {}
    for row in document["fixed"]:
        if row["estimate"] is None:
            rows.append(row)
            continue
        i = next(at)
        missing[row["term"]] = float(made.missing[i])
        rows.append({k: v for k, v in row.items() if not k.startswith("ratio")} | _row(made, i, level))
    whole = [i for i, r in enumerate(document["fixed"]) if r["estimate"] is not None]
    p = len(document["fixed"])
    covariance: list[list[float | None]] = [[None] * p for _ in range(p)]
    for a, i in enumerate(whole):
        for b, j in enumerate(whole):
            covariance[i][j] = number(made.covariance[a, b])
    lost = augmented.failed / kept.steps
    convergence = document["convergence"] | {"converged": lost <= MOST_FAILED}
    names = [n for c in effects for n in c.names]
    result = CarryResult.from_dict(document | {
        "schema": SCHEMA, "model": _written(text), "df_method": "barnard-rubin", "fixed": rows, "fixed_covariance": covariance, "random": _mean_random(kept.random),
        "residual": _mean_residual(kept.residual), "convergence": convergence,
        "fit": document["fit"] | dict.fromkeys(("loglik", "deviance", "aic", "bic")),
        "first": first.name, "first_model": first.result["model"], "imputations": options.imputations, "seed": options.seed,
        "carried": [{"effect": n, "reliability": number(r), "fraction_missing": number(_missing_of(n, missing))}
                    for n, r in zip(names, (r for c in effects for r in c.reliability))],
        "notes": [*document["notes"], *notes, *_notes(first, effects, options, lost)],
    } | ({"naive": [{k: r[k] for k in ("term", "estimate", "se")} for r in document["fixed"]]} if options.naive else {}))  # fmt: skip
    return with_ratios(result) if options.ratios else result


def _written(text: str) -> str:
    return " ".join(text.split())


def _row(made: Pooled, i: int, level: float) -> dict[str, Any]:
    estimate, se, df = float(made.estimate[i]), float(np.sqrt(made.covariance[i, i])), float(made.df[i])
    own = df if np.isfinite(df) and df < 1e8 else None
    width = quantile_t(level, own) * se
    return {"estimate": number(estimate), "se": number(se), "df": own, "statistic": number(estimate / se),
            "p": number(p_of_t(estimate / se, own)), "ci": [number(estimate - width), number(estimate + width)]}  # fmt: skip


def _missing_of(name: str, missing: dict[str, float]) -> float:
    """Of the effect's own coefficient, or the largest of those that contain it."""
    if name in missing:
        return missing[name]
    return max((v for k, v in missing.items() if name in k), default=float("nan"))


def _mean_random(random: list[list[dict[str, Any]]]) -> list[dict[str, Any]]:
    out = []
    for parts in zip(*random):
        g = np.mean([np.array(p["covariance"], dtype=float) for p in parts], axis=0)
        sd = np.sqrt(np.maximum(np.diag(g), 0.0))
        with np.errstate(all="ignore"):
            r = g / np.outer(sd, sd)
        correlation = [[1.0 if a == b else number(r[a, b]) for b in range(len(g))] for a in range(len(g))]
        out.append(parts[0] | {"covariance": g.tolist(), "correlation": correlation, "sd": sd.tolist()})
    return out


def _mean_residual(residual: list[dict[str, Any] | None]) -> dict[str, Any] | None:
    last = residual[-1]
    if last is None:
        return None
    made = dict(last)
    for key in ("variance", "dispersion", "zero_chance", "tail_df"):
        if isinstance(made.get(key), float):
            made[key] = number(float(np.mean([r[key] for r in residual if r])))
    if made.get("variance") is not None:
        made["sd"] = number(float(np.sqrt(made["variance"])))
    return made


def _notes(first: Fit, effects: list[Carried], options: CarryOptions, lost: float) -> list[str]:
    out = [
        f"Effects of {first.name} were drawn {options.imputations} times given its rows and the second outcome (seed {options.seed}), the second "
        "model fitted to each, and the fits put together by Rubin's rules."
    ]
    for c in effects:
        total = next(u.size for u in first.design.units if u.name == c.unit)
        if len(c.labels) < total:
            out.append(f"{total - len(c.labels)} of {total} levels of {c.unit} have no rows here and were left out.")
        for term, r in zip(c.terms, c.reliability):
            if r < 0.3:
                out.append(
                    f"effect({c.unit}: {term}) has a reliability of {r:.2f} only: its rows say little of each {c.unit}, so its coefficient stays uncertain."
                )
    if lost:
        out.append(f"{lost:.1%} of the refits failed and were drawn again.")
    return out
