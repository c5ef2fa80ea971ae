"""Recovery and calibration where parts have predictors of their own, and how long such a fit takes beside a plain one.

    python benchmarks/parts.py [sets]

Sets are drawn from a zero-inflated Poisson model with ``zeros = rain; each orchard: intercept + zeros`` and from a
nominal one of three levels, 40
orchards of 25 rows: mean estimate less truth with its Monte-Carlo error, and the share of 95% Wald intervals that hold.
Then 50,000 rows of 500
orchards, whole fits in this process, as ratios to a Poisson fit of the same rows.
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pandas as pd

import bold_orchard as bo
from bold_orchard.workers import run

ZEROS = "moths = rain; zeros = rain; each orchard: intercept + zeros"
LEVELS = "taste = rain; each orchard: intercept"
TRUTH = {
    "zeros": {"intercept": 0.8, "rain": 0.3, "zeros: intercept": -0.7, "zeros: rain": 0.5},
    "levels": {"sweet: intercept": 0.2, "sweet: rain": 0.6, "tart: intercept": -0.3, "tart: rain": -0.4},
}
COVARIANCE = np.array([[0.3, 0.15], [0.15, 0.5]])


def made(seed: int, orchards: int = 40, rows: int = 25) -> pd.DataFrame:
    r = np.random.default_rng([seed, 3])
    at = np.repeat(np.arange(orchards), rows)
    n, rain = len(at), r.normal(size=len(at))
    u = r.multivariate_normal([0, 0], COVARIANCE, orchards)[at]
    counts = r.poisson(np.exp(0.8 + 0.3 * rain + u[:, 0]))
    moths = np.where(r.random(n) < 1 / (1 + np.exp(0.7 - 0.5 * rain - u[:, 1])), 0, counts)
    odds = np.exp(np.stack([np.zeros(n), 0.2 + 0.6 * rain + u[:, 0], -0.3 - 0.4 * rain + u[:, 1]], axis=1))
    place = (r.random(n)[:, None] > (odds / odds.sum(axis=1, keepdims=True)).cumsum(axis=1)).sum(axis=1)
    names = np.array(["bland", "sweet", "tart"])
    return pd.DataFrame({"orchard": [f"o{k}" for k in at], "rain": rain, "moths": moths, "taste": names[place]})


def one_set(seed: int, kind: str) -> np.ndarray:
    """Estimate, low and high of every coefficient, (coefficients, 3); NaN where a fit fails."""
    frame, out = made(seed), np.full((len(TRUTH[kind]), 3), np.nan)
    one = (
        bo.fit(ZEROS, frame, family="zero-inflated-poisson")
        if kind == "zeros"
        else bo.fit(LEVELS, frame, family="nominal")
    )
    if one.converged:
        rows = {r.term: r for r in one.core.result.coefficients}
        out[:] = [[rows[t].estimate, *rows[t].ci] for t in TRUTH[kind]]
    return out


def calibration(kind: str, sets: int) -> None:
    drawn = run(lambda k: one_set(k, kind), sets, lambda done, total: None)
    good = drawn[np.isfinite(drawn).all(axis=(1, 2))]
    print(f"{kind}: {len(good)} of {sets} sets converged")
    for k, (term, truth) in enumerate(TRUTH[kind].items()):
        error = good[:, k, 0] - truth
        held = (good[:, k, 1] <= truth) & (truth <= good[:, k, 2])
        print(
            f"  {term:18} bias {error.mean():+.4f} (error {error.std() / np.sqrt(len(good)):.4f})  95% held {held.mean():.3f}"
        )


def timing() -> None:
    frame = made(1, 500, 100)
    asked = {
        "poisson": ("moths = rain; each orchard: intercept", "poisson"),
        "zero-inflated, one chance": ("moths = rain; each orchard: intercept", "zero-inflated-poisson"),
        "zeros = rain": ("moths = rain; zeros = rain; each orchard: intercept", "zero-inflated-poisson"),
        "zeros = rain, each orchard its own": (ZEROS, "zero-inflated-poisson"),
    }
    base = None
    for name, (sentence, family) in asked.items():
        seen = []
        for _ in range(3):
            start = time.perf_counter()
            bo.fit(sentence, frame, family=family)
            seen.append(time.perf_counter() - start)
        base = base or min(seen)
        print(f"{name:36} {min(seen):6.2f} s, {min(seen) / base:5.1f} times poisson")


if __name__ == "__main__":
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    for kind in TRUTH:
        calibration(kind, wanted)
    timing()
