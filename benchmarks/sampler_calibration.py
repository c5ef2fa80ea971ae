"""Simulation-based calibration of the sampler: `python benchmarks/sampler_calibration.py [SETS] [LAYOUT ...]`.

Parameters are drawn from the prior, an outcome from them, the posterior sampled, and the rank of each true parameter among its draws
noted (Talts, Betancourt, Simpson, Vehtari & Gelman 2018). Where the sampler draws from the posterior and nothing else the ranks are
uniform: each line gives the p-value of that (chi-squared over 10 bins) and the mean rank, which is 0.5.
"""

from __future__ import annotations

import sys
import warnings

import numpy as np
import pandas as pd
from scipy import stats
from threadpoolctl import threadpool_limits

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.sampling import nuts, prior_only
from bold_orchard.sampling.laws import read_priors
from bold_orchard.sampling.posterior import target_of
from bold_orchard.sampling.priors import priors_of
from bold_orchard.sampling.rows import replicated
from bold_orchard.workers import run

WARMUP, DRAWS, THIN, BINS = 300, 495, 5, 10
COMMON = ["intercept = normal(0, 1)", "rain = normal(0, 1)"]
GAUSS = [*COMMON, "sd(residual) = half-normal(1)"]
LAYOUTS: dict[str, tuple[str, list[str], str]] = {
    "slopes": ("y = rain; each tree: intercept + rain", [*GAUSS, "sd(tree: intercept) = half-normal(1)", "sd(tree: rain) = half-normal(0.5)"], "gaussian"),
    "crossed": ("y = rain; each tree: intercept; each season: intercept", [*GAUSS, "sd(tree: intercept) = half-normal(1)", "sd(season: intercept) = half-normal(1)"], "gaussian"),
    "binomial": ("y = rain; each tree: intercept", [*COMMON, "sd(tree: intercept) = half-normal(1)"], "binomial"),
    "poisson": ("y = rain; each tree: intercept", ["intercept = normal(0, 0.7)", "rain = normal(0, 0.5)", "sd(tree: intercept) = half-normal(0.7)"], "poisson"),
    "ar1": ("y = rain; each tree: intercept; within tree: ar1(season)", [*GAUSS, "sd(tree: intercept) = half-normal(1)"], "gaussian"),
    "spread": ("y = rain; each tree: intercept + spread", [*GAUSS, "sd(tree: intercept) = half-normal(1)", "sd(tree: spread) = half-normal(0.5)"], "gaussian"),
}  # fmt: skip


def frame(seed: int, units: int = 15, rows: int = 8) -> pd.DataFrame:
    r = np.random.default_rng(seed)
    n = units * rows
    return pd.DataFrame({"tree": [f"t{i}" for i in np.repeat(np.arange(units), rows)], "season": np.tile(np.arange(rows), units),
                         "rain": r.normal(size=n), "y": r.normal(size=n)})  # fmt: skip


def ranks(layout: str, seed: int) -> np.ndarray:
    """The share of draws below each true parameter; NaN where the set could not be fitted."""
    sentence, texts, family = LAYOUTS[layout]
    rng = np.random.default_rng([seed, 77])
    data = frame(seed)
    data["y"] = rng.integers(0, 2, len(data)) if family in ("binomial", "poisson") else data["y"]
    settings = Settings(options=Options(family=family, force=True))
    first = fit(sentence, Table(data, "t", len(data)), settings)
    shape = target_of(first, priors_of(first, read_priors(texts)))
    b, z = prior_only._position(first, shape, rng)
    true = np.concatenate([b, shape.values(z)])
    y = replicated(shape, z, b, prior_only._effects(shape, z, rng), rng)
    if not np.isfinite(y).all() or np.ptp(y) == 0 or y.max() > 1e6:
        return np.full(len(true), np.nan)
    data["y"] = y
    try:
        made = fit(sentence, Table(data, "t", len(data)), settings)
        target = target_of(made, priors_of(made, read_priors(texts)))
        start = target.start()
        chain = nuts.sample(target, start, target.metric(start), target.dense, WARMUP, DRAWS, rng, lambda i, bad: None)
    except (OrchardError, np.linalg.LinAlgError):
        return np.full(len(true), np.nan)
    drawn = []
    for position in chain.positions[::THIN]:
        coefficients, _ = target.complete(position, rng)
        drawn.append(np.concatenate([coefficients, target.values(position)]))
    return np.asarray((np.array(drawn) < true).mean(axis=0))


def main() -> None:
    warnings.simplefilter("ignore")
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    print(f"{sets} sets each, {WARMUP} of warm-up, {DRAWS} draws of which every {THIN}th counts")
    for layout in sys.argv[2:] or LAYOUTS:
        with threadpool_limits(1), np.errstate(all="ignore"):
            made = run(lambda i, layout=layout: ranks(layout, i), sets, lambda done, of: None)
        whole = made[np.isfinite(made).all(axis=1)]
        print(f"{layout}: {len(whole)} sets that could be fitted")
        sentence, texts, family = LAYOUTS[layout]
        data = frame(0)
        data["y"] = np.arange(len(data)) % 2 if family in ("binomial", "poisson") else data["y"]
        first = fit(sentence, Table(data, "t", len(data)), Settings(options=Options(family=family, force=True)))
        names = ["intercept", "rain", *target_of(first, priors_of(first, read_priors(texts))).names]
        for name, x in zip(names, whole.T):
            counts = np.histogram(x, BINS, (0, 1.0000001))[0]
            print(
                f"  {name:38s} p {stats.chisquare(counts).pvalue:.3f}  mean rank {x.mean():.3f} (SE {0.2887 / np.sqrt(len(x)):.3f})",
                flush=True,
            )


if __name__ == "__main__":
    main()
