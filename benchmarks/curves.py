"""Curves: do simultaneous bands hold, are straight truths left straight, and what does a curve cost beside a line?

python benchmarks/curves.py [sets]      # default 400; prints shares and ratios
"""

from __future__ import annotations

import sys
import time

import numpy as np
import pandas as pd

import bold_orchard as bo

UNITS, ROWS = 30, 300


def drawn(r: np.random.Generator, bend: float) -> tuple[pd.DataFrame, np.ndarray]:
    tree = r.integers(0, UNITS, ROWS)
    age = np.round(r.uniform(0.0, 10.0, ROWS), 2)
    mean = 10.0 + 0.5 * age + bend * np.sin(age)
    noise = r.normal(size=UNITS)[tree] + r.normal(size=ROWS)
    return pd.DataFrame({"tree": tree.astype(str), "age": age, "yield": mean + noise}), mean


def held(sets: int) -> dict[str, float]:
    """Shares of sets whose whole curve lies in the simultaneous band, and of points inside the pointwise one."""
    whole, points = [], []
    for k in range(sets):
        frame, _ = drawn(np.random.default_rng([1, k]), 1.5)
        band = (
            bo.fit("yield = smooth(age); each tree: intercept", frame)
            .draw(kind="effects", along="age")
            .document["effects"][0]
        )
        x = np.array(band["x"])
        truth = 10.0 + 0.5 * x + 1.5 * np.sin(x)
        whole.append(bool(((truth >= band["low_simultaneous"]) & (truth <= band["high_simultaneous"])).all()))
        points.append(float(((truth >= band["low"]) & (truth <= band["high"])).mean()))
    return {"simultaneous": float(np.mean(whole)), "pointwise": float(np.mean(points))}


def straight(sets: int) -> float:
    """Share of straight truths whose wiggle has a p below 0.05."""
    found = [
        bo.fit("yield = smooth(age); each tree: intercept", drawn(np.random.default_rng([2, k]), 0.0)[0])
        .result.smooths[0]
        .p
        < 0.05
        for k in range(sets)
    ]
    return float(np.mean(found))


def cost() -> dict[str, float]:
    """Times of a curve over those of a line, 100,000 rows of 5,000 trees; seconds of 500 trees each with a curve, 20,000 rows."""
    r = np.random.default_rng(3)
    tree, age = r.integers(0, 5_000, 100_000), r.uniform(0.0, 10.0, 100_000)
    frame = pd.DataFrame(
        {
            "tree": tree.astype(str),
            "age": age,
            "yield": np.sin(age) + r.normal(size=5_000)[tree] + r.normal(size=100_000),
        }
    )
    line, curve = (
        min(_timed(s, frame) for _ in range(3))
        for s in ("yield = age; each tree: intercept", "yield = smooth(age); each tree: intercept")
    )
    tree, age = np.repeat(np.arange(500), 40), np.tile(np.linspace(0.0, 10.0, 40), 500) + r.uniform(0.0, 0.2, 20_000)
    own = r.normal(size=(500, 2))
    frame = pd.DataFrame(
        {
            "tree": tree.astype(str),
            "age": age,
            "yield": own[tree, 0] + own[tree, 1] * np.sin(age) + r.normal(size=20_000),
        }
    )
    return {
        "curve over line": curve / line,
        "seconds of 500 curves": _timed("yield = smooth(age); each tree: smooth(age)", frame),
    }


def _timed(sentence: str, frame: pd.DataFrame) -> float:
    start = time.perf_counter()
    bo.fit(sentence, frame)
    return time.perf_counter() - start


if __name__ == "__main__":
    sets = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    for name, value in cost().items():
        print(f"{name}: {value:.2f}")
    print(f"straight truths called curves at 0.05: {straight(sets):.3f} of {sets}")
    for name, share in held(sets).items():
        print(f"{name} 95% band holds: {share:.3f} of {sets}")
