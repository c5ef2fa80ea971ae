"""The map from independent coordinates w to the effects of all units, u = T v:

    v = h (v^ + D (b - b^)) + m L'^-1 w,   t = s / s^,   m^2 = (1 + a) / (1 + a t^2),   h = t (1 + a) / (1 + a t^2).

A = L L' is the curvature of the joint density in v at the fit's estimates, factored along the elimination of the units: nested units
unit by unit, crossed ones densely. D follows the mode as the coefficients move. s are the diagonal of the factor of the covariance and
a = r / (1 - r), r the reliability of each effect: as s moves, m and h are what the width and the mode of v do in a normal model of
such rows, so that effects of which the rows say much stay where they are, and others shrink with s (Papaspiliopoulos, Roberts & Skold
2007). The map is affine in w; log m is its Jacobian.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import eliminate
from bold_orchard.crossproducts.stages import CrossProducts

Array = NDArray[Any]
MOST = 1.0 - 1e-9  # reliability of an effect


class Whitening:
    """``centre[f]`` (k, levels) is the mode in v, ``reliability[f]`` (k, levels) r, ``drift[f]`` (p, k, levels) the mode's slope in the
    working coefficients ``at`` (p,), ``sizes[f]`` (k,) s^.
    """

    def __init__(
        self, centre: list[Array], reliability: list[Array], drift: list[Array], at: Array, sizes: list[Array]
    ) -> None:
        self.centre, self.reliability, self.at, self.sizes = centre, reliability, at, sizes
        self.drift = [d.reshape(len(at), c.size) for d, c in zip(drift, centre)]

    def effects(self, w: list[Array], b: Array, sizes: list[Array]) -> tuple[list[Array], float, Any]:
        """v of every block (k, levels), the log Jacobian, and what ``back`` needs."""
        away, out, log, kept = b - self.at, [], 0.0, []
        for c, r, d, x, old, new in zip(self.centre, self.reliability, self.drift, self.spread(w), self.sizes, sizes):
            y, t = c + (away @ d).reshape(c.shape), (new / old)[:, None]
            a = r / (1.0 - r)
            grown = 1.0 + a * t**2
            m, h = np.sqrt((1.0 + a) / grown), t * (1.0 + a) / grown
            log += float(np.log(m).sum())
            out.append(h * y + m * x)
            kept.append((y, x, m, h, -a * t / grown, (1.0 + a) * (1.0 - a * t**2) / grown**2))
        return out, log, kept

    def back(self, d_v: list[Array], kept: Any) -> tuple[list[Array], Array, list[Array]]:
        """The gradient in w, in b and in every s from that in v, with that of the log Jacobian."""
        d_b, d_s, d_x = np.zeros(len(self.at)), [], []
        for d, g, (y, x, m, h, d_log_m, d_h), old in zip(self.drift, d_v, kept, self.sizes):
            d_s.append(((g * m * x + 1.0) * d_log_m + g * y * d_h).sum(axis=1) / old)
            d_x.append(g * m)
            d_b += d @ (g * h).ravel()
        return self.gathered(d_x), d_b, d_s

    def spread(self, w: list[Array]) -> list[Array]:
        """L'^-1 w."""
        raise NotImplementedError

    def gathered(self, d_v: list[Array]) -> list[Array]:
        """L^-1 d_v."""
        raise NotImplementedError


class ByLevel(Whitening):
    """One unit: ``root`` (levels, k, k) is a root of the covariance of each level."""

    def __init__(
        self, centre: list[Array], drift: list[Array], at: Array, root: list[Array], sizes: list[Array]
    ) -> None:
        own = [np.clip(1.0 - np.einsum("jab,jab->aj", s, s), 0.0, MOST) for s in root]
        super().__init__(centre, own, drift, at, sizes)
        self.root = root

    def spread(self, w: list[Array]) -> list[Array]:
        return [np.einsum("jab,bj->aj", s, x) for s, x in zip(self.root, w)]

    def gathered(self, d_v: list[Array]) -> list[Array]:
        return [np.einsum("jab,aj->bj", s, x) for s, x in zip(self.root, d_v)]


