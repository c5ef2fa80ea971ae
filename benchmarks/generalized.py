"""Speed of generalized fits against yardsticks measured in the same run.

python benchmarks/generalized.py            prints each time, its yardstick and their ratio (best of several runs)
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
import pandas as pd

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit


def orchards(rows: int, units: int, slope: float) -> Table:
    """0/1 outcomes of trees in orchards."""
    r = np.random.default_rng(1)
    code, rain = r.integers(0, units, rows), r.normal(2, 1, rows)
    eta = 0.3 * rain - 0.5 + 0.8 * r.normal(size=units)[code] + slope * r.normal(size=units)[code] * rain
    y = (r.random(rows) < 1 / (1 + np.exp(-eta))) * 1
    return Table(pd.DataFrame({"orchard": code, "rain": rain, "scab": y}), "simulated", rows)


def best(task: Callable[[], object], times: int) -> float:
    spent = []
    for _ in range(times):
        start = time.perf_counter()
        task()
        spent.append(time.perf_counter() - start)
    return min(spent)


def plain_logistic(table: Table) -> np.ndarray:
    """Newton's method for the same rows without units."""
    x = np.column_stack([np.ones(len(table)), table.numbers("rain")])
    y, b = table.numbers("scab"), np.zeros(2)
    for _ in range(30):
        p = 1 / (1 + np.exp(-(x @ b)))
        step = np.linalg.solve(x.T @ ((p * (1 - p))[:, None] * x), x.T @ (y - p))
        b = b + step
        if np.abs(step).max() < 1e-10:
            break
    return b


def main() -> None:
    binary = Options(family="binomial")
    large = orchards(200_000, 10_000, 0.4)
    sentence = "scab = rain; each orchard: intercept + rain"
    fitted = best(lambda: fit(sentence, large, Settings(options=binary)), 5)
    yard = best(lambda: plain_logistic(large), 7)
    print(
        f"200,000 rows, 10,000 units, intercept + slope, Laplace: {fitted:.3f} s, {fitted / yard:.0f} x a plain logistic Newton fit"
    )
    small = orchards(20_000, 1_000, 0.0)
    sentence = "scab = rain; each orchard: intercept"
    laplace = best(lambda: fit(sentence, small, Settings(options=binary)), 5)
    nodes = best(lambda: fit(sentence, small, Settings(options=binary, points=20)), 5)
    print(
        f"20,000 rows, 1,000 units, 20 points: {nodes:.3f} s, {nodes / laplace:.1f} x its Laplace fit ({laplace:.3f} s)"
    )


if __name__ == "__main__":
    main()
