"""Successes of trials that vary more than binomial ones: every row has a probability of its own, beta around the mean."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families.base import Data, Family
from bold_orchard.families.drawing import beta_shares
from bold_orchard.families.links import LINKS
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
RUN_AWAY = float(np.log(1e6))  # phi from which rows vary no more than binomial ones
LARGE = 1e4  # from which differences of digammas would lose more digits than their series


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
        self.constant = special.gammaln(self.m + 1) - special.gammaln(self.y + 1) - special.gammaln(self.m - self.y + 1)

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
        rises = [(_rise(k, a, self.y), _rise(k, b, self.m - self.y)) for k in range(3)]
        return phi, mu, mu * (1.0 - mu), rises

    def value(self, eta: Array, extra: Array) -> Array:
        phi, mu = np.exp(extra[0]), np.clip(special.expit(eta), 1e-12, 1 - 1e-12)
        a, b = mu * phi, (1.0 - mu) * phi
        made = _log_rise(a, self.y) + _log_rise(b, self.m - self.y) - _log_rise(phi + np.zeros_like(a), self.m)
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
        value = mu * f0 + rest * g0 - _rise(0, phi + np.zeros_like(mu), self.m)
        one = f0 - g0 + phi * (mu * f1 - rest * g1)
        two = 2.0 * phi * (f1 + g1) + phi**2 * (mu * f2 + rest * g2)
        return [(w * value, w * one * v, w * (two * v**2 + one * v * tilt))]

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
        """Sums of the probabilities of fewer successes, and with as many."""
        phi, mu = np.exp(extra[0]), self.mean(eta, extra)
        a, b, m = mu * phi, (1.0 - mu) * phi, np.broadcast_to(self.m, np.shape(y))
        below, own = np.zeros(np.shape(y)), np.zeros(np.shape(y))
        base = -_log_rise(phi + np.zeros_like(a), m)
        for k in range(int(np.max(y, initial=0.0)) + 1):
            have = k <= y
            choose = special.gammaln(m + 1) - special.gammaln(k + 1) - special.gammaln(np.maximum(m - k, 0) + 1)
            p = np.exp(
                choose + _log_rise(a, np.full(np.shape(y), float(k))) + _log_rise(b, np.maximum(m - k, 0.0)) + base
            )
            below += np.where(k < y, p, 0.0)
            own = np.where(have & (k == y), p, own)
        return np.clip(below, 0.0, 1.0), np.clip(below + own, 0.0, 1.0)

    def latent_variance(self, eta: Array, extra: Array) -> float:
        """Of the logit link's law, and of the rows' own probabilities by the delta method."""
        mean = self.mean(eta, extra)
        return float(LINKS["logit"].latent_variance or 0.0) + float(
            1.0 / (mean * (1.0 - mean) * (1.0 + np.exp(extra[0])))
        )


def _log_rise(a: Array, y: Array) -> Array:
    """log Gamma(a + y) - log Gamma(a), by its series where a is so large that digits would cancel."""
    end = a + y
    with np.errstate(all="ignore"):
        series = (end - 0.5) * np.log1p(y / a) + y * (np.log(a) - 1.0) - y / (12.0 * a * end)
        exact = special.gammaln(end) - special.gammaln(a)
    return np.asarray(np.where(a > LARGE, series, exact))


def _rise(k: int, a: Array, y: Array) -> Array:
    """The k-th derivative of digamma at a + y less that at a, by its series where a is large."""
    end = a + y
    if k == 0:
        series = np.log1p(y / a) + 0.5 * y / (a * end) + y * (a + end) / (12.0 * (a * end) ** 2)
        return np.asarray(np.where(a > LARGE, series, special.digamma(end) - special.digamma(a)))
    back, ahead = 1.0 / a, 1.0 / end
    less = -y / (a * end)  # 1/end - 1/a, without cancelling
    if k == 1:
        series = less * (1.0 + 0.5 * (ahead + back) + (ahead**2 + ahead * back + back**2) / 6.0)
    else:
        series = -less * (
            (ahead + back) + (ahead**2 + ahead * back + back**2) + 0.5 * (ahead + back) * (ahead**2 + back**2)
        )
    return np.asarray(np.where(a > LARGE, series, special.polygamma(k, end) - special.polygamma(k, a)))
