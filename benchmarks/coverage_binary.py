"""Bias and coverage of Laplace and of 15 quadrature points in small binary data.

    python benchmarks/coverage_binary.py [data sets]      prints the table that stands in docs/coverage-binary.md

Fifty trees of six 0/1 rows each: a covariate that varies by row, a treatment constant in its tree, a random intercept.
"""

from __future__ import annotations

import sys

import numpy as np
import pandas as pd

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.intervals.intervals import intervals

TRUTH = {"intercept": -0.5, "rain": 0.8, "spray[yes]": 0.7}
SD = 1.2
SENTENCE = "scab = rain + spray; each tree: intercept"


def trees(r: np.random.Generator) -> Table:
    code = np.repeat(np.arange(50), 6)
    rain, spray = r.normal(size=300), np.where(np.arange(50) % 2, "yes", "no")[code]
    eta = (
        TRUTH["intercept"]
        + TRUTH["rain"] * rain
        + TRUTH["spray[yes]"] * (spray == "yes")
        + SD * r.normal(size=50)[code]
    )
    y = (r.random(300) < 1 / (1 + np.exp(-eta))) * 1
    return Table(pd.DataFrame({"tree": code, "rain": rain, "spray": spray, "scab": y}), "simulated", 300)


def one_method(points: int, count: int) -> list[str]:
    names = [*TRUTH, "sd(tree: intercept)"]
    truth = np.array([*TRUTH.values(), SD])
    estimates, inside = [], {"Wald": np.zeros(4), "profile": np.zeros(4)}
    failed = 0
    for i in range(count):
        table = trees(np.random.default_rng([7, i]))
        made = fit(SENTENCE, table, Settings(options=Options(family="binomial"), points=points))
        failed += not made.converged
        for how, hits in inside.items():
            rows = {p["parameter"]: p for p in intervals(made, how.lower())["parameters"]}
            for k, name in enumerate(names):
                low, high = rows[name]["low"], rows[name]["high"]
                hits[k] += (low is None or low <= truth[k]) and (high is None or truth[k] <= high)
        estimates.append([rows[name]["estimate"] for name in names])
    what = "Laplace" if points == 1 else f"{points} points"
    away = np.array(estimates) - truth
    error = away.std(axis=0, ddof=1) / np.sqrt(count)
    lines = [
        f"| {what}: mean error (its SE) | "
        + " | ".join(f"{m:+.3f} ({e:.3f})" for m, e in zip(away.mean(axis=0), error))
        + " |"
    ]
    for how, hits in inside.items():
        lines.append(
            f"| {what}: coverage of 95% {how} intervals | " + " | ".join(f"{100 * h / count:.1f}%" for h in hits) + " |"
        )
    return [*lines, f"| {what}: fits that did not converge | {failed} | | | |"]


if __name__ == "__main__":
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    out = ["# Binary outcomes: bias and coverage", "",
           f"Made by `python benchmarks/coverage_binary.py`: {wanted} data sets of 50 trees with 6 rows each, `{SENTENCE}`;",
           f"truth {', '.join(f'{k} {v:g}' for k, v in TRUTH.items())}, SD between trees {SD:g}.", "",
           "| | intercept | rain | spray[yes] | SD between trees |", "|---|---|---|---|---|"]  # fmt: skip
    for points in (1, 15):
        out += one_method(points, wanted)
    print("\n".join(out))
