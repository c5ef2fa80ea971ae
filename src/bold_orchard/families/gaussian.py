"""Measurements: normal around the linear predictor (exact likelihood) or, by a log link, around its exponential."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Family, Part
from bold_orchard.families.jets import Value, normal
from bold_orchard.families.links import TOP
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]


class Gaussian(Family):
    """Normal around eta, whose residual the covariance of the rows describes."""

    name = "gaussian"
    links = ("identity", "log")
    additive = True

    @classmethod
    def by(cls, link: str) -> type[Family]:
        return LogGaussian if link == "log" else Gaussian


class LogGaussian(Gaussian):
    """Normal around mu = exp(eta) with SD sigma; the extra is log sigma."""

    law = r"\mathcal{N}(\mu_{@}, \phi)"
    additive = False
    extra_names = ("log sigma",)
    parts = (Part("spread", 0),)
    own = (OwnParameter("dispersion", "the residual variance", lambda x: float(np.exp(2.0 * x)), symbol=r"\phi"),)

    def start(self) -> tuple[Array, Array]:
        low = max(float(np.abs(self.y).mean()) * 0.05, 1e-300)
        return np.log(np.maximum(self.y, low)), np.array([np.log(float(self.y.std()))])

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        mu, w = np.exp(np.minimum(eta, TOP / 2)), self.weights * np.exp(-2.0 * extra[0])
        away = self.y - mu
        value = 0.5 * np.log(w / (2.0 * np.pi)) - 0.5 * w * away**2
        return value, w * away * mu, w * mu * (away - mu), w * mu * (away - 3.0 * mu)

    def expected(self, eta: Array, extra: Array) -> Array:
        return np.asarray(self.weights * np.exp(-2.0 * extra[0]) * np.exp(2.0 * np.minimum(eta, TOP / 2)))

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        _, d1, d2, _ = self.derivatives(eta, extra)
        mu, w = np.exp(np.minimum(eta, TOP / 2)), self.weights * np.exp(-2.0 * extra[0])
        return [(w * (self.y - mu) ** 2 - 1.0, -2.0 * d1, -2.0 * d2)]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        return normal(self.y - jets.exp(eta), extra[0], self.weights)

    def variance(self, eta: Array, extra: Array) -> Array:
        return np.asarray(np.broadcast_to(np.exp(2.0 * extra[0]) / self.weights, np.shape(eta)))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        return np.asarray(
            self.mean(eta, extra) + np.sqrt(self.variance(eta, extra)) * rng.standard_normal(np.shape(eta))
        )

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        p = np.asarray(special.ndtr((y - self.mean(eta, extra)) / np.sqrt(self.variance(eta, extra))))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(np.log1p(np.exp(2.0 * extra[0]) / self.mean(eta, extra) ** 2))
