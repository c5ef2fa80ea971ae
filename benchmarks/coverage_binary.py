"""Bias and coverage of Laplace and of 15 quadrature points in small binary data.

    python benchmarks/coverage_binary.py [data sets [of bootstrap and posterior]]      prints the tables that stand in docs/coverage-binary.md

Fifty trees of six 0/1 rows each, or of 2 to 10: a covariate that varies by row, a treatment constant in its tree, a random intercept.
"""

from __future__ import annotations

import numpy as np
import pandas as pd
from covering import DRAWS, RESAMPLES, WARMUP, WAYS, asked, holds, over_sets, shares

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit

TRUTH = {"intercept": -0.5, "rain": 0.8, "spray[yes]": 0.7, "sd(tree: intercept)": 1.2}
SENTENCE = "scab = rain + spray; each tree: intercept"


def trees(r: np.random.Generator, balanced: bool) -> Table:
    code = np.repeat(np.arange(50), np.full(50, 6) if balanced else r.integers(2, 11, 50))
    n = len(code)
    rain, spray = r.normal(size=n), np.where(np.arange(50) % 2, "yes", "no")[code]
    eta = TRUTH["intercept"] + TRUTH["rain"] * rain + TRUTH["spray[yes]"] * (spray == "yes")
    eta += TRUTH["sd(tree: intercept)"] * r.normal(size=50)[code]
    y = (r.random(n) < 1 / (1 + np.exp(-eta))) * 1
    return Table(pd.DataFrame({"tree": code, "rain": rain, "spray": spray, "scab": y}), "simulated", n)


def one_set(points: int, balanced: bool, i: int, fewer: int) -> list[float]:
    """Whether it failed; the errors of the estimates; hits of every way."""
    table = trees(np.random.default_rng([7, i]), balanced)
    made = fit(SENTENCE, table, Settings(options=Options(family="binomial"), points=points))
    estimates = [*(r["estimate"] for r in made.result["fixed"]), made.result["random"][0]["sd"][0]]
    out = [float(not made.converged), *(e - v for e, v in zip(estimates, TRUTH.values()))]
    for way in WAYS:
        wanted = points == 1 or way != "posterior"  # which is no approximation: it is the same for both
        out += holds(made, TRUTH, way, i, fewer) if wanted else [np.nan] * len(TRUTH)
    return out


def one_method(points: int, balanced: bool, count: int, fewer: int) -> list[str]:
    found, m = over_sets(lambda i: one_set(points, balanced, i, fewer), count), len(TRUTH)
    what, away = "Laplace" if points == 1 else f"{points} points", found[:, 1 : 1 + m]
    errors = " | ".join(
        f"{a:+.3f} ({e:.3f})" for a, e in zip(away.mean(axis=0), away.std(axis=0, ddof=1) / np.sqrt(count))
    )
    lines = [f"| {what}: mean error (its SE) | {errors} |"]
    for k, way in enumerate(WAYS):
        hits = found[:, 1 + m * (k + 1) : 1 + m * (k + 2)]
        if not np.isnan(hits).all():
            lines.append(
                f"| {'' if way == 'posterior' else what + ': '}coverage of 95% {way} intervals | {shares(hits)} |"
            )
    return [*lines, f"| {what}: fits that did not converge | {int(found[:, 0].sum())} | | | |"]


if __name__ == "__main__":
    wanted, fewer = asked(200)
    print("# Binary outcomes: bias and coverage\n")
    print(f"Made by `python benchmarks/coverage_binary.py`: {wanted} data sets of 50 trees, `{SENTENCE}`;")
    print(f"truth {', '.join(f'{k} {v:g}' for k, v in TRUTH.items())}. Bootstrap ({RESAMPLES} resamples)")
    print(f"and posterior (2 chains of {WARMUP} + {DRAWS}, default priors) are of the first {fewer} sets.\n")
    for balanced in (True, False):
        print(f"## {'Six rows a tree' if balanced else 'Two to ten rows a tree'}\n")
        print(f"| | {' | '.join(TRUTH)} |\n|---|" + "---|" * len(TRUTH))
        for points in (1, 15):
            print("\n".join(one_method(points, balanced, wanted, fewer)), flush=True)
        print()
