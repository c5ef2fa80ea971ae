"""The document of ``orchard check``: what the residuals say at every level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.scout import units_of as scouted_units
from bold_orchard.data.units import columns_of_unit
from bold_orchard.design.build import unit_codes
from bold_orchard.design.design import UnitCodes
from bold_orchard.design.validation import is_nested
from bold_orchard.diagnostics import findings
from bold_orchard.diagnostics.autocorrelation import autocorrelation, times
from bold_orchard.diagnostics.collinearity import collinearity, collinearity_findings
from bold_orchard.diagnostics.curvature import curvature
from bold_orchard.diagnostics.family_checks import family_checks, family_findings
from bold_orchard.diagnostics.influence import Influence, affordable, influence, one_step
from bold_orchard.diagnostics.normality import MOST, SEED, shape
from bold_orchard.diagnostics.part_checks import part_checks, part_findings
from bold_orchard.diagnostics.proportional_odds import proportional_findings, proportional_odds
from bold_orchard.diagnostics.spread import between_units, brown_forsythe, spread_by_fitted
from bold_orchard.diagnostics.within_units import Within, chosen_unit, units_of, within_residuals
from bold_orchard.errors import UsageError, unknown_name
from bold_orchard.estimation.model import UnitEffects
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.average_lines import covariates
from bold_orchard.inference.prediction.residuals import Residuals, residuals
from bold_orchard.inference.variances.averages import residual_variances
from bold_orchard.progress import Progress, silent
from bold_orchard.results.check import CheckArrays, CheckResult, EffectArrays, LevelInfluence
from bold_orchard.results.rows import Entries
from bold_orchard.sentence.tree import Column, Unit, columns_of
from bold_orchard.threads import at_once

Array = NDArray[Any]
SCHEMA = "bold-orchard/check/1"
FAR = 3.0  # standard deviations: 1 of 370 normal values lies beyond
MOST_SCOUTED = 200_000  # rows up to which all columns are looked at for units that the model lacks
MOST_OUTLIERS = 20  # values listed: more are a shape, not outliers
HOW = ("one-step", "exact", "none")


@dataclass(frozen=True)
class CheckOptions:
    """What to look at: a ``unit`` and a ``time`` column by name, ``influence`` one of HOW (None: one-step where quick)."""

    unit: str | None = None
    time: str | None = None
    influence: str | None = None
    seed: int = SEED


def check(fit: Fit, asked: CheckOptions | None = None, report: Progress = silent) -> CheckResult:
    """Shape, outliers, spread, patterns, autocorrelation and influence, at the level of rows and of every unit.

    Raises UsageError for a unit or a time column that is not there.
    """
    asked, inflated, fit = asked or CheckOptions(), collinearity(fit), fit.of_table
    unit = _unit(fit, asked.unit)
    effects, additive = fit.model.unit_effects(), fit.design.additive
    rest = residuals(fit, effects, asked.seed)
    notes: list[str] = []
    serial = _serial(fit, asked, unit, rest, notes)
    followed, put_off = _followed(fit, asked, unit)
    looks: list[Callable[[], Any]] = [
        *(lambda one=one: one_step(fit, one) for one in followed),
        lambda: _within(fit, unit) if additive else (None, []),
        lambda: [(u.name, brown_forsythe(rest.standardised, u.codes)) for u in (units_of(fit) if unit is None else [unit])],
        lambda: None if fit.design.graded or fit.design.family == "nominal" else spread_by_fitted(rest.standardised, rest.fitted),
        lambda: curvature(fit, rest.standardised),
    ]  # fmt: skip
    # a generalized likelihood is evaluated by one at a time
    *steps, (inside, first), across, along, bends = (
        at_once(lambda look: look(), looks) if additive else [f() for f in looks]
    )
    left_out = [f"The influence of {one.name} ({one.size:,} levels) would take long and was left out; ask for it with "
                f"--influence one-step --unit '{one.name}'." for one in put_off]  # fmt: skip
    notes = [*first, *notes, *left_out]
    exact = asked.influence == "exact"  # such fits are made by other processes
    moved = [influence(fit, one, exact, report, step) for one, step in zip(followed, steps)]
    levels = _levels(fit, rest, effects, inside, asked.seed)
    modelled = unit is None or unit.name in [u.name for u in units_of(fit)]
    without = None if modelled or unit is None else between_units(rest.standardised, unit.codes)
    lacking = {} if unit is not None else _lacking(fit, rest)
    extra: dict[str, Any] = {} if additive else family_checks(fit, asked.seed)
    odds = proportional_odds(fit) if fit.design.graded else []
    parts = part_checks(fit, rest.standardised)
    found = [
        *findings.shape_findings(fit, levels),
        *findings.spread_findings(fit, across, along),
        *findings.curvature_findings(fit, bends),
        findings.row_findings(rest.standardised, levels[0]["outliers"]),
        *findings.unit_findings(
            fit, [(u.group, t, u.levels, v) for u in effects for t, v in zip(u.terms, u.effects.T)]
        ),
        *([] if without is None or unit is None else [findings.left_out_finding(fit, unit.name, without)]),
        *(findings.left_out_finding(fit, name, test, len(lacking)) for name, test in lacking.items()),
        *([] if serial is None else [findings.serial_findings(fit, serial)]),
        *(findings.influence_findings(fit, m) for m in moved),
        *collinearity_findings(fit, inflated),
        *([] if additive else family_findings(extra, fit.design.family)),
        *proportional_findings(odds, fit.design.outcome),
        *part_findings(fit, parts),
    ]
    document = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "method": fit.result["method"],
        "levels": levels,
        "spread": across[0][1] if across else None,
        "spreads": [test | {"unit": unit} for unit, test in across if test is not None],
        "spread_by_fitted": along,
        "curvature": bends,
        "left_out": without,
        "collinearity": inflated,
        "lacking": [test | {"unit": name} for name, test in lacking.items()],
        "autocorrelation": serial,
        "influence": Entries(
            LevelInfluence, sum(m.unit.size for m in moved), lambda: [row for m in moved for row in m.rows()]
        ),
        **extra,
        **({"proportional_odds": odds} if fit.design.graded else {}),
        **({"parts": parts} if parts else {}),
        "findings": findings.document_of(found),
        "closing": findings.closing(found),
        "notes": [*_first_notes(fit, levels, asked.seed), *notes],
    }
    arrays = _arrays(fit, asked, rest, effects, inside, moved)
    return CheckResult.from_dict(document).with_keys(arrays=arrays)


def _arrays(
    fit: Fit,
    asked: CheckOptions,
    rest: Residuals,
    effects: list[UnitEffects],
    inside: Within | None,
    moved: list[Influence],
) -> CheckArrays:
    """What the pictures and the tables of rows and units need beside the document."""
    design, table = fit.design, fit.design.table
    blocks = [design.blocks[u.unit].unit.codes for u in effects]
    return CheckArrays(
        outcome=design.outcome,
        standardised_name="standardised residual" if design.additive else "quantile residual",
        fitted_name=f"mean grade of {design.outcome}" if design.graded else f"fitted {design.outcome}",
        row_numbers=table.row_numbers,
        table=table,
        residuals=rest,
        within=inside,
        effects=[EffectArrays(u.group, u.terms, u.levels, u.effects, u.se, c) for u, c in zip(effects, blocks)],
        influence=moved,
        numbers={name: table.numbers(name) for name in covariates(fit)},
        categories={name: (m.codes, list(m.levels)) for name, m in design.categories()},
        units=[(u.name, u.codes, u.texts) for u in units_of(fit)],
        times=None if asked.time is None else times(table, asked.time),
    )


def _unit(fit: Fit, name: str | None) -> UnitCodes | None:
    if name is None:
        return None
    known = {u.name: u for u in units_of(fit)}
    return known[name] if name in known else _other_unit(fit, name)


def _other_unit(fit: Fit, name: str) -> UnitCodes:
    """A unit that the model does not have, by the names of its columns: ``tree in orchard``."""
    table, columns = fit.design.table, columns_of_unit(name)
    for column in columns:
        if not table.has(column):
            raise UsageError(unknown_name("column", column, table.columns, table.name) + " (in --unit)")
        if table.is_missing(column).any():
            raise UsageError(
                f"--unit {name}: {column} is missing in some of the rows used; fill it, or name another unit"
            )
    return unit_codes(Unit(tuple(map(Column, columns))), table)


def _lacking(fit: Fit, rest: Residuals) -> dict[str, dict[str, Any]]:
    """For every unit that the table seems to have and the model lacks, inside or around the model's own, whether its rows are alike."""
    design, out = fit.design, {}
    if len(design.y) > MOST_SCOUTED or not design.groups:
        return {}
    fixed = {c.name for c in columns_of(design.sentence.terms)}
    known = units_of(fit)
    for name in scouted_units(fit.own_table):
        unit = _other_unit(fit, name)
        if set(columns_of_unit(name)) <= fixed or any(same_partition(unit, u) for u in known):
            continue
        if not any(is_nested(unit, u) or is_nested(u, unit) for u in known):
            continue
        test = between_units(rest.standardised, unit.codes)
        if test is not None:
            out[name] = test
    return out


