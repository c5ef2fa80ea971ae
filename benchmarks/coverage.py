"""Coverage of 95% intervals and size of 5% tests in small unbalanced data, for each way to degrees of freedom.

    python benchmarks/coverage.py [data sets per design]      prints the table that stands in docs/coverage.md

Each design is simulated anew from a known truth: ten orchards of 2 to 9 rows, a covariate that varies by row, a category
that is constant in its orchard. Failed fits are counted, never replaced.
"""

from __future__ import annotations

import sys

import numpy as np
import pandas as pd

from bold_orchard.data.table import Table
from bold_orchard.inference.coefficients.methods import METHODS
from bold_orchard.inference.coefficients.terms import joint_test, terms
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.intervals.intervals import intervals

TRUTH = {"intercept": 2.0, "rain": 0.5, "soil[loam]": 0.0, "soil[sand]": 0.0}
SDS = {"sd(orchard: intercept)": 0.8, "sd(orchard: rain)": 0.5, "sd(residual)": 1.0}
DESIGNS = {
    "random intercept": ("yield = rain + soil; each orchard: intercept", 0.0),
    "random intercept and slope": ("yield = rain + soil; each orchard: intercept + rain", SDS["sd(orchard: rain)"]),
}


def orchards(r: np.random.Generator, slope_sd: float) -> Table:
    """Ten orchards of 2 to 9 rows; soil belongs to the orchard and has no effect."""
    sizes = r.integers(2, 10, 10)
    code = np.repeat(np.arange(10), sizes)
    soil = np.array(["clay", "loam", "sand", "clay", "loam", "sand", "clay", "loam", "sand", "clay"])[code]
    rain = r.normal(size=len(code)) + r.normal(size=10)[code]
    y = TRUTH["intercept"] + TRUTH["rain"] * rain + SDS["sd(orchard: intercept)"] * r.normal(size=10)[code]
    y += slope_sd * r.normal(size=10)[code] * rain + SDS["sd(residual)"] * r.normal(size=len(code))
    return Table(pd.DataFrame({"orchard": code, "soil": soil, "rain": rain, "yield": y}), "simulated", len(code))


def one_design(name: str, count: int) -> list[str]:
    sentence, slope_sd = DESIGNS[name]
    inside = {m: dict.fromkeys(TRUTH, 0) for m in METHODS}
    rejected = dict.fromkeys(METHODS, 0)
    sds = {k: v for k, v in SDS.items() if slope_sd or "rain" not in k}
    covered = {how: dict.fromkeys(sds, 0) for how in ("wald", "profile")}
    failed = edge = lost = 0
    for i in range(count):
        table = orchards(np.random.default_rng([2026, i]), slope_sd)
        made = fit(sentence, table, Settings())
        failed += not made.converged
        edge += made.result["convergence"]["boundary"]
        for method in METHODS:
            known = made.precision(method)
            rows = np.eye(len(TRUTH))
            for row, term, b in zip(rows, TRUTH, made.evaluation.b):
                width = quantile_t(0.95, known.df(row[None, :])) * known.se(row)
                inside[method][term] += abs(b - TRUTH[term]) <= width
            soil = joint_test(known, rows[2:], method == "normal")
            rejected[method] += soil["p"] < 0.05
        for how, hits in covered.items():
            for p in intervals(made, how)["parameters"]:
                if p["parameter"] in sds:
                    lost += how == "profile" and None in (p["low"], p["high"])
                    low, high = p["low"] or 0.0, np.inf if p["high"] is None else p["high"]
                    hits[p["parameter"]] += low <= sds[p["parameter"]] <= high
    assert terms(made)["tests"][1]["term"] == "soil"
    lines = [
        f"## {name}: `{sentence}`",
        "",
        f"{count} data sets; {failed} fits did not converge, {edge} ended on a boundary; {lost} profile ends of SDs were lost.",
        "",
    ]
    lines += [
        "| df method | intercept | rain | soil[loam] | soil[sand] | size of the test of soil |",
        "|---|---|---|---|---|---|",
    ]
    for m in METHODS:
        shares = " | ".join(f"{100 * inside[m][t] / count:.1f}%" for t in TRUTH)
        lines.append(f"| {m} | {shares} | {100 * rejected[m] / count:.1f}% |")
    lines += ["", f"| interval | {' | '.join(sds)} |", "|---|" + "---|" * len(sds)]
    lines += [
        f"| {how} | {' | '.join(f'{100 * n / count:.1f}%' for n in hits.values())} |" for how, hits in covered.items()
    ]
    return [*lines, ""]


if __name__ == "__main__":
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    out = ["# Coverage of 95% intervals, size of 5% tests", "",
           "Made by `python benchmarks/coverage.py`. With 500 data sets the standard error of a share is about 1%.", ""]  # fmt: skip
    for design in DESIGNS:
        out += one_design(design, wanted)
    print("\n".join(out))
