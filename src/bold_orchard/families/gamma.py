"""Positive outcomes whose SD grows with their mean: the gamma family."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Family, Part, Support
from bold_orchard.families.drawing import LEAST
from bold_orchard.families.jets import Value
from bold_orchard.families.links import TOP
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]


def mend_positive(y: Array, name: str) -> str:
    """Zeros of a positive measurement are another question than its size."""
    if y.min() < 0:
        return "negative values are no amounts; --family gaussian takes them"
    return (
        f'a zero is no amount: leave such rows out with --where "{name} > 0" and ask apart whether there is any '
        "(--family binomial of a 0/1 column); of counts use --family poisson or negative-binomial"
    )


class Gamma(Family):
    """Shape a, mean mu = exp(eta): l = a log a - a eta + (a - 1) log y - a y / mu - log Gamma(a); the extra is log a."""

    name = "gamma"
    law = r"\operatorname{Gamma}(\text{mean } \mu_{@}, \text{ variance } \phi \mu_{@}^{2})"
    links = ("log",)
    support = Support(lambda y: y > 0, "above zero", mend_positive)
    extra_names = ("log shape",)
    parts = (Part("spread", 0, -1.0),)
    own = (
        OwnParameter(
            "dispersion", "1/shape, the squared coefficient of variation", lambda x: float(np.exp(-x)), symbol=r"\phi"
        ),
    )

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

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        a = jets.exp(extra[0]) * self.weights
        part = self.y * jets.exp(-eta)
        return a * (jets.log(a) - eta - part) + (a - 1.0) * np.log(self.y) - jets.log_gamma(a)

    def variance(self, eta: Array, extra: Array) -> Array:
        return np.asarray(self.mean(eta, extra) ** 2 / self._shape(extra))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        a = self._shape(extra)
        return np.maximum(rng.gamma(a, self.mean(eta, extra) / a), LEAST)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        a = self._shape(extra)
        p = np.asarray(special.gammainc(a, a * y / self.mean(eta, extra)))
        return p, p

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(special.polygamma(1, np.exp(extra[0])))
