"""The integral over one unit's standardised spread eta, for all units at once."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.hermite import rule

Array = NDArray[Any]
STEPS, CLOSE = 60, 1e-10  # of Newton's method for the modes; a handful are usual
FARTHEST = 2.0  # longest step in eta: it is a standard normal before the rows speak


@dataclass(frozen=True)
class Integrand:
    """Sums of each unit in the eigenvectors of B'AB: see ``criterion``.

    ``d``, ``c1`` = U'B'g and ``c2`` = U'B'Aa are (K - 1, J); ``q``, ``cross`` = g'a, ``square`` = a'Aa and ``n`` are (J,);
    ``along`` is a (k,), ``axes`` U (K - 1, K - 1, J), ``basis`` B U (k, K - 1, J).
    """

    q: Array
    cross: Array
    square: Array
    n: Array
    d: Array
    c1: Array
    c2: Array
    along: Array
    axes: Array
    basis: Array
    tau: float

    @staticmethod
    def of(a: Array, g: Array, q: Array, n: Array, along: Array, others: Array, tau: float) -> Integrand:
        across = np.einsum("ijl,j->il", a, along)
        inner = np.einsum("im,ijl,jn->lmn", others, a, others, optimize=True)
        d, u = np.linalg.eigh(inner)
        basis = np.einsum("im,lmn->inl", others, u)
        c1, c2 = np.einsum("inl,il->nl", basis, g), np.einsum("inl,il->nl", basis, across)
        return Integrand(
            q, along @ g, along @ across, n, np.maximum(d.T, 0.0), c1, c2, along, u.transpose(1, 2, 0), basis, tau
        )

    def moved(self, g: Array, q: Array, times: int) -> Integrand:
        """The same units ``times`` over with other sums g (k, times * J) and q (times * J,)."""
        basis = np.tile(self.basis, times)
        return replace(
            self, q=q, cross=self.along @ g, square=np.tile(self.square, times), n=np.tile(self.n, times), d=np.tile(self.d, times),
            c1=np.einsum("inl,il->nl", basis, g), c2=np.tile(self.c2, times), axes=np.tile(self.axes, times), basis=basis,
        )  # fmt: skip

    def log_density(self, eta: Array) -> Array:
        """log p(y | eta) - eta^2 / 2 less its constants; ``eta`` (..., J)."""
        phi = np.exp(-2.0 * self.tau * eta)
        value = phi * (self.q - 2.0 * eta * self.cross + eta**2 * self.square) + 2.0 * self.n * self.tau * eta + eta**2
        for d, c1, c2 in zip(self.d, self.c1, self.c2):
            one = 1.0 + phi * d
            value = value - phi**2 * (c1 - eta * c2) ** 2 / one + np.log(one)
        return np.asarray(-0.5 * value)

    def slopes(self, eta: Array) -> tuple[Array, Array]:
        """First and second derivatives of ``log_density``."""
        t = self.tau
        phi = np.exp(-2.0 * t * eta)
        p1, p2 = -2.0 * t * phi, 4.0 * t * t * phi
        q, q1, q2 = self.q - 2.0 * eta * self.cross + eta**2 * self.square, -2.0 * self.cross + 2.0 * eta * self.square, 2.0 * self.square  # fmt: skip
        first = p1 * q + phi * q1 + 2.0 * self.n * t + 2.0 * eta
        second = p2 * q + 2.0 * p1 * q1 + phi * q2 + 2.0
        for d, c1, c2 in zip(self.d, self.c1, self.c2):
            one, e = 1.0 + phi * d, c1 - eta * c2
            v, v1, v2 = phi**2 / one, (2.0 * phi + phi**2 * d) / one**2, 2.0 / one**3
            first = first - (v1 * p1 * e**2 - 2.0 * v * e * c2) + d * p1 / one
            second = second - ((v2 * p1**2 + v1 * p2) * e**2 - 4.0 * v1 * p1 * e * c2 + 2.0 * v * c2**2)
            second = second + d * p2 / one - (d * p1 / one) ** 2
        return -0.5 * first, -0.5 * second

    def modes(self, start: Array | None) -> Array:
        """The largest value of each unit's density, by Newton's method with halved steps."""
        eta = np.zeros(len(self.n)) if start is None else start.copy()
        value = self.log_density(eta)
        if start is not None and not np.isfinite(value).all():
            return self.modes(None)
        for _ in range(STEPS):
            first, second = self.slopes(eta)
            step = np.clip(first / np.maximum(-second, 0.5), -FARTHEST, FARTHEST)
            for _ in range(30):
                after = self.log_density(eta + step)
                worse = ~(after >= value - 1e-12 * (1.0 + np.abs(value)))
                if not worse.any():
                    break
                step = np.where(worse, 0.5 * step, step)
            eta, value = eta + step, after
            if np.abs(step).max(initial=0.0) < CLOSE:
                break
        return eta


@dataclass(frozen=True)
class Nodes:
    """Nodes ``eta`` (nodes, J) around the ``mode`` (J,), each with its ``share`` of the unit's integral."""

    integrand: Integrand
    mode: Array
    eta: Array
    share: Array
    log_integral: Array

    @cached_property
    def phi(self) -> Array:
        return np.asarray(np.exp(-2.0 * self.integrand.tau * self.eta))

    @cached_property
    def given(self) -> tuple[Array, Array]:
        """Means and variances of zeta in its eigenvectors given eta, each (K - 1, nodes, J)."""
        i = self.integrand
        one = 1.0 + self.phi * i.d[:, None]
        return self.phi * (i.c1[:, None] - self.eta * i.c2[:, None]) / one, 1.0 / one

    @cached_property
    def effects(self) -> Array:
        """Means of u given eta, (k, nodes, J)."""
        i = self.integrand
        return np.asarray(i.along[:, None, None] * self.eta + np.einsum("knj,nqj->kqj", i.basis, self.given[0]))

    def weighted_moments(self) -> tuple[Array, Array, Array]:
        """E[phi] (J,), E[phi u] (k, J) and E[phi u u'] (k, k, J)."""
        weight, u, basis = self.share * self.phi, self.effects, self.integrand.basis
        spread = np.einsum("qj,nqj->nj", weight, self.given[1])
        square = np.einsum("qj,aqj,bqj->abj", weight, u, u, optimize=True)
        square = square + np.einsum("anj,nj,bnj->abj", basis, spread, basis, optimize=True)
        return weight.sum(axis=0), np.einsum("qj,aqj->aj", weight, u), square

    def effect_scores(self, a: Array, g: Array) -> tuple[Array, Array]:
        """E[phi (g - A u) xi'] (k, K, J) and E[(phi R(u) - n) xi'] (K, J) over xi = (eta, zeta), R the sum of squares."""
        i, weight, u = self.integrand, self.share * self.phi, self.effects
        mean, variance = self.given
        xi = np.concatenate([self.eta[None], mean])
        first = np.einsum("qj,mqj->mj", weight, xi)
        both = np.einsum("qj,aqj,mqj->amj", weight, u, xi, optimize=True)
        both[:, 1:] += i.basis * np.einsum("qj,nqj->nj", weight, variance)
        of_u = g[:, None] * first - np.einsum("abj,bmj->amj", a, both)
        rss = i.q - 2.0 * np.einsum("aj,aqj->qj", g, u) + np.einsum("abj,aqj,bqj->qj", a, u, u, optimize=True)
        rss = rss + (i.d[:, None] * variance).sum(axis=0)
        of_s = np.einsum("qj,qj,mqj->mj", self.share, self.phi * rss - i.n, xi, optimize=True)
        left = (i.c1[:, None] - self.eta * i.c2[:, None]) * variance
        of_s[1:] -= 2.0 * np.einsum("qj,nqj->nj", weight, left * variance)
        # zeta back from the eigenvectors of each unit to its own axes
        of_u[:, 1:] = np.einsum("mnj,anj->amj", i.axes, of_u[:, 1:])
        of_s[1:] = np.einsum("mnj,nj->mj", i.axes, of_s[1:])
        return of_u, of_s

    @cached_property
    def means(self) -> Array:
        """E[xi] given the rows, (K, J)."""
        mean = np.einsum("mnj,nj->mj", self.integrand.axes, np.einsum("qj,nqj->nj", self.share, self.given[0]))
        return np.concatenate([(self.share * self.eta).sum(axis=0)[None], mean])

    @cached_property
    def covariances(self) -> Array:
        """Covariance of xi given the rows, (K, K, J)."""
        mean, variance = self.given
        xi = np.concatenate([self.eta[None], np.einsum("mnj,nqj->mqj", self.integrand.axes, mean)])
        square = np.einsum("qj,aqj,bqj->abj", self.share, xi, xi, optimize=True)
        own = np.einsum("qj,nqj->nj", self.share, variance)
        square[1:, 1:] += np.einsum("mnj,nj,lnj->mlj", self.integrand.axes, own, self.integrand.axes, optimize=True)
        return np.asarray(square - np.einsum("aj,bj->abj", self.means, self.means))


def adapted(integrand: Integrand, points: int, start: Array | None) -> Nodes:
    """Gauss-Hermite nodes around every unit's mean, scaled by its SD there (Naylor & Smith 1982).

    These come from nodes around the mode, scaled by the curvature; being lopsided, a density is met better around its mean.
    """
    mode = integrand.modes(start)
    second = integrand.slopes(mode)[1]
    first = _placed(integrand, points, mode, mode, np.sqrt(2.0 / np.maximum(-second, 0.5)))
    centre = (first.share * first.eta).sum(axis=0)
    variance = (first.share * (first.eta - centre) ** 2).sum(axis=0)
    return _placed(integrand, points, mode, centre, np.sqrt(2.0 * variance))


def _placed(integrand: Integrand, points: int, mode: Array, centre: Array, width: Array) -> Nodes:
    (x,), logs = rule(points)
    eta = centre + width * x[:, None]
    terms = integrand.log_density(eta) + logs[:, None]
    top = terms.max(axis=0)
    shares = np.exp(terms - top)
    total = shares.sum(axis=0)
    log_integral = top + np.log(total) + np.log(width) - 0.5 * np.log(2 * np.pi)
    return Nodes(integrand, mode, eta, shares / total, log_integral)
