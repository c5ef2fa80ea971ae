"""0/1, two-level and successes-of-trials outcomes, by logit, probit or complementary log-log."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families.base import Data, Family
from bold_orchard.families.links import LINKS
from bold_orchard.families.rises import log_choose

Array = NDArray[Any]


class Binomial(Family):
    """y successes of m trials (1 without trials): l = y log p + (m - y) log(1 - p) + log C(m, y)."""

    name = "binomial"
    law = r"\operatorname{Bernoulli}(\mu_{@})"
    links = ("logit", "probit", "cloglog")
    reads = "two levels"
    measure = "trials"
    chances = separable = True

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.m: Array | float = 1.0 if data.trials is None else data.trials
        m = np.broadcast_to(np.asarray(self.m, dtype=float), self.y.shape)
        self.constant: Array | float = 0.0
        if data.trials is not None:
            self.constant = log_choose(m, self.y)

    def start(self) -> tuple[Array, Array]:
        p = (self.y + 0.5) / (self.m + 1.0)
        return LINKS[self.link].inverse(p), np.zeros(0)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        if self.link == "logit":
            return self._logit(eta)
        yes, no = _PARTS[self.link](eta)
        w, y, rest = self.weights, self.y, self.m - self.y
        parts = [y * a + rest * b for a, b in zip(yes, no)]
        return w * (parts[0] + self.constant), w * parts[1], w * parts[2], w * parts[3]

    def _logit(self, eta: Array) -> tuple[Array, Array, Array, Array]:
        return self._logit_value(eta), *self._logit_higher(eta)

    def _logit_higher(self, eta: Array) -> tuple[Array, Array, Array]:
        d1, d2, p = self._logit_slopes(eta)
        p *= -2.0
        p += 1.0
        p *= d2
        return d1, d2, p

    def higher(self, eta: Array, extra: Array) -> tuple[Array, Array, Array]:
        if self.link != "logit":
            return super().higher(eta, extra)
        with np.errstate(over="ignore"):
            return self._logit_higher(eta)

    def _logit_value(self, eta: Array) -> Array:
        softplus = np.abs(eta)
        np.negative(softplus, out=softplus)
        np.exp(softplus, out=softplus)
        np.log1p(softplus, out=softplus)
        softplus += np.maximum(eta, 0.0)
        value = self.y * eta
        value -= softplus if self.data.trials is None else self.m * softplus
        if self.data.trials is not None:
            value += self.constant
        return value if self.data.weights is None else np.asarray(self.data.weights * value)

    def value(self, eta: Array, extra: Array) -> Array:
        return self._logit_value(eta) if self.link == "logit" else super().value(eta, extra)

    def _logit_slopes(self, eta: Array) -> tuple[Array, Array, Array]:
        p = np.negative(eta)
        np.exp(p, out=p)
        p += 1.0
        np.reciprocal(p, out=p)
        d2 = p - 1.0
        d2 *= p
        if self.data.trials is None:
            d1 = self.y - p
        else:
            d1, d2 = self.y - self.m * p, self.m * d2
        if self.data.weights is not None:
            d1, d2 = self.data.weights * d1, self.data.weights * d2
        return d1, d2, p

    def slopes(self, eta: Array, extra: Array) -> tuple[Array, Array]:
        if self.link != "logit":
            return super().slopes(eta, extra)
        with np.errstate(over="ignore"):
            return self._logit_slopes(eta)[:2]

    def variance(self, eta: Array, extra: Array) -> Array:
        p = self.mean(eta, extra)
        return np.asarray(self.m * p * (1 - p))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        m = np.broadcast_to(np.asarray(self.m, dtype=np.int64), eta.shape)
        return rng.binomial(m, self.mean(eta, extra)).astype(float)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        m, p = np.broadcast_to(np.asarray(self.m, dtype=float), y.shape), self.mean(eta, extra)
        whole = y >= m
        upper = np.where(whole, 1.0, special.betainc(np.where(whole, 1.0, m - y), y + 1.0, 1.0 - p))
        lower = np.where(y <= 0, 0.0, special.betainc(m - y + 1.0, np.maximum(y, 1.0), 1.0 - p))
        return lower, upper

    def one_sided(self, y: Array) -> tuple[Array, Array]:
        m = np.broadcast_to(np.asarray(self.m, dtype=float), self.y.shape)[: len(y)]
        return y == m, y == 0

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(LINKS[self.link].latent_variance or 0.0)


def _log_normal_cdf(x: Array) -> tuple[Array, Array, Array, Array]:
    """log Phi and its three derivatives."""
    value = special.log_ndtr(x)
    ratio = np.exp(-0.5 * x**2 - value) / np.sqrt(2.0 * np.pi)
    first = -ratio * (x + ratio)
    second = -first * (x + ratio) - ratio * (1.0 + first)
    return value, ratio, first, second


def _probit(eta: Array) -> tuple[tuple[Array, ...], tuple[Array, ...]]:
    a, b = _log_normal_cdf(eta), _log_normal_cdf(-eta)
    return a, (b[0], -b[1], b[2], -b[3])


def _cloglog(eta: Array) -> tuple[tuple[Array, ...], tuple[Array, ...]]:
    """log p with p = 1 - exp(-mu), mu = exp(eta); its slope is q = mu / (exp(mu) - 1)."""
    mu = np.exp(np.minimum(eta, 700.0))
    q = np.where(mu > 700.0, 0.0, mu / np.expm1(np.minimum(mu, 700.0)))
    turn = 1.0 - mu - q
    first = q * turn
    second = first * turn - q * (mu + first)
    with np.errstate(divide="ignore"):
        log_p = np.where(mu < 1e-12, eta, np.log(-np.expm1(-mu)))
    return (log_p, q, first, second), (-mu, -mu, -mu, -mu)


_PARTS = {"probit": _probit, "cloglog": _cloglog}
