"""Graded outcomes: cumulative logit or probit, P(Y <= j) = F(threshold_j - eta) (McCullagh 1980)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families.base import Data, Family
from bold_orchard.families.links import LINKS

Array = NDArray[Any]
FAR = 40.0  # distance from a threshold beyond which the tail of either curve underflows
Curve = tuple[Callable[[Array], Array], Callable[[Array], tuple[Array, Array, Array]]]


def _logistic_slopes(x: Array) -> tuple[Array, Array, Array]:
    """f, f', f''."""
    p = special.expit(x)
    f = p * special.expit(-x)
    tilt = 1.0 - 2.0 * p
    return f, f * tilt, f * (tilt**2 - 2.0 * f)


def _normal_slopes(x: Array) -> tuple[Array, Array, Array]:
    f = np.exp(-0.5 * x**2) / np.sqrt(2.0 * np.pi)
    return f, -x * f, (x**2 - 1.0) * f


CURVES: dict[str, Curve] = {"logit": (special.expit, _logistic_slopes), "probit": (special.ndtr, _normal_slopes)}


class Ordinal(Family):
    """``y`` holds codes 0..c-1; extras are the first threshold and the logarithms of the steps to the next ones."""

    name = "ordinal"
    links = ("logit", "probit")
    reads = "grades"
    measure = "grades"
    intercept = False
    chances = separable = True

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.code = data.y.astype(np.intp)
        self.grades = int(self.code.max()) + 1 if len(self.code) else 2
        self.extra_names = tuple(f"threshold {j + 1}" for j in range(self.grades - 1))

    def on(self, data: Data) -> Family:
        made = type(self)(self.link, data)
        made.grades, made.extra_names = self.grades, self.extra_names
        return made

    @classmethod
    def written(cls, link: str) -> tuple[str, str]:
        return "", LINKS[link].written.replace("#", r"\Pr(y_{@} \le g)")

    def thresholds(self, extra: Array) -> Array:
        return np.cumsum(np.append(extra[0], np.exp(extra[1:])))

    def thresholds_slope(self, extra: Array) -> Array:
        """d threshold_j / d extra_k, (c-1, c-1)."""
        out = np.tril(np.ones((len(extra), len(extra))))
        out[:, 1:] *= np.exp(extra[1:])
        return out

    def start(self) -> tuple[Array, Array]:
        share = np.cumsum(np.bincount(self.code, minlength=self.grades))[:-1] / len(self.code)
        back = special.logit if self.link == "logit" else special.ndtri
        cuts = back(np.clip(share, 1e-4, 1 - 1e-4))
        return np.zeros(len(self.y)), np.append(cuts[0], np.log(np.maximum(np.diff(cuts), 1e-3)))

    def _edges(self, eta: Array, extra: Array) -> tuple[Array, Array]:
        cuts = np.concatenate([[-np.inf], self.thresholds(extra), [np.inf]])
        upper, lower = cuts[self.code + 1] - eta, cuts[self.code] - eta
        return np.clip(upper, -FAR, FAR), np.clip(lower, -FAR, FAR)

    def _difference(self, upper: Array, lower: Array) -> Array:
        """F(upper) - F(lower), from the nearer tail."""
        curve, high = CURVES[self.link][0], upper + lower > 0
        return np.maximum(curve(np.where(high, -lower, upper)) - curve(np.where(high, -upper, lower)), 1e-300)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        upper, lower = self._edges(eta, extra)
        d = self._difference(upper, lower)
        n1, n2, n3 = ((a - b) / d for a, b in zip(*map(CURVES[self.link][1], (upper, lower))))
        w = self.weights
        return w * np.log(d), -w * n1, w * (n2 - n1**2), w * (-n3 + 3.0 * n1 * n2 - 2.0 * n1**3)

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        upper, lower = self._edges(eta, extra)
        d = self._difference(upper, lower)
        (a0, a1, a2), (b0, b1, b2) = ([v / d for v in CURVES[self.link][1](x)] for x in (upper, lower))
        n1, n2 = a0 - b0, a1 - b1
        turn = 2.0 * n1**2 - n2
        tops = (a0, -a1 + n1 * a0, a2 - 2.0 * n1 * a1 + turn * a0)
        bottoms = (-b0, b1 - n1 * b0, -b2 + 2.0 * n1 * b1 - turn * b0)
        slope, w = self.thresholds_slope(extra), self.weights
        out: list[tuple[Array, Array, Array]] = []
        for k in range(len(extra)):
            column = np.concatenate([[0.0], slope[:, k], [0.0]])
            up, down = column[self.code + 1], column[self.code]
            first, second, third = (w * (up * t + down * b) for t, b in zip(tops, bottoms))
            out.append((first, second, third))
        return out

    def probabilities(self, eta: Array, extra: Array) -> Array:
        """P(Y = j), (..., n, grades)."""
        cuts = self.thresholds(extra)
        below = CURVES[self.link][0](cuts - np.asarray(eta)[..., None])
        below = np.concatenate([np.zeros((*below.shape[:-1], 1)), below, np.ones((*below.shape[:-1], 1))], axis=-1)
        return np.asarray(np.diff(below, axis=-1))

    def mean(self, eta: Array, extra: Array) -> Array:
        """The latent mean itself: grades have no mean of their own."""
        return eta

    def mean_slope(self, eta: Array, extra: Array) -> Array:
        return np.ones_like(eta)

    def one_sided(self, y: Array) -> tuple[Array, Array]:
        return y == y.max(), y == 0

    def recentred(self, extra: Array, by: float) -> Array:
        out = extra.copy()
        out[0] += by
        return out

    def stretched(self, extra: Array, factor: float) -> Array:
        return np.concatenate([extra[:1] * factor, extra[1:] + np.log(factor)])

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        below = np.cumsum(self.probabilities(eta, extra), axis=-1)[..., :-1]
        return (rng.random(np.shape(eta))[..., None] > below).sum(axis=-1).astype(float)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        below = np.cumsum(self.probabilities(eta, extra), axis=-1)
        code = y.astype(np.intp)
        rows = np.arange(len(code))
        return np.where(code > 0, below[rows, np.maximum(code - 1, 0)], 0.0), below[rows, code]

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return float(LINKS[self.link].latent_variance or 0.0)
