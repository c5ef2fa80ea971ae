"""Measurements with heavy tails: Student's t around the linear predictor.

Lange, Little & Taylor (1989), Journal of the American Statistical Association 84, 881-896.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Family, Part
from bold_orchard.families.jets import Value
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
LARGE = 1e3  # degrees of freedom from which a difference of log gammas would lose more digits than its series
RUN_AWAY = float(np.log(1e5))  # degrees of freedom from which the law is the normal one
END = 100.0  # log nu beyond which nothing changes and powers would overflow
USUAL = 5.0  # degrees of freedom to begin with: heavy tails that still have a kurtosis
TO_SD = 1.4826  # median absolute deviation -> SD of a normal law


class Student(Family):
    """r = y - eta over scale s with nu degrees of freedom, S = s^2 (over the weight), D = nu S + r^2:

    l = log Gamma((nu + 1)/2) - log Gamma(nu/2) - log(pi nu S)/2 - (nu + 1)/2 log(1 + r^2/(nu S)); the extras are log s, log nu.
    Rows far from their place count less, so -l'' is negative there; ``expected`` is (nu + 1)/((nu + 3) S).
    """

    name = "student"
    law = r"t_{\nu}(\mu_{@}, \phi)"
    links = ("identity",)
    describes = "centre"
    extra_names = ("log scale", "log nu")
    parts = (Part("spread", 0),)
    limits = ("", "gaussian")
    own = (
        OwnParameter("dispersion", "the squared scale; the variance is nu/(nu - 2) times as large", lambda x: float(np.exp(2 * x)), symbol=r"\phi"),
        OwnParameter("tail_df", "nu; the smaller, the heavier the tails", lambda x: float(np.exp(min(x, END))), 1,
            "the tails are no heavier than normal ones, so their degrees of freedom have run away", r"\nu"),
    )  # fmt: skip

    def unit(self) -> float:
        """A robust SD of the outcome."""
        middle = float(np.median(self.y))
        return TO_SD * float(np.median(np.abs(self.y - middle))) or float(self.y.std()) or 1.0

    def start(self) -> tuple[Array, Array]:
        return self.y.astype(float), np.log([0.7 * self.unit(), USUAL])

    def _parts(self, eta: Array, extra: Array) -> tuple[float, Array, Array, Array]:
        """nu, S, r and D."""
        nu, s2, r = float(np.exp(min(extra[1], END))), np.asarray(np.exp(2.0 * extra[0]) / self.weights), self.y - eta
        return nu, s2, r, nu * s2 + r**2

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        nu, s2, r, d = self._parts(eta, extra)
        value = gamma_step(nu)[0] - 0.5 * np.log(np.pi * nu * s2) - 0.5 * (nu + 1.0) * np.log1p(r**2 / (nu * s2))
        m, flat = nu + 1.0, nu * s2
        return value, m * r / d, -m * (flat - r**2) / d**2, -2.0 * m * r * (3.0 * flat - r**2) / d**3

    def expected(self, eta: Array, extra: Array) -> Array:
        nu, s2, r, _ = self._parts(eta, extra)
        return np.asarray((nu + 1.0) / ((nu + 3.0) * s2) + np.zeros(np.shape(r)))

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        nu, s2, r, d = self._parts(eta, extra)
        m, flat, sq = nu + 1.0, nu * s2, r**2
        scale = (m * sq / d - 1.0, -2.0 * m * r * flat / d**2, 2.0 * m * flat * (flat - 3.0 * sq) / d**3)
        value = gamma_step(nu)[1] - 0.5 / nu - 0.5 * np.log1p(sq / flat) + 0.5 * m * sq / (nu * d)
        d2 = -(3.0 * sq - s2) / d**2 + 4.0 * sq * (sq - s2) / d**3
        return [scale, (nu * value, nu * r * (sq - s2) / d**2, nu * d2)]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        r, nu = self.y - eta, jets.exp(extra[1])
        squared = r * r * jets.exp(-2.0 * extra[0] - extra[1]) * self.weights
        made = jets.rise(0.5 * nu, 0.5) - 0.5 * extra[1] - extra[0] - 0.5 * (nu + 1.0) * jets.log1p(squared)
        return made + 0.5 * (np.log(self.weights) - np.log(np.pi))

    def lost(self, extra: Array) -> NDArray[np.bool_]:
        return np.array([False, bool(extra[1] > RUN_AWAY)])

    def variance(self, eta: Array, extra: Array) -> Array:
        """nu S / (nu - 2); infinite up to two degrees of freedom."""
        nu, s2, r, _ = self._parts(eta, extra)
        return np.asarray((s2 * nu / (nu - 2.0) if nu > 2.0 else np.inf) + np.zeros(np.shape(r)))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        nu, s2, _, _ = self._parts(eta, extra)
        return np.asarray(eta + np.sqrt(s2) * rng.standard_t(nu, np.shape(eta)))

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        nu, s2, _, _ = self._parts(eta, extra)
        p = np.asarray(special.stdtr(nu, (y - eta) / np.sqrt(s2)))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        """The variance, not a number where there is none."""
        nu = float(np.exp(extra[1]))
        return float(np.exp(2.0 * extra[0])) * nu / (nu - 2.0) if nu > 2.0 else float("nan")


def gamma_step(nu: float) -> tuple[float, float]:
    """log Gamma((nu + 1)/2) - log Gamma(nu/2) and its slope in nu."""
    if nu < LARGE:
        half = 0.5 * nu
        value = special.gammaln(half + 0.5) - special.gammaln(half)
        return float(value), float(0.5 * (special.digamma(half + 0.5) - special.digamma(half)))
    i = 1.0 / nu
    return 0.5 * np.log(0.5 * nu) - 0.25 * i + i**3 / 24.0, 0.5 * i + 0.25 * i**2 - 0.125 * i**4
