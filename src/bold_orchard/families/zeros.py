"""Counts with zeros of their own: a count law that is mixed with zeros (zero-inflated) or cut above them (hurdle).

Lambert (1992), Technometrics 34, 1-14; Mullahy (1986), Journal of Econometrics 33, 341-365. The chance of the zeros is one
number, its logit the last of the family's own parameters. Both take l from the count law's own l = v(eta) through a function
h of v, so the derivatives follow from those of v by the chain rule.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families import jets
from bold_orchard.families.base import Data, Family, Part
from bold_orchard.families.jets import Value
from bold_orchard.families.links import TOP
from bold_orchard.families.negative_binomial import NegativeBinomial
from bold_orchard.families.poisson import Poisson
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
Parts = tuple[Array, Array, Array]
NO_ZEROS = -14.0  # logit of a chance of zeros of 1e-6: no table's number of zeros shows it
NO_MORE = "there are no more zeros than the law of the counts expects, so the chance of further ones has run to zero"
LOWEST = -100.0  # eta below which a count above zero is always one, and powers of its chance would overflow


def through(h: Parts, d: tuple[Array, Array, Array]) -> Parts:
    """The first three derivatives of h(v(eta)): ``h`` has those of h at v, ``d`` those of v in eta (Faa di Bruno)."""
    (h1, h2, h3), (d1, d2, d3) = h, d
    return h1 * d1, h1 * d2 + h2 * d1**2, h1 * d3 + 3.0 * h2 * d1 * d2 + h3 * d1**3


def through_own(h: Parts, d: tuple[Array, Array], own: Parts) -> Parts:
    """The slopes in a parameter t of h(v), of its first and of its second derivative in eta; ``own`` has those of v itself."""
    (h1, h2, h3), (d1, d2), (t0, t1, t2) = h, d, own
    return h1 * t0, h1 * t1 + h2 * t0 * d1, h1 * t2 + h2 * (t0 * d2 + 2.0 * d1 * t1) + h3 * t0 * d1**2


class WithZeros(Poisson):
    """What both have in common; ``count`` is the law of the counts."""

    count: ClassVar[type[Poisson]] = Poisson
    zeros_meaning: ClassVar[str]
    beyond: ClassVar[str] = ""

    def __init_subclass__(cls) -> None:
        n = len(cls.count.extra_names)
        cls.extra_names = (*cls.count.extra_names, "logit zeros")
        cls.parts = (*cls.count.parts, Part("zeros", n, link="logit"))
        cls.own = (
            *cls.count.own,
            OwnParameter("zero_chance", cls.zeros_meaning, lambda x: float(special.expit(x)), n, NO_MORE, r"\omega"),
        )

    @classmethod
    def written(cls, link: str) -> tuple[str, str]:
        count, left = cls.count.written(link)
        rest = count + cls.beyond
        return r"\begin{cases} 0 & \text{with chance } \omega \\ " + rest + r" & \text{else} \end{cases}", left

    def __init__(self, link: str, data: Data) -> None:
        Family.__init__(self, link, data)
        self.counts = self.count(link, Data(self.y))
        self.zero = self.y == 0

    def start(self) -> tuple[Array, Array]:
        above = self.y[~self.zero]
        typical, none = float(above.mean()), float(np.clip(self.zero.mean(), 0.02, 0.98))
        inner = self.count(self.link, Data(above if len(above) > 1 else self.y)).start()[1]
        return np.log(np.where(self.zero, typical, self.y)), np.append(inner, special.logit(none / 2.0))

    def lost(self, extra: Array) -> NDArray[np.bool_]:
        return np.append(self.counts.lost(extra[:-1]), extra[-1] < NO_ZEROS)

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return self.counts.latent_variance(eta, extra[:-1])

    def expected(self, eta: Array, extra: Array) -> Array:
        more = special.expit(-extra[-1]) * self.counts.expected(eta, extra[:-1])
        return np.maximum(self.weights * more, 1e-12)


class ZeroInflated(WithZeros):
    """With chance pi the row is a zero for reasons of its own, else a count of the law: P(0) = pi + (1 - pi) f(0).

    With z = logit pi and q = P(a count of the law | y): l = log(1 - pi) + v where y > 0, so h' = 1; where y = 0,
    logit q = v - z, h' = q, h'' = q (1 - q), h''' = q (1 - q)(1 - 2 q).
    """

    name = "zero-inflated-poisson"
    zeros_meaning = "beside those that the counts have by their own law"
    describes = "mean of the counts, zeros of their own left out,"
    limits: ClassVar[tuple[str, ...]] = ("poisson",)

    def _mixed(self, v: Array, extra: Array) -> Parts:
        q = np.where(self.zero, special.expit(v - extra[-1]), 1.0)
        return q, q * (1.0 - q), q * (1.0 - q) * (1.0 - 2.0 * q)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        v, *d = self.counts.derivatives(eta, extra[:-1])
        z, w = extra[-1], self.weights
        counted = special.log_expit(-z) + v
        value = np.where(self.zero, np.logaddexp(special.log_expit(z), counted), counted)
        d1, d2, d3 = through(self._mixed(v, extra), (d[0], d[1], d[2]))
        return w * value, w * d1, w * d2, w * d3

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        v, d1, d2, _ = self.counts.derivatives(eta, extra[:-1])
        h, w = self._mixed(v, extra), self.weights
        own = [through_own(h, (d1, d2), t) for t in self.counts.extras(eta, extra[:-1])]
        q, slope, bend = h  # dq/dz = -q (1 - q); of a count above zero 0
        own.append((1.0 - q - special.expit(extra[-1]), -slope * d1, -slope * d2 - bend * d1**2))
        return [(w * a, w * b, w * c) for a, b, c in own]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        v, z = self.counts.density(eta, extra[:-1]), extra[-1]
        return self.weights * (v - jets.softplus(z) + np.where(self.zero, 1.0, 0.0) * jets.softplus(z - v))

    def mean(self, eta: Array, extra: Array) -> Array:
        return special.expit(-extra[-1]) * self.counts.mean(eta, extra[:-1])

    def mean_slope(self, eta: Array, extra: Array) -> Array:
        return special.expit(-extra[-1]) * self.counts.mean_slope(eta, extra[:-1])

    def variance(self, eta: Array, extra: Array) -> Array:
        pi, mu = special.expit(extra[-1]), self.counts.mean(eta, extra[:-1])
        return np.asarray((1.0 - pi) * (self.counts.variance(eta, extra[:-1]) + pi * mu**2))

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        counted = self.counts.draw(eta, extra[:-1], rng)
        return np.where(rng.random(np.shape(eta)) < special.expit(extra[-1]), 0.0, counted)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        pi = special.expit(extra[-1])
        below, upto = self.counts.cdf(y, eta, extra[:-1])
        return np.where(y <= 0, 0.0, pi + (1.0 - pi) * below), pi + (1.0 - pi) * upto


class ZeroInflatedNegativeBinomial(ZeroInflated):
    """The same of negative-binomial counts."""

    name = "zero-inflated-negative-binomial"
    count = NegativeBinomial
    limits = ("zero-inflated-poisson", "negative-binomial")


class Hurdle(WithZeros):
    """Any count at all has chance 1 - pi, and its size the law cut above zero: P(y) = (1 - pi) f(y) / (1 - f(0)), y > 0.

    With v0 = log f(0) and a = f(0) / (1 - f(0)): h(v0) = -log(1 - exp v0), h' = a, h'' = a (1 + a),
    h''' = a (1 + a)(1 + 2 a), added to the law's own l where y > 0; where y = 0 nothing depends on eta.
    """

    name = "hurdle-poisson"
    beyond = r" \text{ above zero}"
    zeros_meaning = "all zeros; the coefficients are of the counts above zero"
    limits: ClassVar[tuple[str, ...]] = ()
    describes = "mean that the counts would have without the cut at zero,"

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.nothing = self.count(link, Data(np.zeros(len(self.y))))

    def start(self) -> tuple[Array, Array]:
        eta, extra = super().start()
        return eta, np.append(extra[:-1], special.logit(np.clip(self.zero.mean(), 1e-6, 1.0 - 1e-6)))

    def _cut(self, v: Array) -> Parts:
        a = 1.0 / np.expm1(np.minimum(-v, TOP))
        return a, a * (1.0 + a), a * (1.0 + a) * (1.0 + 2.0 * a)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        eta, z = np.clip(eta, LOWEST, TOP), extra[-1]
        v, *d = self.counts.derivatives(eta, extra[:-1])
        v0, *d0 = self.nothing.derivatives(eta, extra[:-1])
        h = through(self._cut(v0), (d0[0], d0[1], d0[2]))
        counted = special.log_expit(-z) + v - np.log(-np.expm1(v0))
        parts = [np.where(self.zero, 0.0, own + cut) for own, cut in zip(d, h)]
        w = self.weights
        return w * np.where(self.zero, special.log_expit(z), counted), w * parts[0], w * parts[1], w * parts[2]

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        eta, w = np.clip(eta, LOWEST, TOP), self.weights
        v0, d1, d2, _ = self.nothing.derivatives(eta, extra[:-1])
        h, out = self._cut(v0), []
        for own, none in zip(self.counts.extras(eta, extra[:-1]), self.nothing.extras(eta, extra[:-1])):
            cut = through_own(h, (d1, d2), none)
            a, b, c = (np.where(self.zero, 0.0, w * (x + y)) for x, y in zip(own, cut))
            out.append((a, b, c))
        still = np.zeros(np.shape(eta))
        return [*out, (w * (self.zero - special.expit(extra[-1])) + still, still, still)]

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        z, above = extra[-1], np.where(self.zero, 0.0, 1.0)
        cut = self.counts.density(eta, extra[:-1]) - jets.log_less_exp(self.nothing.density(eta, extra[:-1]))
        return self.weights * (above * cut + (1.0 - above) * z - jets.softplus(z))

    def one_sided(self, y: Array) -> tuple[Array, Array]:
        """Ones only fall; a zero says nothing of eta and holds no direction back, so it counts as both."""
        return y == 0, y <= 1

    def mean(self, eta: Array, extra: Array) -> Array:
        mu, above = self._above(eta, extra)
        return np.asarray(special.expit(-extra[-1]) * mu / above)

    def _above(self, eta: Array, extra: Array) -> tuple[Array, Array]:
        """mu and 1 - f(0), from log f(0) so that small chances keep their digits."""
        v0 = self._log_zero(eta, extra)
        return np.exp(np.clip(eta, LOWEST, TOP)), -np.expm1(v0)

    def _log_zero(self, eta: Array, extra: Array) -> Array:
        flat = np.atleast_1d(np.clip(eta, LOWEST, TOP))
        law = self.count(self.link, Data(np.zeros(flat.shape[-1])))
        return law.value(flat, extra[:-1]).reshape(np.shape(eta))

    def mean_slope(self, eta: Array, extra: Array) -> Array:
        mu, above = self._above(eta, extra)
        flat = np.atleast_1d(np.clip(eta, LOWEST, TOP))
        fall = self.count(self.link, Data(np.zeros(flat.shape[-1]))).slopes(flat, extra[:-1])[0].reshape(np.shape(eta))
        return np.asarray(special.expit(-extra[-1]) * (mu / above) * (1.0 + (1.0 - above) / above * fall))

    def variance(self, eta: Array, extra: Array) -> Array:
        mu, above = self._above(eta, extra)
        rest, mean = special.expit(-extra[-1]), self.mean(eta, extra)
        return np.asarray(rest * (self.counts.variance(eta, extra[:-1]) + mu**2) / above - mean**2)

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        """By the inverse of the cut law's distribution function, halving; where no zero is cut away, of the whole law."""
        _, above = self._above(eta, extra)
        at = 1.0 - above * rng.random(np.shape(eta))
        whole = above == 1.0
        counted = np.maximum(self.counts.draw(eta, extra[:-1], rng), 1.0) if np.any(whole) else np.ones(np.shape(eta))
        if not np.all(whole):
            counted = np.where(whole, counted, self._least(np.where(whole, 0.0, at), eta, extra))
        return np.where(rng.random(np.shape(eta)) < special.expit(extra[-1]), 0.0, counted)

    def _least(self, at: Array, eta: Array, extra: Array) -> Array:
        """The least count above zero whose distribution function reaches ``at``, at most 2^1000."""
        low, high = np.zeros(np.shape(eta)), np.ones(np.shape(eta))
        for _ in range(1000):
            if not np.any(short := self.counts.cdf(high, eta, extra[:-1])[1] < at):
                break
            low, high = np.where(short, high, low), np.where(short, 2.0 * high, high)
        while np.any(high - low > np.maximum(1.0, 1e-15 * high)):
            middle = np.floor((low + high) / 2.0)
            short = self.counts.cdf(middle, eta, extra[:-1])[1] < at
            low, high = np.where(short, middle, low), np.where(short, high, middle)
        return high

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        pi = special.expit(extra[-1])
        _, above = self._above(eta, extra)
        below, upto = self.counts.cdf(np.maximum(y, 0.0), eta, extra[:-1])
        share = [np.clip((p - (1.0 - above)) / above, 0.0, 1.0) for p in (below, upto)]
        return np.where(y <= 0, 0.0, pi + (1.0 - pi) * share[0]), pi + (1.0 - pi) * share[1]


class HurdleNegativeBinomial(Hurdle):
    """The same of negative-binomial counts."""

    name = "hurdle-negative-binomial"
    count = NegativeBinomial
    limits = ("hurdle-poisson",)
