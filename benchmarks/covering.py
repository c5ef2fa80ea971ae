"""Whether an interval holds the truth, for each way to make one: shared by the scripts of coverage."""

from __future__ import annotations

import sys
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.intervals.intervals import intervals
from bold_orchard.progress import silent
from bold_orchard.sampling.posterior import SampleOptions, sample
from bold_orchard.workers import run

WAYS = ("wald", "profile", "bootstrap", "posterior")
DEAR = ("bootstrap", "posterior")  # ways that are tried on fewer sets
RESAMPLES, WARMUP, DRAWS = 199, 250, 350
Array = NDArray[np.float64]


def holds(made: Fit, truth: dict[str, float], way: str, seed: int, fewer: int) -> list[float]:
    """1 where the 95% interval of a parameter holds its truth, 0 where not, NaN where there is none or it is not tried."""
    if way in DEAR and seed >= fewer:
        return [np.nan] * len(truth)
    try:
        ends = _ends(made, way, seed)
    except OrchardError:
        return [np.nan] * len(truth)
    out = []
    for name, value in truth.items():
        low, high = ends[name]
        out.append(float((low is None or low <= value) and (high is None or value <= high)))
    return out


def _ends(made: Fit, way: str, seed: int) -> dict[str, tuple[float | None, float | None]]:
    if way == "posterior":
        options = SampleOptions(chains=2, warmup=WARMUP, draws=DRAWS, seed=seed)
        return {p.parameter: (p.low, p.high) for p in sample(made, options, lambda *_: None).parameters}
    rows = intervals(made, way, samples=RESAMPLES, seed=seed)["parameters"]
    return {r["parameter"]: (r["low"], r["high"]) for r in rows}


def over_sets(one: Callable[[int], list[float]], count: int) -> Array:
    """What every set answers, (count, ...), the sets shared by the processors, each on one."""
    return run(lambda i: np.array(one(i), dtype=float), count, silent)


def asked(usual: int) -> tuple[int, int]:
    """Data sets, and those of the dear ways, of the command line."""
    given = [int(v) for v in sys.argv[1:]]
    return (*given, *(usual, 100)[len(given) :])  # type: ignore[return-value]


def shares(hits: Array) -> str:
    """Columns of a table: the share of sets in which each interval held."""
    with np.errstate(all="ignore"):
        return " | ".join("" if np.isnan(h).all() else f"{100 * np.nanmean(h):.1f}%" for h in hits.T)
