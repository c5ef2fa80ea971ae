"""Starts of a search beside the usual one: scales at which the units' effects would matter to some of their levels."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.likelihood.gaussian import Criterion

Array = NDArray[Any]
QUANTILES = (0.0, 0.25, 0.5, 0.75, 1.0)  # of the information that single levels hold
FACTORS = (0.1, 1.0, 10.0)  # around the variance at which an effect weighs as much as a level's own rows


def informations(products: CrossProducts) -> dict[int, Array]:
    """Per unit (k, levels): the sum of squares of each effect's column in each level, on the working scale."""
    out = {s.unit: np.einsum("aaj->aj", s.c) for s in products.stages}
    for t in products.tails:
        out[t.unit] = np.diag(products.dense)[t.columns].reshape(t.size, t.levels)
    return out


def scaled_starts(c: Criterion, here: Array) -> list[Array]:
    """Parameters with the effects of all units, and of each unit alone beside ``here``, at a range of scales."""
    held = informations(c.products)
    scales: dict[int, list[Array]] = {}
    for f, structure in enumerate(c.structures):
        own = held[f]
        present = [row[row > 1e-12 * max(float(row.max()), 1e-300)] for row in own]
        middles = [np.quantile(row, QUANTILES) if len(row) else np.ones(len(QUANTILES)) for row in present]
        ratios = np.array([[factor / q for q in middle for factor in FACTORS] for middle in middles])
        distinct = {tuple(np.round(np.log10(r), 1)): r for r in ratios.T}
        scales[f] = [structure.start(r) for r in distinct.values()]
    out = []
    most = max((len(s) for s in scales.values()), default=0)
    for k in range(most):
        theta = here.copy()
        for f, at in enumerate(c.slices):
            theta[at] = scales[f][min(k, len(scales[f]) - 1)]
        out.append(theta)
    if len(c.slices) > 1:
        for f, at in enumerate(c.slices):
            for start in scales[f]:
                theta = here.copy()
                theta[at] = start
                out.append(theta)
    return out
