"""Continuous outcomes: gamma and gaussian with a log link, beta with a logit link."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families.base import Family

Array = NDArray[Any]
TOP = 700.0


class Gamma(Family):
    """Shape a, mean mu = exp(eta): l = a log a - a eta + (a - 1) log y - a y / mu - log Gamma(a); the extra is log a."""

    name = "gamma"
    links = ("log",)
    extra_names = ("log shape",)

    def start(self) -> tuple[Array, Array]:
        squared = float(self.y.var() / self.y.mean() ** 2)
        return np.log(self.y), np.array([-np.log(np.clip(squared, 1e-3, 20.0))])

    def _shape(self, extra: Array) -> Array:
        return np.asarray(np.exp(extra[0]) * self.weights)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        a, part = self._shape(extra), self.y * np.exp(np.minimum(-eta, TOP))
        value = a * (np.log(a) - eta - part) + (a - 1.0) * np.log(self.y) - special.gammaln(a)
        return value, a * (part - 1.0), -a * part, a * part

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        a, part = self._shape(extra), self.y * np.exp(np.minimum(-eta, TOP))
        value = np.log(a) + 1.0 - eta + np.log(self.y) - part - special.digamma(a)
        return [(a * value, a * (part - 1.0), -a * part)]

    def mean(self, eta: Array) -> Array:
        return np.exp(np.minimum(eta, TOP))

    mean_slope = mean

    def dispersion(self, extra: Array) -> float:
        return float(np.exp(-extra[0]))

    def variance(self, eta: Array, extra: Array) -> Array:
        return np.asarray(self.mean(eta) ** 2 / self._shape(extra))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        a = self._shape(extra)
        return rng.gamma(a, self.mean(eta) / a)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        a = self._shape(extra)
        p = np.asarray(special.gammainc(a, a * y / self.mean(eta)))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(special.polygamma(1, np.exp(extra[0])))


class LogGaussian(Family):
    """Normal around mu = exp(eta) with SD sigma; the extra is log sigma."""

    name = "gaussian"
    links = ("log",)
    extra_names = ("log sigma",)

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

    def mean(self, eta: Array) -> Array:
        return np.exp(np.minimum(eta, TOP))

    mean_slope = mean

    def dispersion(self, extra: Array) -> float:
        return float(np.exp(2.0 * extra[0]))

    def variance(self, eta: Array, extra: Array) -> Array:
        return np.asarray(np.broadcast_to(np.exp(2.0 * extra[0]) / self.weights, np.shape(eta)))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        return np.asarray(self.mean(eta) + np.sqrt(self.variance(eta, extra)) * rng.standard_normal(np.shape(eta)))

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        p = np.asarray(special.ndtr((y - self.mean(eta)) / np.sqrt(self.variance(eta, extra))))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(np.log1p(np.exp(2.0 * extra[0]) / self.mean(eta) ** 2))


class Beta(Family):
    """Mean mu = logistic(eta), precision phi: y ~ Beta(mu phi, (1 - mu) phi); the extra is log phi (Ferrari & Cribari-Neto 2004)."""

    name = "beta"
    links = ("logit",)
    extra_names = ("log precision",)

    def start(self) -> tuple[Array, Array]:
        m, v = float(self.y.mean()), float(self.y.var())
        return special.logit(self.y), np.array([np.log(np.clip(m * (1 - m) / v - 1.0, 0.5, 1e4))])

    def _parts(self, eta: Array, extra: Array) -> tuple[Array, ...]:
        phi, mu = np.exp(extra[0]), np.clip(special.expit(eta), 1e-12, 1 - 1e-12)
        a, b = mu * phi, (1.0 - mu) * phi
        away = special.logit(self.y) - special.digamma(a) + special.digamma(b)
        return phi, mu, a, b, away, mu * (1.0 - mu)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        phi, mu, a, b, away, v = self._parts(eta, extra)
        w, tilt = self.weights, 1.0 - 2.0 * mu
        value = special.gammaln(phi) - special.gammaln(a) - special.gammaln(b)
        value = value + (a - 1.0) * np.log(self.y) + (b - 1.0) * np.log1p(-self.y)
        t = special.polygamma(1, a) + special.polygamma(1, b)
        t_slope = phi * v * (special.polygamma(2, a) - special.polygamma(2, b))
        d2 = -(phi**2) * t * v**2 + phi * away * v * tilt
        d3 = -(phi**2) * (t_slope * v**2 + 3.0 * t * v**2 * tilt) + phi * away * (v * tilt**2 - 2.0 * v**2)
        return w * value, w * phi * away * v, w * d2, w * d3

    def expected(self, eta: Array, extra: Array) -> Array:
        phi, _, a, b, _, v = self._parts(eta, extra)
        return np.asarray(self.weights * phi**2 * (special.polygamma(1, a) + special.polygamma(1, b)) * v**2)

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        phi, mu, a, b, away, v = self._parts(eta, extra)
        w, tilt = self.weights * phi, 1.0 - 2.0 * mu
        t1, t2 = special.polygamma(1, a), special.polygamma(1, b)
        value = special.digamma(phi) - mu * special.digamma(a) - (1 - mu) * special.digamma(b)
        value = value + mu * np.log(self.y) + (1 - mu) * np.log1p(-self.y)
        shift = away - phi * (mu * t1 - (1 - mu) * t2)
        turned = mu * special.polygamma(2, a) + (1 - mu) * special.polygamma(2, b)
        d2 = -(v**2) * (2.0 * phi * (t1 + t2) + phi**2 * turned) + v * tilt * shift
        return [(w * value, w * v * shift, w * d2)]

    def mean(self, eta: Array) -> Array:
        return np.asarray(special.expit(eta))

    def mean_slope(self, eta: Array) -> Array:
        p = special.expit(eta)
        return np.asarray(p * (1 - p))

    def dispersion(self, extra: Array) -> float:
        return float(np.exp(extra[0]))

    def variance(self, eta: Array, extra: Array) -> Array:
        p = self.mean(eta)
        return np.asarray(p * (1 - p) / (1.0 + np.exp(extra[0])))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        p, phi = self.mean(eta), np.exp(extra[0])
        return np.clip(rng.beta(p * phi, (1 - p) * phi), 1e-12, 1 - 1e-12)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        p, phi = self.mean(eta), np.exp(extra[0])
        at = np.asarray(special.betainc(p * phi, (1 - p) * phi, y))
        return at, at

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(np.pi**2 / 3)
