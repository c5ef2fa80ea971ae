"""Size of the 5% tests of `terms` where nothing has an effect: split-plots, few units, empty cells, weights.

    python benchmarks/null_size.py [data sets per design]        prints the table that stands in docs/coverage.md

Outcomes are units' effects and noise only, so every rejection is a false one. Failed fits and tests that are refused are counted, never
replaced.
"""

from __future__ import annotations

import sys
from typing import Any

import numpy as np
import pandas as pd
from covering import over_sets

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Settings, fit

METHODS = ("satterthwaite", "kenward-roger")
Frame = pd.DataFrame


def split_plot(r: np.random.Generator, blocks: int) -> Frame:
    """Three pruning regimes on the plots of each block, four sprays on the trees of each plot."""
    block, pruning, spray = (a.ravel() for a in np.meshgrid(range(blocks), range(3), range(4), indexing="ij"))
    plot = block * 3 + pruning
    y = r.normal(size=blocks)[block] + r.normal(size=3 * blocks)[plot] + 0.8 * r.normal(size=len(block))
    return Frame({"block": block, "plot": plot, "pruning": names("p", pruning), "spray": names("s", spray), "y": y})


def empty_cell(r: np.random.Generator) -> Frame:
    """Eight orchards; no row has the third soil with the second spray, the other cells are unequal."""
    size = 90
    orchard, soil, spray = r.integers(0, 8, size), r.integers(0, 3, size), r.integers(0, 2, size)
    kept = ~((soil == 2) & (spray == 1))
    y = r.normal(size=8)[orchard] + r.normal(size=size)
    return Frame({"orchard": orchard, "soil": names("l", soil), "spray": names("s", spray), "y": y})[kept]


def few_units(r: np.random.Generator, slope: float) -> Frame:
    """Five orchards of 3 to 9 rows; the soil belongs to the orchard, slopes over rain have an SD."""
    orchard = np.repeat(np.arange(5), r.integers(3, 10, 5))
    rain = r.normal(size=len(orchard))
    y = r.normal(size=5)[orchard] + slope * r.normal(size=5)[orchard] * rain + r.normal(size=len(orchard))
    return Frame({"orchard": orchard, "soil": names("l", np.array([0, 1, 0, 1, 0])[orchard]), "rain": rain, "y": y})


def weighted(r: np.random.Generator) -> Frame:
    """Ten orchards of 6 rows whose variances differ by the weight, from 1 to 9."""
    orchard = np.repeat(np.arange(10), 6)
    weight = r.choice([1.0, 3.0, 9.0], 60)
    y = r.normal(size=10)[orchard] + r.normal(size=60) / np.sqrt(weight)
    soil, spray = names("l", orchard % 2), names("s", r.integers(0, 3, 60))
    return Frame({"orchard": orchard, "soil": soil, "spray": spray, "w": weight, "y": y})


def names(letter: str, codes: Any) -> Any:
    return np.array([f"{letter}{c}" for c in codes])


PLOTS = "y = pruning + spray + pruning*spray; each block: intercept; each plot: intercept"
DESIGNS: dict[str, tuple[Any, str, dict[str, Any]]] = {
    "split-plot, 2 blocks": (lambda r: split_plot(r, 2), PLOTS, {}),
    "split-plot, 3 blocks": (lambda r: split_plot(r, 3), PLOTS, {}),
    "split-plot, 6 blocks": (lambda r: split_plot(r, 6), PLOTS, {}),
    "one empty cell": (empty_cell, "y = soil + spray + soil*spray; each orchard: intercept", {}),
    "one empty cell, type 2": (empty_cell, "y = soil + spray + soil*spray; each orchard: intercept", {}),
    "five units": (lambda r: few_units(r, 0.0), "y = soil + rain; each orchard: intercept", {}),
    "five units, slopes": (lambda r: few_units(r, 0.5), "y = soil + rain; each orchard: intercept + rain", {}),
    "weights": (weighted, "y = soil + spray; each orchard: intercept", {"weights": "w"}),
}


def one_set(design: str, i: int) -> list[float]:
    """Whether the fit failed, whether it ended on a boundary; by method and term, whether 5% reject (NaN where the test is refused)."""
    make, sentence, options = DESIGNS[design]
    frame = make(np.random.default_rng([2026, 12, i]))
    made = fit(sentence, Table(frame, "simulated", len(frame)), Settings(options=Options(**options)))
    out = [float(not made.converged), float(made.result["convergence"]["boundary"])]
    for method in METHODS:
        tests = terms(made, kind_of(design), df_method=method)["tests"]
        out += [np.nan if t["p"] is None else float(t["p"] < 0.05) for t in tests if t["term"] != "intercept"]
    return out


def kind_of(design: str) -> int:
    return 2 if design.endswith("type 2") else 3


def terms_of(design: str) -> list[str]:
    make, sentence, options = DESIGNS[design]
    frame = make(np.random.default_rng(0))
    made = fit(sentence, Table(frame, "simulated", len(frame)), Settings(options=Options(**options)))
    return [t["term"] for t in terms(made, kind_of(design))["tests"] if t["term"] != "intercept"]


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    error = 100 * (0.05 * 0.95 / count) ** 0.5
    print(f"{count} data sets per design; the Monte-Carlo standard error of a size of 5% is {error:.1f}%.\n")
    print("| design | term | satterthwaite | kenward-roger | failed fits, on a boundary |\n|---|---|---|---|---|")
    for design in DESIGNS:
        labels = terms_of(design)
        found = over_sets(lambda i, design=design: one_set(design, i), count)
        failed, edge = found[:, :2].sum(axis=0).astype(int)
        sizes = [share(hits) for hits in found[:, 2:].T]
        for k, label in enumerate(labels):
            print(f"| {design} | {label} | {sizes[k]} | {sizes[k + len(labels)]} | {failed}, {edge} |", flush=True)


def share(hits: Any) -> str:
    """The share that is rejected, of the tests that were given."""
    given = hits[~np.isnan(hits)]
    return f"{100 * given.mean():.1f}%" if len(given) else "refused"


if __name__ == "__main__":
    main()