def same_partition(a: UnitCodes, b: UnitCodes) -> bool:
    """Whether two units put the same rows together."""
    return is_nested(a, b) and is_nested(b, a)


def _levels(
    fit: Fit, rest: Residuals, effects: list[UnitEffects], inside: Within | None, seed: int
) -> list[dict[str, Any]]:
    """One entry for the rows, one for each term of each unit, then the other residuals of the rows."""
    additive = fit.design.additive
    plain = additive and np.ndim(residual_variances(fit.model)) == 0  # rows of unlike variance are set on one scale
    levels = [
        {"level": "rows", "residuals": "conditional" if additive else "quantile"}
        | shape(rest.conditional if plain else rest.standardised, seed)
        | {"outliers": _row_outliers(fit, rest)}
    ]
    for made in effects:
        for term, values in zip(made.terms, made.effects.T):
            entry = {"level": made.group, "term": term, "residuals": "predicted effects"}
            levels.append(entry | shape(values, seed) | {"outliers": _unit_outliers(made.levels, values)})
    if additive:
        levels.append({"level": "rows", "residuals": "marginal"} | shape(rest.marginal, seed) | {"outliers": []})
    if inside is not None:
        within: dict[str, Any] = {"level": "rows", "residuals": "within-group", "unit": inside.unit.name}
        within["units"] = int(inside.possible.sum())
        own = inside.residual if plain else inside.standardised
        own = own[np.isfinite(own)]
        levels.append(within | shape(own, seed) | {"outliers": []})
    return levels


