"""The document of ``orchard check``: what the residuals say at every level."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy import special

from bold_orchard.diagnostics.normality import MOST, SEED, shape
from bold_orchard.diagnostics.outcome import family_checks, family_notes
from bold_orchard.diagnostics.residuals import Residuals, UnitEffects, residuals, unit_effects
from bold_orchard.fitting import Fit

Array = NDArray[Any]
SCHEMA = "bold-orchard/check/1"
FAR = 3.0
MOST_OUTLIERS = 20
SUSPECT = 0.01


@dataclass(frozen=True)
class Checked:
    """The document and the arrays a picture of it needs."""

    document: dict[str, Any]
    residuals: Residuals
    units: list[UnitEffects]


def check(fit: Fit, seed: int = SEED) -> Checked:
    """Shape, outliers and spread of row residuals and of predicted unit effects."""
    units = unit_effects(fit)
    rest = residuals(fit, units, seed)
    generalized = fit.design.generalized
    extra = family_checks(fit, seed) if generalized else {}
    levels = [
        {"level": "rows", "residuals": "quantile" if generalized else "conditional"}
        | shape(rest.standardised if generalized else rest.conditional, seed)
        | {"outliers": _row_outliers(fit, rest)}
    ]
    for made in units:
        for term, effects in zip(made.terms, made.effects.T):
            entry = {"level": made.group, "term": term, "residuals": "predicted effects"}
            levels.append(entry | shape(effects, seed) | {"outliers": _unit_outliers(made.levels, effects)})
    spread = brown_forsythe(rest.standardised, fit.design.units[0].codes) if fit.design.units else None
    document = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "method": fit.result["method"],
        "levels": levels,
        "spread": spread,
        "influence": [],
        **extra,
        "notes": [*_notes(fit, levels, spread, seed), *(family_notes(extra) if generalized else [])],
    }
    return Checked(document, rest, units)


def _row_outliers(fit: Fit, rest: Residuals) -> list[dict[str, Any]]:
    far = np.flatnonzero(np.abs(rest.standardised) > FAR)
    far = far[np.argsort(-np.abs(rest.standardised[far]))][:MOST_OUTLIERS]
    rows = fit.design.table.row_numbers
    return [
        {
            "row": int(rows[i]),
            "units": {u.name: u.texts[u.codes[i]] for u in fit.design.units},
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


def brown_forsythe(values: Array, codes: NDArray[np.intp]) -> dict[str, Any] | None:
    """Brown & Forsythe (1974): F test of |value - median of its group|; groups of one row are left out."""
    series = pd.Series(values)
    counts = np.bincount(codes)
    keep = counts[codes] > 1
    if not keep.any():
        return None
    distance = (series - series.groupby(codes).transform("median")).abs().to_numpy()[keep]
    groups = pd.factorize(codes[keep])[0]
    n, k = len(distance), int(groups.max()) + 1
    if k < 2 or n <= k:
        return None
    sizes = np.bincount(groups)
    means = np.bincount(groups, distance) / sizes
    between = float(sizes @ (means - distance.mean()) ** 2) / (k - 1)
    within = float(((distance - means[groups]) ** 2).sum()) / (n - k)
    value = between / within if within > 0 else np.inf
    p = float(special.fdtrc(k - 1, n - k, value))
    return {"test": "Brown-Forsythe", "value": value, "num_df": k - 1, "den_df": n - k, "p": p}


def _notes(fit: Fit, levels: list[dict[str, Any]], spread: dict[str, Any] | None, seed: int) -> list[str]:
    notes = []
    if not fit.converged:
        notes.append("The fit did NOT converge; its residuals mean nothing. Mend the fit first.")
    rows, units = levels[0], levels[1:]
    if rows["n"] > MOST:
        notes.append(f"Shapiro-Wilk was made on {MOST:,} values chosen at random (seed {seed}) out of {rows['n']:,}.")
    notes.append(
        _shape_words("The randomised quantile residuals" if fit.design.generalized else "The row residuals", rows)
    )
    for entry in units:
        notes.append(_shape_words(f"The {entry['level']} effects of {entry['term']}", entry))
        if entry["n"] < 20 and entry["shapiro"]:
            notes[-1] += f" With {entry['n']} levels only gross departures can be seen."
    if spread is not None:
        unit = fit.design.units[0].name
        if spread["p"] < SUSPECT:
            notes.append(
                f"The residual spread differs between levels of {unit} (Brown-Forsythe p {_p(spread['p'])}): look for the "
                f"variable behind it."
            )
        else:
            notes.append(f"The residual spread is much the same in every {unit} (Brown-Forsythe p {_p(spread['p'])}).")
    if rows["outliers"]:
        worst = rows["outliers"][0]
        where = ", ".join(f"{k} {v}" for k, v in worst["units"].items())
        notes.append(
            f"Farthest row: {worst['row']} ({where}), {worst['standardised']:+.1f} residual SDs; "
            "see whether it is a slip of the pen before you trust or drop it."
        )
    return notes


def _shape_words(what: str, entry: dict[str, Any]) -> str:
    test = entry["shapiro"]
    if test is None:
        return f"{what} are all alike or too few to judge."
    if test["p"] >= SUSPECT:
        return f"{what} look normal (Shapiro-Wilk p {_p(test['p'])})."
    skew, tails = entry["skewness"], entry["kurtosis"]
    if entry["n"] > 1000 and abs(skew) < 0.3 and abs(tails) < 0.5:
        return f"{what} depart from the normal by little, found only because there are many (p {_p(test['p'])})."
    how = []
    if abs(skew) >= 0.3:
        how.append(f"a long tail to the {'right' if skew > 0 else 'left'}")
    if tails > 0.5:
        how.append("heavy tails")
    advice = (
        " A log or square root of the outcome may help." if skew > 0.5 and entry["residuals"] == "conditional" else ""
    )
    words = " and ".join(how) or "a shape that is not normal"
    return f"{what} have {words} (Shapiro-Wilk p {_p(test['p'])}); look at the QQ plot.{advice}"


def _p(p: float) -> str:
    return "< 0.001" if p < 0.001 else f"= {p:.3f}"
