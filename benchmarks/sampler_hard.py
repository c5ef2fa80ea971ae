"""Posteriors that are hard to sample: `python benchmarks/sampler_hard.py [NAME ...]`.

Few units, variances at zero, correlations at the edge, two rows a unit, an empty grade, no ones at all. Each line has the largest R-hat,
divergent draws, the smallest effective size and the seconds of the default 4 x (1,000 + 1,000) draws.
"""

from __future__ import annotations

import sys
import time
from typing import Any

import numpy as np
import pandas as pd

import bold_orchard as bo


def rows(units: int, each: int, seed: int, sd: float = 1.0, slope: float = 0.0) -> pd.DataFrame:
    r = np.random.default_rng(seed)
    code = np.repeat(np.arange(units), each)
    rain = r.normal(size=len(code))
    u = sd * r.normal(size=units)
    made = pd.DataFrame({"tree": [f"t{c}" for c in code], "season": np.tile(np.arange(each), units), "rain": rain})
    made["yield"] = 3.0 + 0.5 * rain + u[code] * (1.0 + slope * rain) + r.normal(size=len(code))
    p = 1.0 / (1.0 + np.exp(-made["yield"] + 3.0))
    made["ripe"], made["never"] = (r.random(len(code)) < p).astype(int), 0
    made.loc[0, "never"] = 1
    made["fruit"] = r.poisson(np.exp(0.5 * made["yield"] - 1.0))
    grade = np.clip(np.round(made["yield"]), 1, 4).astype(int)
    made["grade"] = np.where(grade == 2, 3, grade)
    return made


CASES: dict[str, tuple[str, pd.DataFrame, dict[str, Any]]] = {
    "three units": ("yield = rain; each tree: intercept", rows(3, 10, 1), {}),
    "variance at zero": ("yield = rain; each tree: intercept", rows(12, 6, 2, sd=0.0), {}),
    "slopes, correlation one": ("yield = rain; each tree: intercept + rain", rows(12, 6, 3, slope=1.0), {}),
    "two rows a unit": ("yield = rain; each tree: intercept + rain", rows(20, 2, 4), {"force": True}),
    "binary, two rows a unit": ("ripe = rain; each tree: intercept", rows(30, 2, 5), {"family": "binomial"}),
    "binary, variance at zero": ("ripe = rain; each tree: intercept", rows(12, 6, 6, sd=0.0), {"family": "binomial"}),
    "binary, a single one": ("never = rain; each tree: intercept", rows(10, 5, 7), {"family": "binomial", "force": True}),
    "counts, slopes, four units": ("fruit = rain; each tree: intercept + rain", rows(4, 10, 8), {"family": "poisson"}),
    "grades, few rows": ("grade = rain; each tree: intercept", rows(10, 4, 9), {"family": "ordinal"}),
    "scatter at the edge": ("yield = rain; each tree: intercept + spread", rows(12, 5, 10), {}),
    "ar1 without correlation": ("yield = rain; each tree: intercept; within tree: ar1(season)", rows(10, 6, 11), {}),
}  # fmt: skip


def main() -> None:
    for name in sys.argv[1:] or CASES:
        sentence, frame, options = CASES[name]
        try:
            fit = bo.fit(sentence, frame, name="hard", **options)
            start = time.perf_counter()
            made = fit.sample(seed=1)
        except bo.api.UsageError as e:
            print(f"{name:28s} {e}", flush=True)
            continue
        d = made.to_dict()
        worst = max(p["r_hat"] for p in d["parameters"])
        least = min(min(p["effective_bulk"], p["effective_tail"]) for p in d["parameters"])

        print(f"{name:28s} R-hat {worst:.3f}  diverged {d['divergent']:3d}  least {least:6.0f}  {time.perf_counter() - start:5.0f} s", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
