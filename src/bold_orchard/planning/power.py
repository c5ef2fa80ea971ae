"""How often a study of some size would find its effects: by formula, and by outcomes simulated, fitted and tested."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.data.table import Table
from bold_orchard.design.over import design_over
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.assumed import Assumed, assumed_of, model_at
from bold_orchard.estimation.model import FittedModel
from bold_orchard.inference.coefficients.hypotheses import hypotheses
from bold_orchard.inference.coefficients.methods import precision
from bold_orchard.inference.coefficients.terms import joint_test
from bold_orchard.inference.distributions import half_and_half
from bold_orchard.inference.fit import Fit
from bold_orchard.planning.effects import Wanted, read_effects
from bold_orchard.planning.formula import Expected, power_of
from bold_orchard.planning.layouts import Size, check_size, resized, smallest
from bold_orchard.progress import Progress
from bold_orchard.results.power import PowerResult
from bold_orchard.workers import run

Array = NDArray[Any]
SCHEMA = "bold-orchard/power/1"
LAYOUTS = 10  # drawn sets of units over which a design that is drawn is averaged
UNCERTAIN = 100  # sets of parameters of --uncertain: its ends lie at the second and third of them
LEVEL = 0.95  # of the interval of a simulated power
FOUND, LOST = 1.0, -1.0


@dataclass(frozen=True)
class PowerOptions:
    """``units`` and ``rows`` to try, ``runs`` simulated outcomes each (0: the formula alone), ``want`` the power to reach."""

    effects: tuple[str, ...] = ()
    sizes: tuple[Size, ...] = ()
    alpha: float = 0.05
    df: str | None = None
    runs: int = 400
    want: float | None = None
    uncertain: bool = False
    seed: int = 0


@dataclass(frozen=True)
class Study:
    """A model at assumed parameters, and the rows of a study of any size: ``rows_of`` (size, generator)."""

    fit: Fit
    assumed: Assumed
    rows_of: Callable[[Size, np.random.Generator], Table]
    drawn: bool
    pilot: FittedModel[Any, Any] | None = None


def of_fit(fit: Fit) -> Study:
    """A study like the one a fit was made from, at its estimates."""

    def rows_of(size: Size, rng: np.random.Generator) -> Table:
        design = replace(fit.of_table.design, table=fit.own_table)
        return design.table if not size.units and size.rows is None else resized(design, size, rng)

    if not fit.converged:
        raise OrchardError(
            f"the fit '{fit.name}' did not converge, so its estimates are no study to plan from; mend it first"
        )
    if fit.design.random_spread or any(c.vary is not None for c in fit.design.clauses):
        raise OrchardError(
            f"power is made for units of one SD and one spread, and '{fit.name}' lets them differ; fit it without spread in an each clause "
            "and vary with, and plan from that"
        )
    return Study(fit, assumed_of(fit.model), rows_of, True, fit.model)


@dataclass
class _Layout:
    """One set of rows of a design with its model at the assumed parameters."""

    fit: Fit
    hypotheses: list[Array | None]
    smaller: list[FittedModel[Any, Any] | None] = field(default_factory=list)


def power(study: Study, options: PowerOptions, report: Progress) -> PowerResult:
    """The document of ``orchard power``.

    Raises OrchardError for effects, units and sizes the study cannot have, UsageError for options that contradict each other.
    """
    fit = study.fit
    _check(fit, options)
    method = "normal" if not fit.design.additive else options.df or fit.settings.df
    effects, assumed = read_effects(fit, study.assumed, options.effects)
    if not options.runs and any(e.smaller is not None for e in effects):
        raise UsageError("the formula of --quick is for fixed effects; leave --quick out for an SD")
    for size in options.sizes:
        check_size(fit.design, size)
    designs = [_layouts(study, size, i, assumed, effects, method, options) for i, size in enumerate(options.sizes)]
    made = _simulated(designs, effects, method, options, report) if options.runs else None
    rows = []
    for i, (size, layouts) in enumerate(zip(options.sizes, designs)):
        formulas = [_formula(layouts, k, method, options, i) for k in range(len(effects))]
        bands = _bands(study, options, effects, layouts, method, i) if options.uncertain else [{}] * len(effects)
        tested = [None] * len(effects) if made is None else [made[i, :, k] for k in range(len(effects))]
        rows.append({
            "units": size.units or {u.name: u.size for u in layouts[0].fit.design.groups},
            "rows": size.rows if size.rows is not None else _rows_of(fit.of_table),
            "total_rows": round(float(np.mean([x.fit.design.n_rows for x in layouts]))),
            "effects": [
                {"effect": e.text, "value": e.value} | _counted(t) | {"power_formula": f} | b
                for e, t, f, b in zip(effects, tested, formulas, bands)
            ],
        })  # fmt: skip
    document = {
        "schema": SCHEMA, "name": fit.name, "model": fit.result["model"], "alpha": options.alpha, "df_method": method,
        "want": options.want, "designs": rows, "smallest": _smallest(rows, options.want), "confidence": LEVEL,
        "notes": _notes(fit, study, options, effects, rows),
    }  # fmt: skip
    return PowerResult.from_dict(document)


def _check(fit: Fit, options: PowerOptions) -> None:
    if not 0 < options.alpha < 1:
        raise UsageError(f"--alpha lies between 0 and 1, not {options.alpha:g}")
    if options.want is not None and not 0 < options.want < 1:
        raise UsageError(f"--want lies between 0 and 1, not {options.want:g}")
    if options.runs and options.runs < 20:
        raise UsageError("--runs needs 20 simulated outcomes or more; or --quick for the formula alone")
    if options.df and not fit.design.additive and options.df not in ("normal", "satterthwaite"):
        raise UsageError(f"--df {options.df} is for gaussian fits; tests of {fit.design.family} fits use the normal")


def _layouts(
    study: Study, size: Size, place: int, assumed: Assumed, effects: list[Wanted], method: str, options: PowerOptions
) -> list[_Layout]:
    """The rows of a design, drawn several times where they are drawn."""
    anew = study.drawn and (bool(size.units) or size.rows is not None)
    out = []
    for k in range(min(LAYOUTS, options.runs or LAYOUTS) if anew else 1):
        rng = np.random.default_rng([options.seed, place, k])
        table = study.rows_of(size, rng)
        design = design_over(study.fit.design, table, study.fit.settings.options.weights)
        if len(design.y) <= len(study.fit.model.kept) + 1:
            raise OrchardError(
                f"{len(design.y)} rows are too few for {len(study.fit.model.kept)} coefficients; ask for more units or rows"
            )
        model = model_at(design, study.fit.settings.search, assumed, rng)
        fit = replace(
            study.fit, model=model, known=precision(model, method), settings=replace(study.fit.settings, df=method)
        )
        tests = {h.term: h.rows for h in hypotheses(fit, 3)} if any(e.term for e in effects) else {}
        layout = _Layout(fit, [_rows(fit, study.fit, e, tests) for e in effects])
        for e in effects:
            layout.smaller.append(None if e.smaller is None else _smaller(fit, e, assumed, table, rng))
        out.append(layout)
    return out


def _rows(fit: Fit, base: Fit, e: Wanted, tests: dict[str, Array]) -> Array | None:
    """The hypothesis over the coefficients that these rows can tell."""
    if e.smaller is not None:
        return None
    if e.term is not None:
        rows = tests[e.term]
        if not len(rows) or not np.abs(rows).max() > 1e-9:
            raise OrchardError(f"{e.term} cannot be estimated from so few units; ask for more")
        return rows
    full = np.zeros(len(base.design.fixed.names))
    full[base.model.kept] = np.asarray(e.rows)[0]
    lost = [n for n, w, k in zip(base.design.fixed.names, full, range(len(full))) if w and k not in fit.model.kept]
    if lost:
        raise OrchardError(f"{lost[0]} cannot be estimated from so few units; ask for more")
    return full[fit.model.kept][None, :]


def _smaller(fit: Fit, e: Wanted, assumed: Assumed, table: Table, rng: np.random.Generator) -> FittedModel[Any, Any]:
    """The model without the effect, over the same rows, begun where the larger one stands."""
    assert e.smaller is not None
    design = design_over(e.smaller, table, fit.settings.options.weights)
    covariances = [np.zeros((0, 0))] * len(design.blocks)
    for f in range(len(design.blocks)):
        size = sum(len(c.part.names) for c in design.clauses if c.block == f)
        covariances[f] = np.zeros((size, size))
    for clause in design.clauses:
        name = design.units[clause.unit].name
        for home in fit.design.clauses:
            own = fit.design.units[home.unit].name == name and home.structure.kind == clause.structure.kind
            if own and set(clause.part.names) <= set(home.part.names):
                places = [home.columns.start + home.part.names.index(n) for n in clause.part.names]
                covariances[clause.block][clause.columns, clause.columns] = assumed.covariances[home.block][
                    np.ix_(places, places)
                ]
                break
    return model_at(design, fit.settings.search, replace(assumed, covariances=tuple(covariances)), rng)


def _formula(layouts: list[_Layout], k: int, method: str, options: PowerOptions, place: int) -> float | None:
    """Power by formula, averaged over the layouts."""
    if layouts[0].hypotheses[k] is None:
        return None
    out = []
    for j, layout in enumerate(layouts):
        known = Expected(layout.fit.model, method, np.random.default_rng([options.seed, place, j, 1]))
        rows = np.asarray(layout.hypotheses[k])
        out.append(power_of(rows, layout.fit.model.evaluation.b, known.covariance, *known.test(rows), options.alpha))
    return float(np.mean(out))


def _simulated(
    designs: list[list[_Layout]], effects: list[Wanted], method: str, options: PowerOptions, report: Progress
) -> Array:
    """p-values (designs, runs, effects), NaN where a fit failed."""

    def one(task: int) -> Array:
        d, i = divmod(task, options.runs)
        layout = designs[d][i % len(designs[d])]
        return _one_run(layout, effects, method, np.random.default_rng([options.seed, d, i, 2]))

    made = run(one, len(designs) * options.runs, report)
    found = np.where(np.isnan(made), LOST, np.where(made < options.alpha, FOUND, 0.0))
    return found.reshape(len(designs), options.runs, len(effects))


@np.errstate(all="ignore")
def _one_run(layout: _Layout, effects: list[Wanted], method: str, rng: np.random.Generator) -> Array:
    """p-values of one simulated outcome."""
    out = np.full(len(effects), np.nan)
    try:
        y = layout.fit.model.simulate(rng)
        found = layout.fit.model.again(y)
        if not found.converged:
            return out
        model = replace(
            layout.fit.model, design=replace(layout.fit.design, y=y), criterion=found.point.criterion, found=found
        )
        known = precision(model, method)
        for k, e in enumerate(effects):
            if e.smaller is None:
                p = joint_test(known, np.asarray(layout.hypotheses[k]), method == "normal")["p"]
            else:
                p = _ratio(found, layout.smaller[k], y)
            out[k] = np.nan if p is None else p
    except (OrchardError, np.linalg.LinAlgError, ValueError, FloatingPointError):
        return out
    return out


def _ratio(found: Any, smaller: Any, y: Array) -> float | None:
    """p of the likelihood ratio for one variance at its boundary, zero."""
    less = smaller.again(y)
    if not less.converged:
        return None
    df = len(found.point.criterion.bounded) - len(less.point.criterion.bounded)
    return half_and_half(less.point.deviance - found.point.deviance, df)


def _counted(found: Array | None) -> dict[str, Any]:
    """The share that found, by Clopper & Pearson (1934)."""
    if found is None:
        return dict.fromkeys(("power", "low", "high", "runs", "failed"))
    n, k = len(found), int((found == FOUND).sum())
    tail = (1.0 - LEVEL) / 2.0
    low = 0.0 if k == 0 else float(special.betaincinv(k, n - k + 1, tail))
    high = 1.0 if k == n else float(special.betaincinv(k + 1, n - k, 1.0 - tail))
    return {"power": k / n, "low": low, "high": high, "runs": n, "failed": int((found == LOST).sum())}


def _bands(
    study: Study, options: PowerOptions, effects: list[Wanted], layouts: list[_Layout], method: str, place: int
) -> list[dict[str, Any]]:
    """Power by formula at parameters drawn from their estimates' distribution (parametric bootstrap of the pilot)."""
    if study.pilot is None:
        raise UsageError("--uncertain is for a fit, whose estimates have errors; an imagined study has none")
    values: list[list[float]] = [[] for _ in effects]
    for i in range(UNCERTAIN):
        rng, layout = np.random.default_rng([options.seed, i, 3]), layouts[i % len(layouts)]
        try:
            found = study.pilot.again(study.pilot.simulate(rng))
            drawn = assumed_of(replace(study.pilot, criterion=found.point.criterion, found=found))
            _, assumed = read_effects(study.fit, drawn, [t for t in options.effects if "=" in t] or [effects[0].text])
            model = model_at(layout.fit.design, study.fit.settings.search, assumed, rng)
            known = Expected(model, method, rng, 2)
            for k, rows in enumerate(layout.hypotheses):
                if rows is not None:
                    values[k].append(
                        power_of(rows, model.evaluation.b, known.covariance, *known.test(rows), options.alpha)
                    )
        except (OrchardError, np.linalg.LinAlgError, ValueError):
            continue
    tail = (1.0 - LEVEL) / 2.0
    ends = [np.quantile(v, [tail, 1.0 - tail]).tolist() if v else (None, None) for v in values]
    return [{"uncertain_low": a, "uncertain_high": b} for a, b in ends]


