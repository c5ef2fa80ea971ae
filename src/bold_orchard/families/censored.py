"""Measurements known only to lie at or beyond a limit: normal, lognormal and Student outcomes.

A row at or below its lower limit has the probability of lying there as its likelihood, one at or above its upper limit likewise (Tobin 1958);
the others keep their density. What is predicted is the outcome itself, not what the limits let through.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Data, Family, Part
from bold_orchard.families.jets import Value, normal
from bold_orchard.families.lognormal import Lognormal
from bold_orchard.families.student import END, Student, gamma_step
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
NORMAL = 1e7  # df from which the tails are told by a normal distribution to ten digits
STEP = 1e-2  # of the logarithm of the tails' df, by which their law is differenced to the fourth order: ten digits


class Normal(Family):
    """Normal around eta with SD sigma; the extra is log sigma, of which weights divide the square."""

    name = "gaussian"
    law = r"\mathcal{N}(\mu_{@}, \phi)"
    links = ("identity",)
    extra_names = ("log sigma",)
    parts = (Part("spread", 0),)
    own = (OwnParameter("dispersion", "the residual variance", lambda x: float(np.exp(2.0 * x)), symbol=r"\phi"),)

    def unit(self) -> float:
        return float(self.y.std()) or 1.0

    def start(self) -> tuple[Array, Array]:
        return self.y.astype(float), np.array([np.log(self.unit())])

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        w, away = np.asarray(self.weights * np.exp(-2.0 * extra[0])), self.y - eta
        flat = np.broadcast_to(-w, np.shape(eta)).copy()
        return 0.5 * np.log(w / (2.0 * np.pi)) - 0.5 * w * away**2, w * away, flat, np.zeros(np.shape(eta))

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        w, away = self.weights * np.exp(-2.0 * extra[0]), self.y - eta
        return [(w * away**2 - 1.0, -2.0 * w * away, np.broadcast_to(2.0 * w, np.shape(eta)).copy())]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        return normal(self.y - eta, extra[0], self.weights)

    def variance(self, eta: Array, extra: Array) -> Array:
        return np.asarray(np.broadcast_to(np.exp(2.0 * extra[0]) / self.weights, np.shape(eta)))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        return np.asarray(eta + np.sqrt(self.variance(eta, extra)) * rng.standard_normal(np.shape(eta)))

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        p = np.asarray(special.ndtr((y - eta) / np.sqrt(self.variance(eta, extra))))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(np.exp(2.0 * extra[0]))


class _Limited(Family):
    """What rows beyond a limit change of a family whose eta is a place of the outcome (of its logarithm); ``data`` has the limits."""

    measure = "measurements, some of them known as limits"
    logged: ClassVar[bool] = False

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        assert data.low is not None and data.high is not None
        self.below, self.above = data.y <= data.low, data.y >= data.high
        self.beyond = self.below | self.above
        limit = np.where(self.below, data.low, data.high)
        with np.errstate(all="ignore"):
            self.limit = np.where(self.beyond, np.log(limit) if self.logged else limit, 0.0)
        self.sign = np.where(self.above, 1.0, -1.0)

    def _scale(self, extra: Array) -> Array:
        """SD of each row's law, by its weight."""
        return np.asarray(np.exp(extra[0]) / np.sqrt(self.weights) + np.zeros(len(self.y)))

    def _tail(self, z: Array, extra: Any) -> tuple[Array, Array, Array, Array]:
        """The logarithm of the law's distribution function and its three derivatives."""
        return _log_normal_tail(z)

    def _beyond(self, eta: Array, extra: Array) -> tuple[Array, ...]:
        s = self._scale(extra)
        z = self.sign * (eta - self.limit) / s
        return s, z, *self._tail(z, extra)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        seen = super().derivatives(eta, extra)
        if not self.beyond.any():
            return seen
        s, _, f0, f1, f2, f3 = self._beyond(eta, extra)
        cut = (f0, self.sign * f1 / s, f2 / s**2, self.sign * f3 / s**3)
        made = tuple(np.where(self.beyond, c, v) for c, v in zip(cut, seen))
        return made[0], made[1], made[2], made[3]

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        seen = super().extras(eta, extra)
        if not self.beyond.any():
            return seen
        s, z, _, f1, f2, f3 = self._beyond(eta, extra)
        cut = [(-z * f1, self.sign * (-z * f2 - f1) / s, (-z * f3 - 2.0 * f2) / s**2), *self._more(s, z, extra)]
        return [
            (np.where(self.beyond, c[0], v[0]), np.where(self.beyond, c[1], v[1]), np.where(self.beyond, c[2], v[2]))
            for c, v in zip(cut, seen)
        ]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        seen = super().density(eta, extra)
        z = (self.sign * np.sqrt(self.weights)) * ((eta - self.limit) * jets.exp(-extra[0]))
        tail = z.through(*self._tail(z.value, extra)) if isinstance(z, jets.Jet) else self._tail(z, extra)[0]
        return jets.choose(self.beyond, tail, seen)

    def _more(self, s: Array, z: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        """The same in own parameters beside the scale."""
        return []

    def expected(self, eta: Array, extra: Array) -> Array:
        return np.maximum(np.where(self.beyond, -self.derivatives(eta, extra)[2], super().expected(eta, extra)), 1e-12)

    def on(self, data: Data) -> Family:
        """Over other rows; without limits the plain law."""
        return super().on(data) if data.low is not None else PLAIN[self.name](self.link, data)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        """Of rows beyond a limit all that lies there."""
        lower, upper = super().cdf(y, eta, extra)
        if self.data.low is None or len(y) != len(self.y):
            return lower, upper
        at = np.where(self.beyond, np.exp(self.limit) if self.logged else self.limit, y)
        edge = super().cdf(at, eta, extra)[1]
        return np.where(self.below, 0.0, np.where(self.above, edge, lower)), np.where(
            self.above, 1.0, np.where(self.below, edge, upper)
        )


class CensoredNormal(_Limited, Normal):
    """Normal, some rows known as limits."""


class CensoredLognormal(_Limited, Lognormal):
    """Lognormal, some rows known as limits."""

    logged = True


class CensoredStudent(_Limited, Student):
    """Student's t, some rows known as limits; slopes in its df by differences."""

    differenced = True

    def _tail(self, z: Array, extra: Any) -> tuple[Array, Array, Array, Array]:
        return _log_student_tail(z, float(np.exp(min(extra[1], END))))

    def _more(self, s: Array, z: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        far = [self._tail(z, extra + np.array([0.0, k * STEP]))[:3] for k in (-2, -1, 1, 2)]
        one, two, three = ((a - 8.0 * b + 8.0 * c - d) / (12.0 * STEP) for a, b, c, d in zip(*far))
        return [(one, self.sign * two / s, three / s**2)]


PLAIN: dict[str, type[Family]] = {"gaussian": Normal, "lognormal": Lognormal, "student": Student}
CENSORED: dict[str, type[Family]] = {
    "gaussian": CensoredNormal,
    "lognormal": CensoredLognormal,
    "student": CensoredStudent,
}


def _log_normal_tail(z: Array) -> tuple[Array, Array, Array, Array]:
    """log Phi and its three derivatives."""
    value = np.asarray(special.log_ndtr(z))
    ratio = np.exp(-0.5 * z**2 - value) / np.sqrt(2.0 * np.pi)
    first = -ratio * (z + ratio)
    return value, ratio, first, -first * (z + ratio) - ratio * (1.0 + first)


def _log_student_tail(z: Array, nu: float) -> tuple[Array, Array, Array, Array]:
    """The logarithm of Student's distribution function and its three derivatives; of nearly normal tails that of a normal (Abramowitz & Stegun 26.7.8)."""
    if nu > NORMAL:
        turn = (1.0 - 0.25 / nu) * (1.0 + 0.5 * z**2 / nu) ** -1.5
        f0, f1, f2, f3 = _log_normal_tail(z * (1.0 - 0.25 / nu) / np.sqrt(1.0 + 0.5 * z**2 / nu))
        return f0, f1 * turn, f2 * turn**2, f3 * turn**3
    d = nu + z**2
    tail = 0.5 * special.betainc(0.5 * nu, 0.5, nu / d)  # smooth in nu to the last digit
    p = np.maximum(np.where(z < 0, tail, 1.0 - tail), 1e-300)
    density = np.exp(gamma_step(nu)[0] - 0.5 * np.log(nu * np.pi) - (nu + 1) / 2 * np.log1p(z**2 / nu))
    slope = -(nu + 1.0) * z / d * density
    bend = density * (((nu + 1.0) * z / d) ** 2 - (nu + 1.0) / d + 2.0 * (nu + 1.0) * z**2 / d**2)
    one = density / p
    two = slope / p - one**2
    return np.log(p), one, two, bend / p - 3.0 * one * slope / p + 2.0 * one**3
