"""Checks that belong to families: dispersion, zeros, predicted against observed."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.diagnostics.findings import Finding, equals
from bold_orchard.families import containing
from bold_orchard.inference.fit import Fit

Array = NDArray[Any]
DRAWS = 200  # outcomes drawn: p to within 0.007 (its SE) where it decides
TENTHS = 10  # groups by predicted chance: ten are usual
TOO_WIDE = 0.01  # p below which a dispersion speaks, as for all checks


def family_checks(fit: Fit, seed: int) -> dict[str, Any]:
    """``dispersion``, ``zeros`` and ``predicted_against_observed``, each None where it does not apply."""
    eta = fit.model.family_eta(fit.model.linear_predictor())
    rng = np.random.default_rng(seed)
    return {
        "dispersion": _dispersion(fit, eta, rng),
        "zeros": _zeros(fit, eta),
        "predicted_against_observed": _against_observed(fit, eta),
    }


def effective_parameters(fit: Fit) -> float:
    """Rank of X and what the predicted effects take of the rows: sum of weight times leverage."""
    point: Any = fit.evaluation
    return float(point.criterion.p + point.leverage)


def _dispersion(fit: Fit, eta: Array, rng: np.random.Generator) -> dict[str, Any] | None:
    """Pearson chi-squared over its degrees of freedom for counts and trials, judged by outcomes drawn at the same means."""
    counted = fit.model.family.measure == "counts" or fit.design.trials is not None
    if not counted:
        return None
    family, extra = fit.model.family, fit.model.extra
    m = 1.0 if fit.design.trials is None else fit.design.trials
    mean, variance = family.mean(eta, extra) * m, np.maximum(family.variance(eta, extra), 1e-300)
    statistic = float(np.sum((fit.design.y - mean) ** 2 / variance))
    df = len(mean) - effective_parameters(fit)
    drawn = [np.sum((family.draw(eta, extra, rng) - mean) ** 2 / variance) for _ in range(DRAWS)]
    scaled = np.array(drawn) * df / len(mean)
    p = (1.0 + float(np.sum(scaled >= statistic))) / (1.0 + DRAWS)
    return {"statistic": statistic, "df": df, "ratio": statistic / df, "p": p}


def _zeros(fit: Fit, eta: Array) -> dict[str, Any] | None:
    """Rows with a count of zero, seen and expected."""
    if fit.model.family.measure != "counts":
        return None
    chance = fit.model.family.cdf(np.zeros(len(fit.design.y)), eta, fit.model.extra)[1]
    return {
        "seen": int(np.sum(fit.design.y == 0)),
        "expected": float(chance.sum()),
        "sd": float(np.sqrt(np.sum(chance * (1 - chance)))),
    }


def _against_observed(fit: Fit, eta: Array) -> dict[str, Any] | None:
    """For 0/1 outcomes: how many rows fall on the side they were given, and shares by tenths of the predicted chance."""
    if fit.model.family.reads != "two levels" or fit.design.trials is not None:
        return None
    chance, y = fit.model.family.mean(eta, fit.model.extra), fit.design.y
    names = fit.design.levels or ("0", "1")
    won = y == 1
    table = [
        {
            "observed": names[int(o)],
            "predicted": names[int(q)],
            "rows": int(np.sum((won == o) & ((chance >= 0.5) == q))),
        }
        for o in (False, True)
        for q in (False, True)
    ]
    tenths = []
    for part in np.array_split(np.argsort(chance, kind="stable"), TENTHS):
        if len(part):
            tenths.append({"rows": len(part), "from": float(chance[part].min()), "to": float(chance[part].max()),
                           "predicted": float(chance[part].mean()), "observed": float(y[part].mean())})  # fmt: skip
    return {"table": table, "tenths": tenths}


def family_findings(checks: dict[str, Any], family: str) -> list[Finding]:
    """What the checks of a fit of the family say, and what to try."""
    found = []
    d, z = checks["dispersion"], checks["zeros"]
    if d is not None and d["p"] < TOO_WIDE and d["ratio"] > 1.1:
        words = f"the rows vary {d['ratio']:.2f} times as much as the family allows (Pearson chi-squared over df, p {equals(d['p'])}), so its standard errors are too small"
        wider = [f"--family {n}" for n in containing(family, "dispersion")]
        row = "an effect for every row: number the rows in a column and add  each ROW: intercept"
        advice = ", or ".join([*wider, row])
        found.append(Finding("dispersion", "rows", True, words, advice))
    elif d is not None:
        words = f"the rows vary as much as the family allows (ratio {d['ratio']:.2f}, p {equals(d['p'])})"
        found.append(Finding("dispersion", "rows", False, words))
    if z is not None:
        seen = f"{z['seen']:,} seen, {z['expected']:,.0f} expected"
        if abs(z["seen"] - z["expected"]) > 3.0 * max(z["sd"], 1.0):
            more = "more" if z["seen"] > z["expected"] else "fewer"
            wider = [f"--family {n}" for n in (*containing(family, "dispersion"), *containing(family, "zero_chance"))]
            advice = ", or ".join(
                [*wider, "a model of its own for whether anything was counted at all (--family binomial)"]
            )
            found.append(
                Finding("zeros", "rows", True, f"there are {more} zeros than the model expects ({seen})", advice)
            )
        else:
            found.append(Finding("zeros", "rows", False, f"there are as many zeros as the model expects ({seen})"))
    return found
