"""Positive outcomes whose logarithm is normal around the linear predictor."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families.base import Data, Family, Part, Support
from bold_orchard.families.drawing import LEAST
from bold_orchard.families.gamma import mend_positive
from bold_orchard.families.jets import Value, normal
from bold_orchard.families.links import TOP
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]


class Lognormal(Family):
    """log y normal around eta with SD s: l = -log y - log(2 pi s^2)/2 - (log y - eta)^2 / (2 s^2); the extra is log s.

    The median is exp(eta) and the mean exp(eta + s^2/2), so exp(coefficient) is the ratio of both. The Laplace approximation
    is exact. Weights divide s^2.
    """

    name = "lognormal"
    law = r"\operatorname{Lognormal}(\log \mu_{@}, \phi)"
    links = ("log",)
    support = Support(lambda y: y > 0, "above zero", mend_positive)
    describes = "median"
    extra_names = ("log sigma",)
    parts = (Part("spread", 0),)
    own = (
        OwnParameter(
            "dispersion", "the residual variance of the logarithm", lambda x: float(np.exp(2.0 * x)), symbol=r"\phi"
        ),
    )

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.logs = np.log(self.y)

    def start(self) -> tuple[Array, Array]:
        return self.logs, np.array([np.log(max(float(self.logs.std()), 1e-3))])

    def _precision(self, extra: Array) -> Array:
        return np.asarray(self.weights * np.exp(-2.0 * extra[0]))

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        w, away = self._precision(extra), self.logs - eta
        value = -self.logs + 0.5 * np.log(w / (2.0 * np.pi)) - 0.5 * w * away**2
        flat = np.broadcast_to(-w, np.shape(eta)).copy()
        return value, w * away, flat, np.zeros(np.shape(eta))

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        w, away = self._precision(extra), self.logs - eta
        return [(w * away**2 - 1.0, -2.0 * w * away, np.broadcast_to(2.0 * w, np.shape(eta)).copy())]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        return normal(self.logs - eta, extra[0], self.weights) - self.logs

    def _variance_of_log(self, extra: Array) -> Array:
        return np.asarray(1.0 / self._precision(extra))

    def mean(self, eta: Array, extra: Array) -> Array:
        """exp(eta + s^2/2), of a row of weight one."""
        return np.asarray(np.exp(np.minimum(eta + 0.5 * np.exp(2.0 * extra[0]), TOP)))

    def mean_slope(self, eta: Array, extra: Array) -> Array:
        return self.mean(eta, extra)

    def variance(self, eta: Array, extra: Array) -> Array:
        s2 = self._variance_of_log(extra)
        return np.asarray(np.expm1(s2) * np.exp(np.minimum(2.0 * eta + s2, TOP)))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        spread = np.sqrt(self._variance_of_log(extra)) * rng.standard_normal(np.shape(eta))
        return np.maximum(np.exp(np.minimum(eta + spread, TOP)), LEAST)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        p = np.asarray(special.ndtr((np.log(y) - eta) / np.sqrt(self._variance_of_log(extra))))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(np.exp(2.0 * extra[0]))
