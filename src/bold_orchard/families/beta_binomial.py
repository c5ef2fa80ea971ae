"""Successes of trials that vary more than binomial ones: every row has a probability of its own, beta around the mean."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Data, Family, Part
from bold_orchard.families.drawing import beta_shares
from bold_orchard.families.jets import Value
from bold_orchard.families.links import LINKS
from bold_orchard.families.rises import digamma_rise, log_choose, log_rise
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
RUN_AWAY = float(np.log(1e6))  # phi from which rows vary no more than binomial ones
TINY = 1e-18  # of a probability that falls from here on, and of all beyond it


class BetaBinomial(Family):
    """Mean mu = logistic(eta) of m trials, Var(y) = m mu (1 - mu) (1 + (m - 1) / (1 + phi)); the extra is log phi (Skellam 1948)."""

    name = "beta-binomial"
    law = r"\operatorname{BetaBinomial}(\mu_{@}, \phi)"
    links = ("logit",)
    reads = "two levels"
    measure = "trials"
    chances = True
    wants_trials = True
    limits = ("binomial",)
    extra_names = ("log precision",)
    parts = (Part("spread", 0, -1.0),)
    own = (
        OwnParameter(
            "dispersion",
            "phi, variance = n p (1 - p) (1 + (n - 1)/(1 + phi))",
            lambda x: float(np.exp(x)),
            gone="successes vary no more than binomial ones, so phi has run away",
            symbol=r"\phi",
        ),
    )

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        m = np.ones_like(self.y) if data.trials is None else np.asarray(data.trials, dtype=float)
        self.m: Array = np.broadcast_to(m, self.y.shape)
        self.constant = log_choose(self.m, self.y)

    def start(self) -> tuple[Array, Array]:
        p = (self.y + 0.5) / (self.m + 1.0)
        mean = float(self.y.sum() / self.m.sum())
        excess = float(((self.y - self.m * mean) ** 2).sum() / max((self.m * mean * (1 - mean)).sum(), 1e-12))
        rho = np.clip((excess - 1.0) / max(float(self.m.mean()) - 1.0, 1.0), 0.01, 0.5)
        return special.logit(p), np.array([np.log(1.0 / rho - 1.0)])

    def _parts(self, eta: Array, extra: Array) -> tuple[Any, ...]:
        """phi, mu, mu (1 - mu), and the rises of digamma and its slopes from a to a + y and from b to b + m - y."""
        phi, mu = np.exp(extra[0]), np.clip(special.expit(eta), 1e-12, 1 - 1e-12)
        a, b = mu * phi, (1.0 - mu) * phi
        rises = [(digamma_rise(k, a, self.y), digamma_rise(k, b, self.m - self.y)) for k in range(3)]
        return phi, mu, mu * (1.0 - mu), rises

    def value(self, eta: Array, extra: Array) -> Array:
        phi, mu = np.exp(extra[0]), np.clip(special.expit(eta), 1e-12, 1 - 1e-12)
        a, b = mu * phi, (1.0 - mu) * phi
        made = log_rise(a, self.y) + log_rise(b, self.m - self.y) - log_rise(phi + np.zeros_like(a), self.m)
        return np.asarray(self.weights * (made + self.constant))

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        phi, mu, v, ((f0, g0), (f1, g1), (f2, g2)) = self._parts(eta, extra)
        one, two, three = phi * (f0 - g0), phi**2 * (f1 + g1), phi**3 * (f2 - g2)
        tilt, w = 1.0 - 2.0 * mu, self.weights
        d2 = two * v**2 + one * v * tilt
        d3 = three * v**3 + 3.0 * two * v**2 * tilt + one * v * (1.0 - 6.0 * v)
        return self.value(eta, extra), w * one * v, w * d2, w * d3

    def expected(self, eta: Array, extra: Array) -> Array:
        v = special.expit(eta) * special.expit(-eta)
        return np.maximum(self.weights * self.m * v / (1.0 + (self.m - 1.0) / (1.0 + np.exp(extra[0]))), 1e-12)

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        phi, mu, v, ((f0, g0), (f1, g1), (f2, g2)) = self._parts(eta, extra)
        rest, tilt, w = 1.0 - mu, 1.0 - 2.0 * mu, self.weights * phi
        value = mu * f0 + rest * g0 - digamma_rise(0, phi + np.zeros_like(mu), self.m)
        one = f0 - g0 + phi * (mu * f1 - rest * g1)
        two = 2.0 * phi * (f1 + g1) + phi**2 * (mu * f2 + rest * g2)
        return [(w * value, w * one * v, w * (two * v**2 + one * v * tilt))]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        phi = jets.exp(extra[0])
        a, b = jets.expit(eta) * phi, jets.expit(-eta) * phi
        made = jets.rise(a, self.y) + jets.rise(b, self.m - self.y) - jets.rise(phi, self.m)
        return self.weights * (made + self.constant)

    def lost(self, extra: Array) -> NDArray[np.bool_]:
        return np.asarray(extra > RUN_AWAY)

    def variance(self, eta: Array, extra: Array) -> Array:
        p = self.mean(eta, extra)
        return np.asarray(self.m * p * (1 - p) * (1.0 + (self.m - 1.0) / (1.0 + np.exp(extra[0]))))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        p, phi = self.mean(eta, extra), np.exp(extra[0])
        m = np.broadcast_to(self.m.astype(np.int64), eta.shape)
        return rng.binomial(m, beta_shares(p * phi, (1 - p) * phi, rng)).astype(float)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        """Sums of the probabilities on the shorter side of y, each from the one before it by their ratio."""
        phi, mu = np.exp(extra[0]), self.mean(eta, extra)
        y, m, a, b = np.broadcast_arrays(y, self.m, mu * phi, (1.0 - mu) * phi)
        own = np.exp(log_choose(m, y) + log_rise(a, y) + log_rise(b, m - y) - log_rise(a + b, m))
        down = y <= m * mu
        shorter = np.where(down, _beyond(y, m, a, b, own), _beyond(m - y, m, b, a, own))
        below = np.where(down, shorter, 1.0 - own - shorter)
        return np.clip(below, 0.0, 1.0), np.clip(below + own, 0.0, 1.0)

    def latent_variance(self, eta: Array, extra: Array) -> float:
        """Of the logit link's law, and of the rows' own probabilities by the delta method."""
        mean = self.mean(eta, extra)
        return float(LINKS["logit"].latent_variance or 0.0) + float(
            1.0 / (mean * (1.0 - mean) * (1.0 + np.exp(extra[0])))
        )


def _beyond(y: Array, m: Array, a: Array, b: Array, own: Array) -> Array:
    """The probability of fewer than y successes, ``own`` being that of y."""
    total, p, at = np.zeros(np.shape(y)), np.array(own), np.array(y, dtype=float)
    left = np.flatnonzero(at > 0)
    while len(left):
        k = at[left]
        p[left] *= k * (b[left] + m[left] - k) / ((m[left] - k + 1.0) * (a[left] + k - 1.0))
        total[left] += p[left]
        at[left] = k - 1.0
        left = left[(k > 1.0) & ((p[left] > TINY) | (a[left] < 1.0))]
    return total
