"""Unordered categories: baseline-category logits, one linear predictor for each level but the baseline.

Agresti (2013), Categorical Data Analysis, chapter 8; Hartzel, Agresti & Caffo (2001), Statistical Modelling 1, 81-102.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.families import jets
from bold_orchard.families.base import Data
from bold_orchard.families.joint import Several, clamped

Array = NDArray[Any]


class Nominal(Several):
    """Levels are coded 0, 1, ... from the baseline, whose predictor is 0: l = eta_y - log(1 + sum exp eta)."""

    name = "nominal"
    law = r"\operatorname{Categorical}(\mu_{@})"
    links = ("logit",)
    reads = "levels"
    measure = "levels"
    chances = True

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.code = np.asarray(data.y, dtype=np.intp)

    def start(self) -> tuple[Array, Array]:
        share = np.bincount(self.code, minlength=len(self.predictors) + 1) / len(self.code)
        eta = np.log(np.maximum(share[1:], 1e-6) / max(share[0], 1e-6))
        return np.repeat(eta[:, None], len(self.code), axis=1), np.zeros(0)

    def probabilities(self, eta: Array) -> Array:
        """Of every level, the baseline's first, (P + 1, ..., n)."""
        top = np.maximum(eta.max(axis=0), 0.0)
        parts = np.exp(np.concatenate([-top[None], eta - top]))
        return np.asarray(parts / parts.sum(axis=0))

    def value(self, eta: Array, extra: Array) -> Array:
        top = np.maximum(eta.max(axis=0), 0.0)
        total = top + np.log(np.exp(-top) + np.exp(eta - top).sum(axis=0))
        own = np.where(self.code > 0, np.take_along_axis(eta, self._place(eta), axis=0)[0], 0.0)
        return np.asarray(self.weights * (own - total))

    def _place(self, eta: Array) -> Array:
        return np.broadcast_to(np.maximum(self.code - 1, 0), (1, *np.shape(eta)[1:]))

    def _seen(self, eta: Array) -> Array:
        own = np.arange(1, len(eta) + 1).reshape(-1, *(1,) * (np.ndim(eta) - 1))
        return (self.code == own).astype(float)

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        d1, d2 = self.slopes(eta, extra)
        p, same, w = self.probabilities(eta)[1:], np.eye(len(eta)), self.weights
        two = p[:, None] * p[None]
        each = np.einsum("ij,j...,k...->ijk...", same, p, p)
        cumulant = np.einsum("ij,jk,k...->ijk...", same, same, p) + 2.0 * two[:, :, None] * p
        cumulant -= each + each.swapaxes(1, 2) + np.moveaxis(each, 2, 0)
        return self.value(eta, extra), d1, d2, -w * cumulant

    def slopes(self, eta: Array, extra: Array) -> tuple[Array, Array]:
        p, w = self.probabilities(eta)[1:], self.weights
        d2 = p[:, None] * p[None]
        for k, own in enumerate(p):
            d2[k, k] -= own
        return w * (self._seen(eta) - p), w * d2

    def jet(self, eta: Array, extra: Any, order: int = 3) -> jets.Jet:
        return jets.Jet(*self.derivatives(eta, np.asarray(extra)), order)

    def expected(self, eta: Array, extra: Array) -> Array:
        return clamped(-self.slopes(eta, extra)[1])

    def mean(self, eta: Array, extra: Array) -> Array:
        """The probability of each level but the baseline, (P, ..., n)."""
        return self.probabilities(eta)[1:]

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        upto = np.cumsum(self.probabilities(eta), axis=0)
        return np.minimum((rng.random(np.shape(eta)[1:]) > upto).sum(axis=0), len(eta)).astype(float)

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        """Of the codes, in their order."""
        p = self.probabilities(eta)
        upto, own = np.cumsum(p, axis=0), np.asarray(y, dtype=np.intp)[None]
        end = np.take_along_axis(upto, own, axis=0)[0]
        return end - np.take_along_axis(p, own, axis=0)[0], end


@cache
def nominal_of(predictors: tuple[str, ...]) -> type[Nominal]:
    """The family whose levels beside the baseline are ``predictors``."""
    return type("NominalOfLevels", (Nominal,), {"predictors": predictors})
