"""Covariates as functions of normal variables: what a regression explains, of numbers, counts, ordered and unordered categories alike.

A number is its own latent variable, or its logarithm is where that is nearer to normal. A category is what a latent normal variable makes of it by
thresholds (Albert & Chib 1993), an unordered one the largest of one variable a level; a count is a rounded square.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]
FEW = 7  # different whole numbers up to which they are ordered categories
SMALLEST_COUNT = 3.0  # least value up to which whole numbers are counts
SKEWED = 1.0  # skewness from which the logarithm of positive numbers is looked at


class Latent(ABC):
    """The latent variables of one covariate, (cells, ``dims``). ``unit_variance`` where their residual variance is 1, as nothing tells it."""

    name: ClassVar[str]
    dims: int = 1
    unit_variance: ClassVar[bool] = False

    @abstractmethod
    def values(self, z: Array) -> Array:
        """The covariate (cells,) at latent variables: numbers, or places among the levels."""

    @abstractmethod
    def given(self, z: Array, x: Array, mean: Array, sd: float, rng: np.random.Generator) -> Array:
        """Latent variables drawn for cells whose covariate ``x`` (cells,) is known, from normals about ``mean`` (cells, dims)."""

    @abstractmethod
    def start(self, x: Array, rng: np.random.Generator) -> Array:
        """Latent variables that make ``x``."""

    def settle(self, z: Array, x: Array, rng: np.random.Generator) -> None:  # noqa: B027
        """Draw what else the covariate has: thresholds between its levels."""


class Measured(Latent):
    """A number, standardised, or its logarithm."""

    name = "number"

    def __init__(self, observed: Array) -> None:
        self.logarithm = bool(
            observed.min() > 0 and skewness(observed) > max(SKEWED, 2 * abs(skewness(np.log(observed))))
        )
        made = np.log(observed) if self.logarithm else observed
        self.middle, self.scale = float(made.mean()), float(made.std()) or 1.0

    def values(self, z: Array) -> Array:
        made = self.middle + self.scale * z[:, 0]
        return np.exp(np.minimum(made, 700.0)) if self.logarithm else made

    def start(self, x: Array, rng: np.random.Generator) -> Array:
        made = np.log(x) if self.logarithm else x
        return ((made - self.middle) / self.scale)[:, None]

    def given(self, z: Array, x: Array, mean: Array, sd: float, rng: np.random.Generator) -> Array:
        return z


class Ordered(Latent):
    """Levels between thresholds, of which the first two are fixed and the variance is free; of two levels one at 0, the variance 1."""

    name = "ordered"

    def __init__(self, codes: Array, levels: int) -> None:
        below = np.cumsum(np.bincount(codes.astype(int), minlength=levels))[:-1] / len(codes)
        self.cuts = special.ndtri(np.clip(below, 1e-3, 1 - 1e-3))

    def values(self, z: Array) -> Array:
        return np.searchsorted(self.cuts, z[:, 0], side="right").astype(float)

    def ends(self, x: Array) -> tuple[Array, Array]:
        cuts = np.concatenate([[-np.inf], self.cuts, [np.inf]])
        at = x.astype(int)
        return cuts[at], cuts[at + 1]

    def start(self, x: Array, rng: np.random.Generator) -> Array:
        return truncated(np.zeros(len(x)), 1.0, *self.ends(x), rng)[:, None]

    def given(self, z: Array, x: Array, mean: Array, sd: float, rng: np.random.Generator) -> Array:
        return truncated(mean[:, 0], sd, *self.ends(x), rng)[:, None]

    def settle(self, z: Array, x: Array, rng: np.random.Generator) -> None:
        """Thresholds after the second, each uniform between the latent variables of its neighbours."""
        for k in range(2, len(self.cuts)):
            low = z[x == k, 0].max(initial=self.cuts[k - 1])
            high = z[x == k + 1, 0].min(initial=self.cuts[k + 1] if k + 1 < len(self.cuts) else np.inf)
            if np.isfinite(high) and high > low:
                self.cuts[k] = rng.uniform(low, high)


class Binary(Ordered):
    """Two levels."""

    name = "binary"
    unit_variance = True

    def __init__(self, codes: Array, levels: int) -> None:
        self.cuts = np.zeros(1)


class Count(Ordered):
    """A whole number: the square of a normal variable, rounded; 0 where that is below 1/2 or the variable negative."""

    name = "count"

    def __init__(self, observed: Array) -> None:
        self.cuts = np.zeros(0)

    def values(self, z: Array) -> Array:
        return np.floor(np.maximum(z[:, 0], 0.0) ** 2 + 0.5)

    def ends(self, x: Array) -> tuple[Array, Array]:
        return np.where(x > 0, np.sqrt(np.maximum(x - 0.5, 0.0)), -np.inf), np.sqrt(x + 0.5)

    def start(self, x: Array, rng: np.random.Generator) -> Array:
        low, high = self.ends(x)
        return np.asarray(rng.uniform(np.where(np.isfinite(low), low, 0.0), high))[:, None]


class Unordered(Latent):
    """Levels without order: the first where all latent variables are negative, else that of the largest."""

    name = "unordered"
    unit_variance = True

    def __init__(self, levels: int) -> None:
        self.dims = levels - 1

    def values(self, z: Array) -> Array:
        return np.where(z.max(axis=1) > 0, z.argmax(axis=1) + 1, 0).astype(float)

    def start(self, x: Array, rng: np.random.Generator) -> Array:
        z = -np.abs(rng.standard_normal((len(x), self.dims)))
        chosen = np.flatnonzero(x > 0)
        z[chosen, x[chosen].astype(int) - 1] *= -1.0
        return np.asarray(z)

    def given(self, z: Array, x: Array, mean: Array, sd: float, rng: np.random.Generator) -> Array:
        z, at = z.copy(), x.astype(int) - 1
        for k in range(self.dims):
            others = np.max(np.where(np.arange(self.dims) == k, -np.inf, z), axis=1, initial=0.0)
            own = at == k
            low, high = np.where(own, others, -np.inf), np.where(own, np.inf, others)
            z[:, k] = truncated(mean[:, k], sd, low, high, rng)
        return z


def truncated(mean: Array, sd: float, low: Array, high: Array, rng: np.random.Generator) -> Array:
    """Normal variables between ``low`` and ``high``, (n,), by the inverse of the distribution function, in the tail that keeps its digits."""
    a, b = (low - mean) / sd, (high - mean) / sd
    turned = a > 0
    a, b = np.where(turned, -b, a), np.where(turned, -a, b)
    first, last = special.ndtr(a), special.ndtr(b)
    drawn = special.ndtri(first + rng.random(len(mean)) * (last - first))
    drawn = np.clip(drawn, np.maximum(a, -38.0), np.minimum(b, 38.0))
    return np.asarray(mean + sd * np.where(turned, -drawn, drawn))


def skewness(values: Array) -> float:
    """The third standardised moment; 0 of a constant."""
    away = values - values.mean()
    sd = float(away.std())
    return float(np.mean(away**3) / sd**3) if sd > 0 else 0.0


def whole(values: Array) -> bool:
    """Whether all values are whole numbers."""
    return bool(np.all(values == np.round(values)))


def latent_of_numbers(observed: Array) -> tuple[Latent, Array]:
    """The latent variable of a column of numbers, and the levels where these are few, ordered."""
    levels = np.unique(observed)
    if len(levels) == 2:
        return Binary(observed, 2), levels
    if whole(observed) and len(levels) <= FEW:
        return Ordered(np.searchsorted(levels, observed).astype(float), len(levels)), levels
    if whole(observed) and 0 <= levels[0] <= SMALLEST_COUNT:
        return Count(observed), np.zeros(0)
    return Measured(observed), np.zeros(0)
