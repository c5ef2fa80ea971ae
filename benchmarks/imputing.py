"""Calibration of fits with missing covariates: simulated sets whose gaps depend on the outcome, 95% intervals of every slope.

    python benchmarks/imputing.py [sets] [gaussian|binomial ...]

Thirty orchards of ten rows; a covariate with a slope that varies between orchards and a product with another, both with gaps in a quarter of
the rows, one of the orchards themselves with gaps in a fifth, and a category with gaps in a tenth. Bias with its Monte-Carlo error and coverage,
beside those of the complete rows and of gaps filled with means.
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pandas as pd

import bold_orchard as bo
from bold_orchard.workers import run

ORCHARDS, ROWS, DRAWS = 30, 10, 20
SENTENCE = "yield = rain * bees + rain + bees + height + soil; each orchard: intercept + rain"
TRUTH = {"rain": 0.5, "bees": 0.3, "rain*bees": 0.25, "height": 0.4, "soil[sand]": -0.5}
WAYS = ("imputed", "complete rows", "means filled in")


def made(seed: int, kind: str) -> pd.DataFrame:
    r = np.random.default_rng([seed, 11])
    rows = ROWS * (3 if kind == "binomial" else 1)
    at = np.repeat(np.arange(ORCHARDS), rows)
    n = len(at)
    height = r.normal(size=ORCHARDS)[at]
    rain = 0.6 * r.normal(size=ORCHARDS)[at] + 0.3 * height + r.normal(size=n)
    bees = 0.5 * rain + r.normal(size=n)
    sand = (0.4 * rain + r.normal(size=n) > 0).astype(float)
    u = r.normal(size=(ORCHARDS, 2)) * [0.8, 0.3]
    eta = 0.5 * rain + 0.3 * bees + 0.25 * rain * bees + 0.4 * height - 0.5 * sand + u[at, 0] + u[at, 1] * rain
    y = eta + r.normal(size=n) if kind == "gaussian" else (r.random(n) < 1 / (1 + np.exp(-eta))).astype(float)
    frame = pd.DataFrame({"orchard": [f"o{k}" for k in at], "rain": rain, "bees": bees, "height": height, "yield": y})
    frame["soil"] = np.where(sand > 0, "sand", "clay")
    push = 1 / (1 + np.exp(-(y - y.mean()) / y.std()))
    frame.loc[r.random(n) < 0.5 * push, "rain"] = np.nan
    frame.loc[r.random(n) < 0.5 * (1 - push), "bees"] = np.nan
    frame.loc[r.random(n) < 0.2 * push, "soil"] = None
    mean = frame.groupby("orchard", sort=False)["yield"].mean().to_numpy()
    lost = r.random(ORCHARDS) < 0.4 / (1 + np.exp(-(mean - mean.mean()) / mean.std()))
    frame.loc[lost[at], "height"] = np.nan
    return frame


def one_set(seed: int, kind: str) -> np.ndarray:
    """Estimate, low and high of every slope by every way, (ways, slopes, 3); NaN where a fit fails."""
    frame, out = made(seed, kind), np.full((len(WAYS), len(TRUTH), 3), np.nan)
    family = {"family": kind} if kind == "binomial" else {}
    filled = frame.assign(soil=frame.soil.fillna(frame.soil.mode()[0]))
    ways = (
        lambda: bo.fit(SENTENCE, frame, impute=DRAWS, seed=seed, **family),
        lambda: bo.fit(SENTENCE, frame, **family),
        lambda: bo.fit(SENTENCE, filled, fill_mean=["rain", "bees", "height"], **family),
    )
    for w, way in enumerate(ways):
        try:
            rows = {r.term: r for r in way().result.fixed}
            out[w] = [[rows[t].estimate, *rows[t].ci] for t in TRUTH]
        except bo.OrchardError:
            continue
    return out


def main() -> None:
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    for kind in sys.argv[2:] or ["gaussian", "binomial"]:
        began = time.time()
        found = run(lambda i, kind=kind: one_set(i, kind), sets, lambda done, total: None)
        print(f"{kind}: {sets} sets, {time.time() - began:.0f} s")
        for w, way in enumerate(WAYS):
            print(f"  {way}: {int(np.isnan(found[:, w, 0, 0]).sum())} failed")
            for k, (term, truth) in enumerate(TRUTH.items()):
                one = found[:, w, k][~np.isnan(found[:, w, k, 0])]
                bias, error = one[:, 0].mean() - truth, one[:, 0].std() / np.sqrt(len(one))
                held = np.mean((one[:, 1] <= truth) & (truth <= one[:, 2]))
                print(
                    f"    {term:12s} bias {bias:+.3f} (Monte-Carlo error {error:.3f})  held {held:.3f}  width {np.mean(one[:, 2] - one[:, 1]):.2f}"
                )


if __name__ == "__main__":
    main()