class ByElimination(Whitening):
    """Units as the elimination of the linear model at the mode (its ``products``) has them, with factors T."""

    def __init__(
        self,
        still: list[Array],
        drift: list[Array],
        at: Array,
        products: CrossProducts,
        factors: list[Array],
        sizes: list[Array],
    ) -> None:
        """``still`` and ``drift`` are in u."""
        backs = [np.linalg.inv(t) for t in factors]
        own = [_reliability(products, f, t) for f, t in enumerate(factors)]
        super().__init__([b @ u for b, u in zip(backs, still)], own, [b @ d for b, d in zip(backs, drift)], at, sizes)
        e = eliminate(products, factors)
        self.products, self.stages = e.products, [w.stage for w in e.works]
        q = e.products.q
        self.low, self.own, self.tail = [], [], []
        for work in e.works:
            t, k = factors[work.stage.unit], work.stage.size
            inner = np.einsum("ca,cdj,db->jab", t, work.c, t, optimize=True) + np.eye(k)
            low = np.linalg.inv(np.linalg.cholesky(inner))
            self.low.append(low)
            half = np.einsum("jab,cb,crj->arj", low, t, work.right, optimize=True)
            self.own.append({
                g: np.einsum("arj,rc->acj", half[:, at], factors[e.works[g].stage.unit]) for g, at in work.stage.slices.items()
            })  # fmt: skip
            first = half.shape[1] - len(e.products.dense)
            self.tail.append(half[:, first : first + q])
        self.tail_root = np.zeros((0, 0))
        if q:
            assert e.tail is not None
            whole = np.zeros((q, q))
            for last in e.products.tails:
                whole[last.columns, last.columns] = np.kron(factors[last.unit], np.eye(last.levels))
            inner = whole.T @ e.tail.s @ whole + np.eye(q)
            self.tail_root = np.linalg.inv(np.linalg.cholesky(inner))
            self.tail = [np.einsum("aqj,qr->arj", part, whole) for part in self.tail]

    def _tail_of(self, values: list[Array]) -> Array:
        out = np.zeros(self.products.q)
        for t in self.products.tails:
            out[t.columns] = values[t.unit].ravel()
        return out

    def spread(self, w: list[Array]) -> list[Array]:
        out: list[Array] = [np.zeros(0)] * len(w)
        tail = self.tail_root.T @ self._tail_of(w)
        for t in self.products.tails:
            out[t.unit] = tail[t.columns].reshape(t.size, t.levels)
        made: dict[int, Array] = {}
        for i in range(len(self.stages) - 1, -1, -1):
            stage = self.stages[i]
            rest = w[stage.unit][:, stage.order]
            for g, own in self.own[i].items():
                rest = rest - np.einsum("acj,cj->aj", own, stage.down(g, made[g]))
            if len(tail):
                rest = rest - np.einsum("aqj,q->aj", self.tail[i], tail)
            made[i] = np.einsum("jba,bj->aj", self.low[i], rest)
            out[stage.unit] = np.empty_like(made[i])
            out[stage.unit][:, stage.order] = made[i]
        return out

    def gathered(self, d_v: list[Array]) -> list[Array]:
        out: list[Array] = [np.zeros(0)] * len(d_v)
        left = [d_v[s.unit][:, s.order] for s in self.stages]
        tail = self._tail_of(d_v)
        for i, stage in enumerate(self.stages):
            mine = np.einsum("jab,bj->aj", self.low[i], left[i])
            for g, own in self.own[i].items():
                left[g] = left[g] - stage.up(g, np.einsum("acj,aj->cj", own, mine))
            if len(tail):
                tail = tail - np.einsum("aqj,aj->q", self.tail[i], mine)
            out[stage.unit] = np.empty_like(mine)
            out[stage.unit][:, stage.order] = mine
        tail = self.tail_root @ tail if len(tail) else tail
        for t in self.products.tails:
            out[t.unit] = tail[t.columns].reshape(t.size, t.levels)
        return out


def _reliability(products: CrossProducts, f: int, t: Array) -> Array:
    """The diagonal of I - (I + T'C_j T)^-1 of every level, (k, levels), user's numbering."""
    unit, k = products.units[f], len(t)
    c = np.empty((k, k, unit.levels))
    for s in products.stages:
        if s.unit == f:
            c[:, :, s.order] = s.c
    for own in products.tails:
        if own.unit == f:
            c[:] = np.einsum(
                "ajbj->abj", products.dense[own.columns, own.columns].reshape(k, own.levels, k, own.levels)
            )
    inner = np.einsum("ca,cdj,db->jab", t, c, t, optimize=True) + np.eye(k)
    return np.asarray(np.clip(1.0 - np.einsum("jaa->aj", np.linalg.inv(inner)), 0.0, MOST))
