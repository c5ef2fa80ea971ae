"""Rows of trees crossed with pickers, and sentences for them."""

from __future__ import annotations

import numpy as np
import pandas as pd

SENTENCES = {
    "intercepts": "yield = rain; each tree: intercept; each picker: intercept",
    "slopes": "yield = rain + soil; each tree: intercept + rain; each picker: intercept + rain",
    "three units": "yield = rain; each tree: intercept; each picker: intercept; each season: intercept + rain",
    "diagonal": "yield = rain; each tree (diagonal): intercept + rain; each picker (diagonal): intercept + rain",
    "nested and crossed": "yield = rain; each block: intercept; each tree in block: intercept; each picker: intercept",
    "no fixed part": "yield = rain without intercept; each tree: intercept; each picker: intercept",
}


def crossed(n=2400, trees=240, pickers=60, seed=0, between=0.6):
    r = np.random.default_rng(seed)
    tree, picker, season, rain = (
        r.integers(0, trees, n),
        r.integers(0, pickers, n),
        r.integers(0, 20, n),
        r.normal(size=n),
    )
    y = 3 + 0.4 * rain + r.normal(size=trees)[tree] * (1 + 0.3 * rain) + between * r.normal(size=pickers)[picker]
    y += 0.5 * r.normal(size=20)[season] + 0.2 * r.normal(size=pickers)[picker] * rain + r.normal(size=n)
    soil = np.array(["clay", "loam", "sand"])[tree % 3]
    return pd.DataFrame(
        {"tree": tree, "block": tree // 12, "picker": picker, "season": season, "rain": rain, "soil": soil, "yield": y}
    )
