"""Elliptical slice sampling (Murray, Adams & MacKay 2010) of many independent blocks at once."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
SHRINKS = 60  # of a bracket, after which a block keeps its values


def slice_sampled(
    here: Array, across: Array, block: NDArray[np.intp], log_likelihood: Callable[[Array], Array], rng: np.random.Generator
) -> Array:  # fmt: skip
    """One move of every block along its ellipse through ``here`` and ``across``, (n, k) each, both draws of a normal prior about 0.

    ``block`` (n,) numbers the rows that move together, ``log_likelihood`` gives that of each block, (blocks,).
    """
    size = int(block.max()) + 1 if len(block) else 0
    level = log_likelihood(here) + np.log(rng.random(size))
    angle = rng.uniform(0.0, 2.0 * np.pi, size)
    low, high = angle - 2.0 * np.pi, angle.copy()
    out, open_ = here.copy(), np.ones(size, dtype=bool)
    for _ in range(SHRINKS):
        turn = angle[block][:, None]
        tried = here * np.cos(turn) + across * np.sin(turn)
        found = open_ & (log_likelihood(np.where(open_[block][:, None], tried, out)) > level)
        out[found[block]] = tried[found[block]]
        open_ &= ~found
        if not open_.any():
            break
        low = np.where(angle < 0, angle, low)
        high = np.where(angle < 0, high, angle)
        angle = rng.uniform(low, high)
    return out
