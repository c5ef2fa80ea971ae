"""Values with all their derivatives up to the third in several variables, by which a density of several linear
predictors is differentiated.

Griewank & Walther (2008), Evaluating Derivatives, chapter 13. A jet holds a value, its gradient, its Hessian and its
third derivatives; sums,
products and functions of jets are jets by the rules of Leibniz and Faa di Bruno, so that a log-density is written down
once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.families.links import TOP
from bold_orchard.families.rises import digamma_rise, log_rise

Array = NDArray[Any]
Value = Any  # a jet, an array or a number


@dataclass(frozen=True)
class Jet:
    """``value`` (..., n), ``first`` (P, ..., n), ``second`` (P, P, ..., n), ``third`` (P, P, P, ..., n); None is zero
    throughout.

    The third derivatives are carried along only up to ``order`` 3.
    """

    value: Array
    first: Array
    second: Array | None = None
    third: Array | None = None
    order: int = 3
    __array_ufunc__ = None  # an array on the left leaves the sum to the jet

    def through(self, f0: Array, f1: Array, f2: Array, f3: Array | None) -> Jet:
        """f of it, from the values of f and of its derivatives there."""
        g = self.first
        second, third = f2 * _outer(g, g), None
        if self.second is not None:
            second = second + f1 * self.second
        if self.order > 2 and f3 is not None:
            third = f3 * _outer(g, _outer(g, g))
            if self.second is not None:
                third = third + f2 * _three(g, self.second)
            if self.third is not None:
                third = third + f1 * self.third
        return Jet(f0, f1 * g, second, third, self.order)

    def __add__(self, other: Value) -> Jet:
        if not isinstance(other, Jet):
            return Jet(self.value + other, self.first, self.second, self.third, self.order)
        parts = [_sum(a, b) for a, b in ((self.second, other.second), (self.third, other.third))]
        return Jet(self.value + other.value, self.first + other.first, parts[0], parts[1], self.order)

    __radd__ = __add__

    def __mul__(self, other: Value) -> Jet:
        if isinstance(other, float) and other == 1.0:
            return self
        if not isinstance(other, Jet):
            parts = [None if d is None else other * d for d in (self.second, self.third)]
            return Jet(self.value * other, other * self.first, parts[0], parts[1], self.order)
        a, b = self, other
        second = _outer(a.first, b.first) + _outer(b.first, a.first)
        second = second + (0.0 if b.second is None else a.value * b.second)
        second = second + (0.0 if a.second is None else b.value * a.second)
        third: Array | None = None
        if self.order > 2:
            for x, y in ((a, b), (b, a)):
                third = _sum(third, None if y.second is None else _three(x.first, y.second))
                third = _sum(third, None if y.third is None else x.value * y.third)
        return Jet(a.value * b.value, a.value * b.first + b.value * a.first, second, third, self.order)

    __rmul__ = __mul__

    def __neg__(self) -> Jet:
        return self * -1.0

    def __sub__(self, other: Value) -> Jet:
        if not isinstance(other, Jet):
            return self + (-other)
        parts = [_less(a, b) for a, b in ((self.second, other.second), (self.third, other.third))]
        return Jet(self.value - other.value, self.first - other.first, parts[0], parts[1], self.order)

    def __rsub__(self, other: Value) -> Jet:
        return (-self) + other


def variables(values: Sequence[Value], order: int = 3) -> list[Jet]:
    """Independent variables, one jet each."""
    unit, depth = np.eye(len(values)), max(np.ndim(v) for v in values)
    out = []
    for k, v in enumerate(values):
        value = np.asarray(v, dtype=float)
        value = value.reshape((1,) * (depth - value.ndim) + value.shape)
        out.append(Jet(value, unit[k].reshape((-1,) + (1,) * depth), order=order))
    return out


def _sum(a: Array | None, b: Array | None) -> Array | None:
    return b if a is None else a if b is None else a + b


def _less(a: Array | None, b: Array | None) -> Array | None:
    return a if b is None else -b if a is None else a - b


def _outer(a: Array, b: Array) -> Array:
    """(P, ...) and (Q..., ...) to (P, Q..., ...): every entry of one times every entry of the other, the first index
    first."""
    return np.asarray(a[(slice(None), *(None,) * _indices(a, b))] * b[None])


def _indices(a: Array, b: Array) -> int:
    """How many indices of derivatives b has, a having one."""
    return b.ndim - a.ndim + 1


def _three(g: Array, h: Array) -> Array:
    """g_i h_jk + g_j h_ik + g_k h_ij."""
    one = _outer(g, h)
    return one + one.swapaxes(0, 1) + np.moveaxis(one, 0, 2)


# -- functions of a jet, or of a plain value


def exp(x: Value) -> Value:
    if not isinstance(x, Jet):
        return np.exp(np.minimum(x, TOP))
    e = np.exp(np.minimum(x.value, TOP))
    return x.through(e, e, e, e)


def log(x: Value) -> Value:
    if not isinstance(x, Jet):
        return np.log(x)
    i = 1.0 / x.value
    return x.through(np.log(x.value), i, -(i**2), 2.0 * i**3)


def log1p(x: Value) -> Value:
    if not isinstance(x, Jet):
        return np.log1p(x)
    i = 1.0 / (1.0 + x.value)
    return x.through(np.log1p(x.value), i, -(i**2), 2.0 * i**3)


def softplus(x: Value) -> Value:
    """log(1 + exp x)."""
    at = x.value if isinstance(x, Jet) else x
    e = np.exp(-np.abs(at))
    value = np.log1p(e) + np.maximum(at, 0.0)
    if not isinstance(x, Jet):
        return value
    p, q = _shares(at, e)
    v = p * q
    return x.through(value, p, v, v * (q - p))


def expit(x: Value) -> Value:
    if not isinstance(x, Jet):
        return special.expit(x)
    p, q = _shares(x.value, np.exp(-np.abs(x.value)))
    v = p * q
    return x.through(p, v, v * (q - p), v * (1.0 - 6.0 * v))


def _shares(x: Array, e: Array) -> tuple[Array, Array]:
    """1 / (1 + exp -x) and what is left of 1, from e = exp -|x|."""
    large, small = 1.0 / (1.0 + e), e / (1.0 + e)
    up = x >= 0
    return np.where(up, large, small), np.where(up, small, large)


def log_gamma(x: Value) -> Value:
    if not isinstance(x, Jet):
        return special.gammaln(x)
    slopes = [special.polygamma(k, x.value) for k in range(3 if x.order > 2 else 2)]
    return x.through(special.gammaln(x.value), slopes[0], slopes[1], slopes[2] if x.order > 2 else None)


def rise(x: Value, y: Array | float) -> Value:
    """log Gamma(x + y) - log Gamma(x)."""
    if not isinstance(x, Jet):
        a, b = np.broadcast_arrays(np.asarray(x, dtype=float), y)
        return log_rise(a, b)
    a, b = np.broadcast_arrays(x.value, y)
    slopes = [digamma_rise(k, a, b) for k in range(3 if x.order > 2 else 2)]
    return x.through(log_rise(a, b), slopes[0], slopes[1], slopes[2] if x.order > 2 else None)


def log_less_exp(x: Value) -> Value:
    """log(1 - exp x) for x below zero."""
    if not isinstance(x, Jet):
        return np.log(-np.expm1(x))
    a = 1.0 / np.expm1(np.minimum(-x.value, TOP))
    b = a * (1.0 + a)
    return x.through(np.log(-np.expm1(x.value)), -a, -b, -b * (1.0 + 2.0 * a))


def choose(where: Array, one: Value, other: Value) -> Value:
    """One jet where ``where`` (n,) holds, the other elsewhere."""
    if not isinstance(one, Jet) or not isinstance(other, Jet):
        return np.where(where, one, other)
    made = [
        None if a is None and b is None else np.where(where, 0.0 if a is None else a, 0.0 if b is None else b)
        for a, b in ((one.second, other.second), (one.third, other.third))
    ]
    first = np.where(where, one.first, other.first)
    return Jet(np.where(where, one.value, other.value), first, made[0], made[1], one.order)


def normal(away: Value, log_sd: Value, weights: Array | float) -> Value:
    """The log-density of a normal residual, its variance divided by the weight."""
    squared = away * away * exp(-2.0 * log_sd) * weights
    return -0.5 * squared - log_sd + 0.5 * (np.log(weights) - np.log(2.0 * np.pi))
