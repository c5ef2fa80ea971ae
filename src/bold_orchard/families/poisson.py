"""Counts: the Poisson family."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Data, Family, Support
from bold_orchard.families.drawing import poisson_counts
from bold_orchard.families.jets import Value
from bold_orchard.families.links import TOP

Array = NDArray[Any]


class Poisson(Family):
    """l = y eta - mu - log y!, mu = exp(eta)."""

    name = "poisson"
    law = r"\operatorname{Poisson}(\mu_{@})"
    links = ("log",)
    measure = "counts"
    support = Support(lambda y: (y >= 0) & (y == np.round(y)), "whole numbers of zero or more")
    separable = True

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.constant = special.gammaln(self.y + 1.0)

    def start(self) -> tuple[Array, Array]:
        return np.log(self.y + 0.5), np.zeros(0)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        mu, w = np.exp(np.minimum(eta, TOP)), self.weights
        slope = -(w * mu)
        return w * (self.y * eta - mu - self.constant), w * (self.y - mu), slope, slope

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        return self.weights * (self.y * eta - jets.exp(eta) - self.constant)

    def variance(self, eta: Array, extra: Array) -> Array:
        return self.mean(eta, extra)

    def one_sided(self, y: Array) -> tuple[Array, Array]:
        return np.zeros(len(y), dtype=bool), y == 0

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        return poisson_counts(self.mean(eta, extra), rng)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        mu = self.mean(eta, extra)
        return np.where(y <= 0, 0.0, special.pdtr(np.maximum(y - 1, 0), mu)), special.pdtr(y, mu)

    def latent_variance(self, eta: Array, extra: Array) -> float:
        """trigamma of the mean: the variance of the logarithm on the observation level."""
        return float(special.polygamma(1, self.mean(eta, extra)))
