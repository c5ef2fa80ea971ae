"""The Laplace approximation of a generalized mixed model, its exact gradient, and the mode it stands on.

With u = Lambda v, v ~ N(0, I), the joint -log density is f = -sum l(eta) + |v|^2 / 2; at its minimum v^,

    deviance = -2 sum l + |v|^2 + log|A|,   A = I + Lambda' Z'WZ Lambda,   W = -l''(eta)

(Tierney & Kadane 1986; Breslow & Clayton 1993), all constants of l included. Everything is maximised jointly: the parameters
are the working coefficients, theta of all units, then the family's own. The gradient follows the mode by implicit
differentiation: A dv^ = -d(df/dv).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance import Structure
from bold_orchard.crossproducts.elimination import Eliminated, eliminate
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.substitution import scores
from bold_orchard.crossproducts.weighted import Weighted
from bold_orchard.families import Family
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.likelihood.laplace.point import LaplacePoint

Array = NDArray[Any]
MOST_INNER = 60
MOST_IDLE = 4  # steps that do not shrink, after which the mode is as close as rounding lets it be
CLOSE, NEAR = 1e-5, 0.1
RUN_AWAY = float(np.log(1e5))
Effects = dict[int, Array]


@dataclass
class Mode:
    """The inner minimum at one point: effects ``v`` per unit (k, levels), the rows' derivatives there (l itself NaN where it
    was not asked for), and how close it was sought."""

    v: Effects
    eta: Array
    rows: tuple[Array, ...]
    products: CrossProducts
    eliminated: Eliminated
    close: float


@dataclass
class Laplace:
    """parameters -> ``LaplacePoint``. ``offset`` (n,) in the order of ``rows``; remembers the last mode to start from."""

    rows: Weighted
    family: Family
    offset: Array | None = None
    last: Effects | None = field(default=None, repr=False)
    own_rows: tuple[Array, Array] | None = field(default=None, repr=False)

    @cached_property
    def frame(self) -> Criterion:
        """The layout of units and structures, as the Gaussian criterion has it."""
        return Criterion(self.rows.frame, False)

    @property
    def products(self) -> CrossProducts:
        return self.rows.frame

    @property
    def structures(self) -> list[Structure]:
        return self.frame.structures

    @property
    def p(self) -> int:
        return len(self.rows.x)

    @cached_property
    def theta(self) -> slice:
        return slice(self.p, self.p + self.frame.n_theta)

    @cached_property
    def slices(self) -> list[slice]:
        """Where each unit's theta stand."""
        return [slice(s.start + self.p, s.stop + self.p) for s in self.frame.slices]

    @cached_property
    def extra(self) -> slice:
        return slice(self.theta.stop, self.theta.stop + self.family.n_extra)

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        parts = [s.bounded for s in self.structures]
        inner = np.concatenate([np.zeros(0, dtype=bool), *parts])
        return np.concatenate([np.zeros(self.p, bool), inner, np.zeros(self.family.n_extra, bool)]).astype(bool)

    @property
    def walls(self) -> NDArray[np.bool_]:
        return np.zeros(len(self.bounded), dtype=bool)

    def held(self, parameters: Array) -> NDArray[np.bool_]:
        """Parameters run to a limit where nothing depends on them any more: a theta of counts no wider than Poisson."""
        out = np.zeros(len(parameters), dtype=bool)
        if self.family.name == "negative-binomial":
            out[self.extra] = parameters[self.extra] > RUN_AWAY
        return out

    def signs(self, parameters: Array) -> Array:
        signs = np.ones(len(parameters))
        for structure, at in zip(self.structures, self.slices):
            signs[at] = structure.signs(parameters[at])
        return signs

    def factors(self, parameters: Array) -> list[Array]:
        return [s.factor(parameters[at]) for s, at in zip(self.structures, self.slices)]

    def at(self, parameters: Array, close: float = CLOSE) -> LaplacePoint:
        """``close`` is the longest step of an effect after which the mode counts as found."""
        parameters = np.asarray(parameters, dtype=float)
        with np.errstate(all="ignore"):
            return LaplacePoint(self, parameters, self.mode(parameters, close))

    def linear(self, parameters: Array) -> Array:
        """X b + offset, (n,)."""
        fixed = parameters[: self.p] @ self.rows.x if self.p else np.zeros(self.rows.frame.n)
        return np.asarray(fixed if self.offset is None else fixed + self.offset)

    def moved(self, factors: list[Array], v: Effects) -> Effects:
        """u = T v in the user's numbering, known covariances between levels included."""
        out = {}
        for f, factor in enumerate(factors):
            mix = self.rows.units[f].mix
            out[f] = factor @ v[f] if mix is None else (factor @ v[f]) @ mix.T
        return out

    def mode(self, parameters: Array, close: float = CLOSE) -> Mode:
        """Newton's method for all units at once, steps halved unit by unit where they do not lower f.

        With ``close`` infinite the effects last found are taken as they are.
        """
        factors, extra, fixed = self.factors(parameters), parameters[self.extra], self.linear(parameters)
        v = self.last or {f: np.zeros((len(t), self.rows.units[f].levels)) for f, t in enumerate(factors)}
        within = self.rows.spread(self.moved(factors, v)) if factors else np.zeros_like(fixed)
        near, before, last, idle = False, None, np.inf, 0
        for _ in range(MOST_INNER if factors and np.isfinite(close) else 0):
            target = self._newton(factors, within, fixed + within, extra, near)
            step = {f: target[f] - v[f] for f in v}
            longest = max(float(np.abs(d).max()) for d in step.values())
            if not np.isfinite(longest):
                raise np.linalg.LinAlgError("the inner step does not exist")
            near, idle = longest < NEAR, idle + 1 if longest > 0.7 * last else 0
            last = longest
            if near and idle > MOST_IDLE:  # steps of rounding only
                break
            if near:  # so near that the quadratic model holds
                v, within = target, self.rows.spread(self.moved(factors, target))
                if longest < close:
                    break
            else:
                here = v
                v, within, before = self._halved(factors, extra, fixed, v, step, within, before)
                if v is here:  # no part of the step lowers f: as close as rounding lets it be
                    break
        self.last = v
        eta, rows = fixed + within, np.empty((4, len(fixed)))
        followed = bool(factors) and not np.isfinite(close)

        def source(at: slice) -> tuple[Array, Array]:
            family = self.pieces[at.start]
            if followed:  # only slopes are asked for there
                rows[0, at] = np.nan
                rows[1:, at] = family.higher(eta[at], extra)
            else:
                rows[:, at] = family.derivatives(eta[at], extra)
            return -rows[2, at], rows[1, at]

        products = self.rows.made_by(source)
        return Mode(v, eta, tuple(rows), products, eliminate(products, factors), close)

    @cached_property
    def pieces(self) -> dict[int, Family]:
        """The family over the rows of each piece, by its first row."""
        return {rows.start: self.family.on(self.family.data.take(rows)) for rows, _ in self.rows.pieces}

    def _newton(self, factors: list[Array], within: Array, eta: Array, extra: Array, near: bool) -> Effects:
        """v after a full step, in the user's numbering; away from the end expected weights where the observed are not positive."""

        def source(at: slice) -> tuple[Array, Array]:
            family = self.pieces[at.start]
            d1, d2 = family.slopes(eta[at], extra)
            weight = np.negative(d2)
            if not near and not weight.min() > 0:
                weight = np.where(weight > 0, weight, family.expected(eta[at], extra))
            response = weight * within[at]
            response += d1
            return weight, response

        products = self.rows.made_by(source)
        kept, _ = scores(eliminate(products, factors), np.ones(1))
        return self.unscored(products, factors, kept)

    def _halved(
        self, factors: list[Array], extra: Array, fixed: Array, v: Effects, step: Effects, within: Array,
        known: Array | None,
    ) -> tuple[Effects, Array, Array]:  # fmt: skip
        """The step, halved in each independent group until f falls there; also f there (``known`` is f before, if made)."""
        before = self._objective(self.family.value(fixed + within, extra), v) if known is None else known
        part = np.ones(len(before))
        for _ in range(30):
            moved = {f: step[f] * part[self._groups[1][f]] for f in step}
            trial = {f: v[f] + moved[f] for f in v}
            ahead = within + self.rows.spread(self.moved(factors, moved))
            after = self._objective(self.family.value(fixed + ahead, extra), trial)
            worse = ~(after <= before + 1e-10 * (1.0 + np.abs(before)))
            if not worse.any():
                return trial, ahead, after
            part = part * np.where(worse, 0.5, 1.0)
        return v, within, before

    def unscored(self, products: CrossProducts, factors: list[Array], kept: Effects) -> Effects:
        """T' (z - C K z) per unit in the user's numbering of levels."""
        out = {}
        for s in products.stages:
            out[s.unit] = np.empty_like(kept[s.unit])
            out[s.unit][:, s.order] = factors[s.unit].T @ kept[s.unit]
        for t in products.tails:
            out[t.unit] = factors[t.unit].T @ kept[t.unit]
        return out

    @cached_property
    def _groups(self) -> tuple[Array, dict[int, Array]]:
        """Rows' independent group (the coarsest unit of the chain; one group where units cross), and levels' group."""
        rows = self.rows
        if rows.frame.tails or not rows.chain:
            return np.zeros(rows.frame.n, dtype=np.intp), {
                f: np.zeros(u.levels, dtype=np.intp) for f, u in enumerate(rows.units)
            }
        top = rows.units[rows.chain[-1]].codes
        above = {}
        for f, unit in enumerate(rows.units):
            above[f] = np.zeros(unit.levels, dtype=np.intp)
            above[f][unit.codes] = top
        return top, above

    def _objective(self, loglik: Array, v: Effects) -> Array:
        """f of each independent group."""
        rows, above = self._groups
        if not np.isfinite(loglik.sum()):
            loglik = np.where(np.isfinite(loglik), loglik, -1e300)
        total = -np.bincount(rows, loglik)
        for f, values in v.items():
            total = total + np.bincount(above[f], 0.5 * (values**2).sum(axis=0), minlength=len(total))
        return np.asarray(total)
