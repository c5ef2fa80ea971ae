"""Calibration of effects carried on: 200 simulated sets, the first model's effects known with a reliability of one half.

    python benchmarks/carrying.py [sets] [gaussian|binomial|poisson|spread ...]

Bias of the slope with its Monte-Carlo error, and coverage of the 95% interval, beside those of the fit that takes predictions as known and of
the fit to each unit's plain mean. ``spread`` carries each unit's log residual SD instead of its level (plain: the log of its SD), five rows a unit.
"""

from __future__ import annotations

import sys

import numpy as np
import pandas as pd

import bold_orchard as bo
from bold_orchard.workers import run

UNITS, ROWS, SLOPE, RELIABILITY = 100, 3, 1.0, 0.5
ROWS_SPREAD, SD_SPREAD = 5, 0.4  # a log SD of five rows has the variance trigamma(2) / 4 = 0.161


def made(seed: int, kind: str) -> tuple[pd.DataFrame, pd.DataFrame]:
    r = np.random.default_rng([seed, 5])
    u = r.normal(size=UNITS)
    tree = np.repeat(np.arange(UNITS), ROWS_SPREAD if kind == "spread" else ROWS)
    names = np.array([f"t{i}" for i in range(UNITS)])
    if kind == "spread":
        level = 0.5 * u + np.sqrt(0.75) * r.normal(size=UNITS)
        girth = 10 + level[tree] + np.exp(SD_SPREAD * u[tree]) * r.normal(size=len(tree))
    else:
        spread = np.sqrt((1 - RELIABILITY) / RELIABILITY * ROWS)
        girth = 10 + u[tree] + r.normal(0, spread, len(tree))
    one = pd.DataFrame({"tree": names[tree], "girth": girth})
    x = r.normal(size=UNITS)
    eta = SLOPE * u + 0.5 * x
    if kind in ("gaussian", "spread"):
        y = 3 + eta + r.normal(size=UNITS)
    elif kind == "binomial":
        y = (r.random(UNITS) < 1 / (1 + np.exp(-eta))).astype(int)
    else:
        y = r.poisson(np.exp(0.5 + eta))
    return one, pd.DataFrame({"tree": names, "x": x, "price": y})


def one_set(seed: int, kind: str) -> np.ndarray:
    """Estimate, low, high of the slope: carried, predictions as known, plain means."""
    one, two = made(seed, kind)
    term, unit = ("spread", SD_SPREAD) if kind == "spread" else ("intercept", 1.0)
    terms = "intercept + spread" if kind == "spread" else "intercept"
    family = {"family": kind} if kind in ("binomial", "poisson") else {}
    out = np.full(9, np.nan)
    try:
        first = bo.fit(f"girth = intercept; each tree: {terms}", one, name="first")
        rows = first.carry(two, f"price = effect(tree: {term}) + x", imputations=60, seed=seed, **family).fixed
        known = {r["level"]: r["effects"][term] for r in first.groups().to_dict()["groups"][0]["rows"]}
        plain = one.groupby("tree").girth.mean() if term == "intercept" else np.log(one.groupby("tree").girth.std())
        for k, column in enumerate((None, two.tree.map(known), two.tree.map(plain))):
            if column is not None:
                rows = bo.fit("price = effect + x", two.assign(effect=column), **family).result.document["fixed"]
            out[3 * k : 3 * k + 3] = unit * np.array([rows[1]["estimate"], *rows[1]["ci"]])
    except bo.OrchardError as e:
        print(seed, e, file=sys.stderr)
    return out


def main(sets: int, kinds: list[str]) -> None:
    print(f"{UNITS} units of {ROWS} rows, reliability {RELIABILITY}, slope {SLOPE}; {sets} sets")
    for kind in kinds:
        found = run(lambda i, kind=kind: one_set(i, kind), sets, lambda done, of: None)
        for k, name in enumerate(("carried", "predictions as known", "plain means")):
            estimate, low, high = found[:, 3 * k : 3 * k + 3].T
            good = np.isfinite(estimate)
            bias, error = estimate[good].mean() - SLOPE, estimate[good].std() / np.sqrt(good.sum())
            covered = ((low <= SLOPE) & (high >= SLOPE))[good].mean()
            print(
                f"{kind:<9} {name:<21} bias {bias:+.3f} (+-{error:.3f})  coverage {covered:.3f}  sets {good.sum()}",
                flush=True,
            )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 200, sys.argv[2:] or ["gaussian", "binomial", "poisson", "spread"])