def _within(fit: Fit, unit: UnitCodes | None) -> tuple[Within | None, list[str]]:
    """Within-group residuals and the line that says what they are good for, or why there are none."""
    chosen = unit or chosen_unit(fit)
    if chosen is None:
        lost = "No unit has enough rows for a least squares of its own, so there are no within-group residuals."
        return None, [lost] if units_of(fit) else []
    made = within_residuals(fit, chosen)
    possible, size = int(made.possible.sum()), chosen.size
    if not possible:
        lost = (
            f"No {chosen.name} has enough rows for a least squares of its own, so there are no within-group residuals."
        )
        return None, [lost]
    return made, [
        f"Conditional residuals (what the groups' own effects leave) judge the rows, marginal ones (what the average effects leave) "
        f"show both levels at once and are not independent; within-group ones come from each {chosen.name}'s own least squares, free "
        f"of what is assumed of the groups: {possible:,} of {size:,} levels have the rows for it."
    ]


def _serial(
    fit: Fit, asked: CheckOptions, unit: UnitCodes | None, rest: Residuals, notes: list[str]
) -> dict[str, Any] | None:
    """Autocorrelation along the time column asked for, or that of the within clause."""
    within, table = fit.design.sentence.within, fit.design.table
    column = asked.time
    if column is None and within is not None and len(within.structure.columns) == 1:
        column = within.structure.columns[0].name
    if column is None:
        return None
    if not table.has(column):
        raise UsageError(unknown_name("column", column, table.columns, table.name) + " (in --time)")
    chosen = unit or _in_time(fit)
    if chosen is None:
        raise UsageError(f"--time looks inside units, and '{fit.name}' has none; leave it out")
    made = autocorrelation(rest.white, chosen, times(table, column), column, asked.seed)
    if made["averaged"]:
        notes.append(
            f"Several rows of one {chosen.name} share one {column}; their residuals were averaged for the autocorrelation."
        )
    return made


def _in_time(fit: Fit) -> UnitCodes | None:
    """The unit whose rows follow each other in time: that of the within clause, or the finest."""
    within = fit.design.sentence.within
    named = [u for u in units_of(fit) if within is not None and u.name == str(within.unit)]
    return next(iter(named or sorted(fit.design.groups, key=lambda u: -u.size)), None)


def _followed(fit: Fit, asked: CheckOptions, unit: UnitCodes | None) -> tuple[list[UnitCodes], list[UnitCodes]]:
    """Units whose influence is made, the one asked for or all whose levels take seconds at most, and those put off."""
    if asked.influence == "none" or not fit.converged:
        return [], []
    units = [unit] if unit is not None else [one for one in units_of(fit) if one.size > 1]
    quick = [asked.influence is not None or affordable(fit, one) for one in units]
    return [u for u, q in zip(units, quick) if q], [u for u, q in zip(units, quick) if not q]


def _row_outliers(fit: Fit, rest: Residuals) -> list[dict[str, Any]]:
    far = np.flatnonzero(np.abs(rest.standardised) > FAR)
    far = far[np.argsort(-np.abs(rest.standardised[far]))][:MOST_OUTLIERS]
    rows, units = fit.design.table.row_numbers, units_of(fit)
    return [
        {
            "row": int(rows[i]),
            "units": {u.name: u.texts[u.codes[i]] for u in units},
            "residual": float(rest.conditional[i]),
            "standardised": float(rest.standardised[i]),
        }
        for i in far
    ]


def _unit_outliers(labels: list[str], effects: Array) -> list[dict[str, Any]]:
    sd = float(effects.std(ddof=1)) if len(effects) > 1 else 0.0
    if sd == 0:
        return []
    z = (effects - effects.mean()) / sd
    far = np.flatnonzero(np.abs(z) > FAR)
    far = far[np.argsort(-np.abs(z[far]))][:MOST_OUTLIERS]
    return [{"unit": labels[i], "effect": float(effects[i]), "standardised": float(z[i])} for i in far]


def _first_notes(fit: Fit, levels: list[dict[str, Any]], seed: int) -> list[str]:
    notes = []
    if not fit.converged:
        notes.append("The fit did NOT converge; its residuals mean nothing. Mend the fit first.")
    n = levels[0]["n"]
    if n > MOST:
        notes.append(f"Shapiro-Wilk was made on {MOST:,} values chosen at random (seed {seed}) out of {n:,}.")
    return notes
