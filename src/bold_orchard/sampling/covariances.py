"""Covariances of effects as the sampler moves in them: logarithms of SDs, and correlations without bounds.

Correlations come from canonical partial ones p = tanh(z), row by row of the Cholesky factor (Lewandowski, Kurowicka & Joe 2009), under
which the LKJ density has a closed form.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import accumulate, pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.sampling.laws import Law

Array = NDArray[Any]
SMALL = 0.1  # of its start, an SD that the likelihood puts at zero
MOST_TIED = 0.95  # correlations at which a chain starts at most


def consecutive(sizes: Iterable[int], start: int = 0) -> list[slice]:
    """Slices of these sizes, one after the other."""
    ends = list(accumulate(sizes, initial=start))
    return [slice(a, b) for a, b in pairwise(ends)]


@dataclass(frozen=True)
class Covariance:
    """One clause: ``kind``, its ``k`` effects, the laws of its SDs (one each, or one shared) and of its correlations.

    ``pairs`` (i, j), i < j, are the correlations that are reported; ``pair_laws`` holds laws of single correlations by (i, j), i > j. ``one`` tells that
    one SD is reported for all its effects.
    """

    kind: str
    k: int
    sd_laws: tuple[Law, ...]
    eta: float
    pair_laws: Mapping[tuple[int, int], Law]
    pairs: tuple[tuple[int, int], ...]
    fixed: Array | None = None
    one: bool = False

    @property
    def size(self) -> int:
        """Coordinates z."""
        if self.kind == "given":
            return 0
        if self.kind == "identity" or (self.kind == "exchangeable" and self.k == 1):
            return 1
        if self.kind == "exchangeable":
            return 2
        return self.k + (self.k * (self.k - 1) // 2 if self.kind == "unstructured" else 0)

    def start(self, covariance: Array, typical: Array) -> Array:
        """z of a covariance (k, k), moved inside where it stands at an edge; ``typical`` (k,) are SDs that would be large."""
        sd = np.sqrt(np.maximum(np.diag(covariance), 0.0))
        sd = np.where(sd > 1e-3 * SMALL * typical, sd, SMALL * typical)
        if self.kind == "given":
            return np.zeros(0)
        if self.kind == "identity":
            return np.array([np.log(sd.mean())])
        with np.errstate(all="ignore"):
            r = np.clip(covariance / np.outer(sd, sd), -MOST_TIED, MOST_TIED)
        np.fill_diagonal(r, 1.0)
        if self.kind == "exchangeable":
            if self.k == 1:
                return np.log(sd)
            low = -1.0 / (self.k - 1)
            share = np.clip((r[0, 1] - low) / (1.0 - low), 0.02, 0.98)
            return np.array([np.log(sd.mean()), np.log(share / (1 - share))])
        if self.kind != "unstructured":
            return np.log(sd)
        values, vectors = np.linalg.eigh(r)
        r = vectors * np.maximum(values, 1e-2) @ vectors.T
        root = np.sqrt(np.diag(r))
        low_r = np.linalg.cholesky(r / np.outer(root, root))
        out = list(np.log(sd))
        for i in range(1, self.k):
            left = 1.0
            for j in range(i):
                p = np.clip(low_r[i, j] / np.sqrt(left), -MOST_TIED, MOST_TIED)
                out.append(np.arctanh(p))
                left *= 1.0 - p**2
        return np.array(out)

    def at(self, z: Array) -> tuple[Array, Array, float, Array]:
        """A factor L (k, k) of the covariance, dL/dz (size, k, k), the log prior density of z, its gradient (size,)."""
        made = {"given": self._given, "identity": self._identity, "exchangeable": self._exchangeable}.get(
            self.kind, self._free
        )
        return made(z)

    def _given(self, z: Array) -> tuple[Array, Array, float, Array]:
        assert self.fixed is not None
        return self.fixed, np.zeros((0, self.k, self.k)), 0.0, np.zeros(0)

    def _sd(self, law: Law, z: float) -> tuple[float, float, float]:
        """SD, and log density and slope of its logarithm."""
        sd = math.exp(min(z, 700.0))
        value, slope = law.density(sd)
        return sd, value + z, slope * sd + 1.0

    def _identity(self, z: Array) -> tuple[Array, Array, float, Array]:
        sd, value, slope = self._sd(self.sd_laws[0], float(z[0]))
        whole = sd * np.eye(self.k)
        return whole, whole[None], value, np.array([slope])

    def _exchangeable(self, z: Array) -> tuple[Array, Array, float, Array]:
        if self.k == 1:
            return self._identity(z)
        k = self.k
        sd, value, slope = self._sd(self.sd_laws[0], float(z[0]))
        low, share = -1.0 / (k - 1), 1.0 / (1.0 + np.exp(-z[1]))
        r, turn = low + (1.0 - low) * share, (1.0 - low) * share * (1.0 - share)
        one, whole = 1.0 - r, 1.0 + (k - 1) * r
        mean = np.full((k, k), 1.0 / k)
        factor = sd * (np.sqrt(one) * (np.eye(k) - mean) + np.sqrt(whole) * mean)
        change = sd * turn * (-0.5 / np.sqrt(one) * (np.eye(k) - mean) + 0.5 * (k - 1) / np.sqrt(whole) * mean)
        prior = (self.eta - 1.0) * ((k - 1) * np.log(one) + np.log(whole)) + np.log(turn)
        d_prior = (self.eta - 1.0) * turn * (-(k - 1) / one + (k - 1) / whole) + 1.0 - 2.0 * share
        for law in self.pair_laws.values():
            more, d_more = law.density(r)
            prior, d_prior = prior + more, d_prior + d_more * turn
        return factor, np.array([factor, change]), value + float(prior), np.array([slope, float(d_prior)])

    def _free(self, z: Array) -> tuple[Array, Array, float, Array]:
        """SDs and partial correlations one by one: they are few, and plain numbers are quicker than arrays of them."""
        k, zs, value = self.k, z.tolist(), 0.0
        gradient, factor, changes = [0.0] * len(zs), np.zeros((k, k)), np.zeros((len(zs), k, k))
        at = k
        for i, law in enumerate(self.sd_laws):
            sd, more, gradient[i] = self._sd(law, zs[i])
            value += more
            left = 1.0
            for j in range(i) if self.kind == "unstructured" else ():
                p = math.tanh(zs[at + j])
                rest = max(1.0 - p * p, 1e-300)
                gradient[at + j] = -p * (k - 1 - i + 2.0 * self.eta + (i - 1 - j))
                value += math.log(rest) + 0.5 * math.log(left)
                root = sd * math.sqrt(left)
                factor[i, j] = p * root
                changes[at + j, i, j] = rest * root
                left *= rest
            factor[i, i] = sd * math.sqrt(left)
            if i and self.kind == "unstructured":
                value += 0.5 * (k - 1 - i + 2.0 * self.eta - 2.0) * math.log(left)
                for j in range(i):
                    changes[at + j, i, j + 1 : i + 1] = -math.tanh(zs[at + j]) * factor[i, j + 1 : i + 1]
                at += i
            changes[i, i] = factor[i]
        slopes = np.array(gradient)
        if self.pair_laws:
            value += self._of_pairs(factor, changes, slopes)
        return factor, changes, value, slopes

    def _of_pairs(self, factor: Array, changes: Array, gradient: Array) -> float:
        """Log densities of single correlations; their slopes join the gradient."""
        sd, value, k = np.sqrt((factor**2).sum(axis=1)), 0.0, self.k
        low, moved = factor / sd[:, None], changes / sd[:, None]
        moved[:k] = 0.0  # a correlation does not depend on the SDs
        for (i, j), law in self.pair_laws.items():
            more, slope = law.density(float(low[i] @ low[j]))
            value += more
            gradient += slope * (moved[:, i] @ low[j] + moved[:, j] @ low[i])
        return value

    def drawn(self, rng: np.random.Generator) -> Array:
        """z drawn from the prior; raises OrchardError where that is not proper, or names single correlations."""
        if self.kind == "given":
            return np.zeros(0)
        sds = [law.drawn(rng) for law in self.sd_laws]
        if not np.isfinite(sds).all() or self.pair_laws:
            raise OrchardError("the prior cannot be drawn from: give every SD a proper law, and correlations lkj(...)")
        out = [np.log(np.maximum(np.abs(sds), 1e-300))]
        if self.kind == "exchangeable" and self.k > 1:
            one, whole = (
                rng.gamma(1.0 + (self.eta - 1.0) * (self.k - 1)),
                rng.gamma(self.eta),
            )  # a beta law of the share
            out.append(np.array([np.log(max(whole, 1e-300)) - np.log(max(one, 1e-300))]))
        if self.kind == "unstructured":
            parts = []
            for i in range(1, self.k):
                for j in range(i):
                    b = self.eta + (self.k - 2 - j) / 2.0
                    parts.append(np.arctanh(np.clip(2.0 * rng.beta(b, b) - 1.0, -1 + 1e-12, 1 - 1e-12)))
            out.append(np.array(parts))
        return np.concatenate(out)


def block_factor(parts: Sequence[tuple[slice, Array]], size: int) -> Array:
    """Factors of the clauses of one block side by side, (size, size)."""
    out = np.zeros((size, size))
    for at, factor in parts:
        out[at, at] = factor
    return out


def reported(covariance: Any, z: Array) -> list[float]:
    """SDs, then correlations, of a clause's covariance."""
    if covariance.kind == "given":
        return []
    low = covariance.at(z)[0]
    g = low @ low.T
    sd = np.sqrt(np.diag(g))
    if covariance.one:
        return [float(sd[0])]
    return [*sd.tolist(), *(float(g[i, j] / (sd[i] * sd[j])) for i, j in covariance.pairs)]
