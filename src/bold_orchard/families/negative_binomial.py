"""Counts that vary more than a Poisson law allows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Part
from bold_orchard.families.drawing import poisson_counts
from bold_orchard.families.jets import Value
from bold_orchard.families.links import TOP
from bold_orchard.families.poisson import Poisson
from bold_orchard.families.rises import digamma_rise
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
RUN_AWAY = float(np.log(1e5))  # theta from which counts vary no more than Poisson ones


class NegativeBinomial(Poisson):
    """var = mu + mu^2 / theta; the extra is log theta."""

    name = "negative-binomial"
    law = r"\operatorname{NegativeBinomial}(\mu_{@}, \theta)"
    extra_names = ("log theta",)
    parts = (Part("spread", 0, -1.0),)
    limits = ("poisson",)
    own = (
        OwnParameter(
            "dispersion",
            "theta, variance = mean + mean²/theta",
            lambda x: float(np.exp(x)),
            gone="the counts vary no more than a Poisson law allows, so theta has run away",
        ),
    )

    def start(self) -> tuple[Array, Array]:
        mean, var = float(self.y.mean()), float(self.y.var())
        theta = mean**2 / max(var - mean, 0.05 * mean + 1e-3)
        return np.log(self.y + 0.5), np.array([np.log(np.clip(theta, 0.05, 100.0))])

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        theta, mu, y, w = np.exp(extra[0]), np.exp(np.minimum(eta, TOP)), self.y, self.weights
        total = theta + mu
        value = -special.betaln(theta, y + 1.0) - np.log(theta + y)
        value = value + y * eta - y * np.log(total) - theta * np.log1p(mu / theta)
        d2 = -(y + theta) * theta * mu / total**2
        return w * value, w * (theta * (y - mu) / total), w * d2, w * d2 * (theta - mu) / total

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        theta, mu, y, w = np.exp(extra[0]), np.exp(np.minimum(eta, TOP)), self.y, self.weights
        total = theta + mu
        value = digamma_rise(0, theta + np.zeros_like(y), y) - np.log1p(mu / theta) + (mu - y) / total
        d1 = (y - mu) * mu / total**2
        d2 = -mu * ((y + 2 * theta) * total - 2 * (y + theta) * theta) / total**3
        return [(w * theta * value, w * theta * d1, w * theta * d2)]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        x = extra[0]
        more = jets.softplus(eta - x)  # log(1 + mu / theta)
        made = jets.rise(jets.exp(x), self.y) + self.y * (eta - x - more) - jets.exp(x) * more
        return self.weights * (made - self.constant)

    def lost(self, extra: Array) -> NDArray[np.bool_]:
        return np.asarray(extra > RUN_AWAY)

    def variance(self, eta: Array, extra: Array) -> Array:
        mu = self.mean(eta, extra)
        return np.asarray(mu + mu**2 / np.exp(extra[0]))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        theta = np.exp(extra[0])
        return poisson_counts(rng.gamma(theta, self.mean(eta, extra) / theta), rng)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        theta, mu = np.exp(extra[0]), self.mean(eta, extra)
        p = theta / (theta + mu)
        lower = np.where(y <= 0, 0.0, special.betainc(theta, np.maximum(y, 1), p))
        return lower, special.betainc(theta, y + 1, p)

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(special.polygamma(1, 1.0 / (1.0 / self.mean(eta, extra) + 1.0 / np.exp(extra[0]))))
