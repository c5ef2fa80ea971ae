"""Units with a scatter of their own: coverage in simulated sets, time as a ratio to the plain fit of the same rows, memory.

python benchmarks/spreading.py coverage [SETS]      # 60 units of 20 rows
python benchmarks/spreading.py time [ROWS UNITS]    # default 100,000 rows of 2,000 units, two predictors in the spread
Either with `below` first: units in orchards of five that have levels of their own.
"""

from __future__ import annotations

import resource
import sys
import time

import numpy as np
import pandas as pd

import bold_orchard as bo
from bold_orchard.workers import run

UNITS, ROWS = 60, 20
TRUE = {"intercept": 2.0, "rain": 0.5, "sd(tree: intercept)": 1.0, "sd(tree: spread)": 0.4,
        "correlation(tree: intercept, spread)": -0.3, "sd(residual)": 1.0, "spread rain": 0.2}  # fmt: skip


BELOW = {"sd(orchard: intercept)": 0.7}
PER_ORCHARD = 5
below = False


def sentence(spread: str) -> str:
    return (
        f"yield = rain; {'each orchard: intercept; ' if below else ''}each tree: intercept + spread; spread = {spread}"
    )


def made(seed: int, units: int, rows: int) -> pd.DataFrame:
    """Outcomes of units whose level and log SD are correlated -0.3; the log SD follows ``rain`` by 0.2."""
    r = np.random.default_rng([seed, 16])
    tree = np.repeat(np.arange(units), rows)
    level, scatter = r.multivariate_normal([0.0, 0.0], [[1.0, -0.12], [-0.12, 0.16]], units).T
    rain, sun = r.normal(size=(2, len(tree)))
    sd = np.exp(0.2 * rain + scatter[tree])
    y = 2 + 0.5 * rain + level[tree] + sd * r.normal(size=len(tree))
    orchard = tree // PER_ORCHARD
    if below:
        y = y + BELOW["sd(orchard: intercept)"] * r.normal(size=orchard.max() + 1)[orchard]
    labels = {"tree": [f"t{i}" for i in tree], "orchard": [f"o{i}" for i in orchard]}
    return pd.DataFrame(labels | {"rain": rain, "sun": sun, "yield": y})


def one_set(seed: int) -> np.ndarray:
    """Per parameter of ``TRUE`` the estimate, low and high (Wald); NaN where the fit or an end is missing."""
    asked = TRUE | (BELOW if below else {})
    out = np.full((len(asked), 3), np.nan)
    try:
        fit = bo.fit(sentence("rain"), made(seed, UNITS, ROWS))
        found = {p["parameter"]: p for p in fit.intervals("wald").to_dict()["parameters"]}
    except bo.OrchardError as e:
        print(seed, e, file=sys.stderr)
        return out
    for k, name in enumerate(asked):
        p = found[name]
        out[k] = [np.nan if v is None else v for v in (p["estimate"], p["low"], p["high"])]
    return out


def coverage(sets: int) -> None:
    print(f"{UNITS} units of {ROWS} rows, {sets} sets, 95% Wald intervals")
    found = run(one_set, sets, lambda done, of: None)
    for k, (name, truth) in enumerate((TRUE | (BELOW if below else {})).items()):
        e, low, high = found[:, k].T
        kept = np.isfinite(low) & np.isfinite(high)
        covered = np.mean((low[kept] <= truth) & (truth <= high[kept]))
        error = np.nanstd(e) / np.sqrt(np.isfinite(e).sum())
        print(
            f"{name:40s} bias {np.nanmean(e) - truth:+.4f} ({error:.4f})   coverage {covered:.3f} of {kept.sum()}",
            flush=True,
        )


def timed(rows: int, units: int) -> None:
    data = made(1, units, rows // units)
    plain = "yield = rain + sun; each tree: intercept" + ("; each orchard: intercept" if below else "")
    bo.fit(plain, data.head(2000))
    start = time.perf_counter()
    bo.fit(plain, data)
    one = time.perf_counter() - start
    start = time.perf_counter()
    bo.fit(sentence("rain + sun").replace("= rain;", "= rain + sun;", 1), data)
    two = time.perf_counter() - start
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{len(data):,} rows of {units:,} units: plain {one:.2f} s, with spread {two:.2f} s, {two / one:.1f} times; peak {peak:.0f} MB"
    )


if __name__ == "__main__":
    words = sys.argv[1:]
    below = words[:1] == ["below"]
    words = words[1:] if below else words
    numbers = [int(a) for a in words[1:]]
    if words[:1] == ["time"]:
        timed(*(numbers or [100_000, 2_000]))
    else:
        coverage(*(numbers or [200]))