def _rows_of(fit: Fit) -> float | int | None:
    """Rows per level of the smallest unit, on average."""
    unit = smallest(fit.design)
    if unit is None:
        return None
    mean = len(fit.design.y) / unit.size
    return int(mean) if mean == int(mean) else round(mean, 3)


def reached(design: dict[str, Any], want: float) -> bool:
    """Whether every effect is found as often as wanted."""
    return all((e["power"] if e["power"] is not None else e["power_formula"] or 0.0) >= want for e in design["effects"])


def _smallest(rows: list[dict[str, Any]], want: float | None) -> dict[str, Any] | None:
    if want is None:
        return None
    enough = sorted((r for r in rows if reached(r, want)), key=lambda r: (r["total_rows"], sum(r["units"].values())))
    return {k: enough[0][k] for k in ("units", "rows")} if enough else None


def _notes(
    fit: Fit, study: Study, options: PowerOptions, effects: list[Wanted], rows: list[dict[str, Any]]
) -> list[str]:
    out = []
    if options.runs:
        ways = [w for w, there in (("the table of terms", any(e.smaller is None for e in effects)),
                                   ("the likelihood ratio with its boundary law", any(e.smaller is not None for e in effects))) if there]  # fmt: skip
        out.append(
            f"{options.runs:,} outcomes of each design were drawn (seed {options.seed}), fitted and tested by {' and '.join(ways)}; "
            f"intervals are {LEVEL:.0%} Clopper-Pearson."
        )
    failed = sum(e["failed"] or 0 for r in rows for e in r["effects"])
    if failed:
        out.append(f"{failed:,} tests came to nothing, because a fit failed; they count as not finding.")
    if any(s.units or s.rows for s in options.sizes) and study.pilot is not None:
        out.append(
            f"Other numbers of units and rows are drawn from those of {fit.name}, {LAYOUTS} times each, with all that is inside them."
        )
    if study.pilot is not None and not options.uncertain and not all("=" in t for t in options.effects or [""]):
        out.append(
            "Effects stand at their estimates, which a pilot knows badly; --uncertain shows what that means, TERM = VALUE says what matters."
        )
    if options.want is not None and _smallest(rows, options.want) is None:
        out.append(f"No listed design reaches a power of {options.want:g}; list larger ones.")
    return out
