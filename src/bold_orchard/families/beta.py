"""Shares strictly between 0 and 1: the beta family."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Family, Part, Support
from bold_orchard.families.drawing import beta_shares
from bold_orchard.families.jets import Value
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]


def _mend(y: Array, name: str) -> str:
    """Percentages want a division, a few exact ends a shift (Smithson & Verkuilen 2006)."""
    if y.min() >= 0 and 1 < y.max() <= 100:
        return f"percentages are divided by 100: write calc({name} / 100) = ..."
    if y.min() < 0 or y.max() > 1:
        return "another family has such values; of counts out of a total write successes of trials"
    n = len(y)
    return (
        f"exact ends are moved in by half a row's worth: write calc(({name} * {n - 1} + 0.5) / {n}) = ...; "
        "of counts out of a total write successes of trials"
    )


class Beta(Family):
    """Mean mu = logistic(eta), precision phi: y ~ Beta(mu phi, (1 - mu) phi); the extra is log phi (Ferrari & Cribari-Neto 2004)."""

    name = "beta"
    law = r"\operatorname{Beta}(\phi \mu_{@}, \phi (1 - \mu_{@}))"
    links = ("logit",)
    support = Support(lambda y: (y > 0) & (y < 1), "between 0 and 1, neither of them included,", _mend)
    extra_names = ("log precision",)
    parts = (Part("spread", 0, -1.0),)
    own = (OwnParameter("dispersion", "precision phi", lambda x: float(np.exp(x)), symbol=r"\phi"),)

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

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        phi = jets.exp(extra[0])
        a, b = jets.expit(eta) * phi, jets.expit(-eta) * phi
        made = jets.log_gamma(phi) - jets.log_gamma(a) - jets.log_gamma(b)
        return self.weights * (made + (a - 1.0) * np.log(self.y) + (b - 1.0) * np.log1p(-self.y))

    def variance(self, eta: Array, extra: Array) -> Array:
        p = self.mean(eta, extra)
        return np.asarray(p * (1 - p) / (1.0 + np.exp(extra[0])))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        p, phi = self.mean(eta, extra), np.exp(extra[0])
        return beta_shares(p * phi, (1 - p) * phi, rng)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        p, phi = self.mean(eta, extra), np.exp(extra[0])
        at = np.asarray(special.betainc(p * phi, (1 - p) * phi, y))
        return at, at

    def latent_variance(self, eta: Array, extra: Array) -> float:
        """By the delta method, since the logit link has no law of its own here: Var(y) / (d mean / d eta)^2."""
        mean = self.mean(eta, extra)
        return float(1.0 / (mean * (1.0 - mean) * (1.0 + np.exp(extra[0]))))
