"""Coverage of 95% intervals and size of 5% tests in small data, for each way to degrees of freedom and to intervals.

    python benchmarks/coverage.py [data sets per design [of bootstrap and posterior]]      prints the tables that stand in docs/coverage.md

Each design is simulated anew from a known truth: ten orchards of 2 to 9 rows, or of 6 each; a covariate that varies by row, a
category that is constant in its orchard. Failed fits are counted, never replaced.
"""

from __future__ import annotations

import numpy as np
import pandas as pd
from covering import DRAWS, RESAMPLES, WARMUP, WAYS, asked, holds, over_sets, shares

from bold_orchard.data.table import Table
from bold_orchard.inference.coefficients.methods import METHODS
from bold_orchard.inference.coefficients.terms import joint_test, terms
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Settings, fit

TRUTH = {"intercept": 2.0, "rain": 0.5, "soil[loam]": 0.0, "soil[sand]": 0.0}
SDS = {"sd(orchard: intercept)": 0.8, "sd(orchard: rain)": 0.5, "sd(residual)": 1.0}
MODELS = {
    "random intercept": ("yield = rain + soil; each orchard: intercept", 0.0),
    "random intercept and slope": ("yield = rain + soil; each orchard: intercept + rain", SDS["sd(orchard: rain)"]),
}


def orchards(r: np.random.Generator, slope_sd: float, balanced: bool) -> Table:
    """Ten orchards of 2 to 9 rows, or of 6; soil belongs to the orchard and has no effect."""
    sizes = np.full(10, 6) if balanced else r.integers(2, 10, 10)
    code = np.repeat(np.arange(10), sizes)
    soil = np.array(["clay", "loam", "sand", "clay", "loam", "sand", "clay", "loam", "sand", "clay"])[code]
    rain = r.normal(size=len(code)) + r.normal(size=10)[code]
    y = TRUTH["intercept"] + TRUTH["rain"] * rain + SDS["sd(orchard: intercept)"] * r.normal(size=10)[code]
    y += slope_sd * r.normal(size=10)[code] * rain + SDS["sd(residual)"] * r.normal(size=len(code))
    return Table(pd.DataFrame({"orchard": code, "soil": soil, "rain": rain, "yield": y}), "simulated", len(code))


def truth_of(model: str) -> dict[str, float]:
    return TRUTH | {k: v for k, v in SDS.items() if MODELS[model][1] or "rain" not in k}


def one_set(model: str, balanced: bool, i: int, fewer: int) -> list[float]:
    """Whether it failed, whether it ended on a boundary; hits of every df method and its test; hits of every way."""
    sentence, slope_sd = MODELS[model]
    made = fit(sentence, orchards(np.random.default_rng([2026, i]), slope_sd, balanced), Settings())
    out = [float(not made.converged), float(made.result["convergence"]["boundary"])]
    rows = np.eye(len(TRUTH))
    for method in METHODS:
        known = made.precision(method)
        for row, term, b in zip(rows, TRUTH, made.evaluation.b):
            out.append(float(abs(b - TRUTH[term]) <= quantile_t(0.95, known.df(row[None, :])) * known.se(row)))
        out.append(float(joint_test(known, rows[2:], method == "normal")["p"] < 0.05))
    assert terms(made)["tests"][1]["term"] == "soil"
    for way in WAYS:
        out += holds(made, truth_of(model), way, i, fewer)
    return out


def one_design(model: str, balanced: bool, count: int, fewer: int) -> list[str]:
    found = over_sets(lambda i: one_set(model, balanced, i, fewer), count)
    failed, edge = found[:, :2].sum(axis=0).astype(int)
    lines = [f"## {model}, {'balanced' if balanced else 'unbalanced'}: `{MODELS[model][0]}`", "",
             f"{count} data sets; {failed} fits did not converge, {edge} ended on a boundary.", "",
             f"| df method | {' | '.join(TRUTH)} | size of the test of soil |", "|---|" + "---|" * (len(TRUTH) + 1)]  # fmt: skip
    at, width = 2, len(TRUTH) + 1
    for method in METHODS:
        lines.append(f"| {method} | {shares(found[:, at : at + width])} |")
        at += width
    truth = truth_of(model)
    lines += ["", f"| interval | {' | '.join(truth)} |", "|---|" + "---|" * len(truth)]
    for way in WAYS:
        lines.append(f"| {way} | {shares(found[:, at : at + len(truth)])} |")
        at += len(truth)
    return [*lines, ""]


def _error(sets: int) -> str:
    """Of a share of 95%."""
    return f"{100 * (0.0475 / sets) ** 0.5:.1f}%"


if __name__ == "__main__":
    wanted, fewer = asked(500)
    print("# Coverage of 95% intervals, size of 5% tests\n")
    print(
        "Made by `python benchmarks/coverage.py`: ten orchards of 2 to 9 rows (unbalanced) or of 6 (balanced). Of",
        wanted,
    )
    print(
        f"data sets the standard error of a share is about {_error(wanted)}; bootstrap ({RESAMPLES} resamples) and posterior (2 chains of"
    )
    print(f"{WARMUP} + {DRAWS}, default priors) are of the first {fewer} sets, {_error(fewer)}.\n")
    for model in MODELS:
        for balanced in (False, True):
            print("\n".join(one_design(model, balanced, wanted, fewer)), flush=True)
