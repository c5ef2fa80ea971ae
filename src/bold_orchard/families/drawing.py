"""Drawn outcomes at any mean, those included that no data would have: a wild prior implies them, and they are to be shown."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
LARGEST_POISSON = 1e15  # of a mean; above it a count differs from a normal value by less than a double can hold
LARGEST, LEAST = 1e300, 1e-300


def poisson_counts(mean: Array, rng: np.random.Generator) -> Array:
    """Poisson counts as doubles, of the shape of ``mean`` (not negative, infinity allowed); at most 1e300."""
    mean = np.minimum(mean, LARGEST)
    counts = rng.poisson(np.minimum(mean, LARGEST_POISSON)).astype(float)
    large = mean > LARGEST_POISSON
    if np.any(large):
        counts = np.where(large, np.minimum(mean, LARGEST), counts)
    return counts


def beta_shares(first: Array, second: Array, rng: np.random.Generator) -> Array:
    """Beta values strictly inside (0, 1); shapes may have run down to nothing."""
    shares = rng.beta(np.clip(first, LEAST, LARGEST), np.clip(second, LEAST, LARGEST))
    return np.clip(shares, 1e-12, 1 - 1e-12)
