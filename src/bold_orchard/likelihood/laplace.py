"""The Laplace approximation of a generalized mixed model, its exact gradient, and the mode it stands on.

With u = Lambda v, v ~ N(0, I), the joint -log density is f = -sum l(eta) + |v|^2 / 2; at its minimum v^,

    deviance = -2 sum l + |v|^2 + log|A|,   A = I + Lambda' Z'WZ Lambda,   W = -l''(eta)

(Tierney & Kadane 1986; Breslow & Clayton 1993), all constants of l included. Everything is maximised jointly: the parameters
are the working coefficients, theta of all units, then the family's own. The gradient follows the mode by implicit
differentiation: A dv^ = -d(df/dv).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance import Structure
from bold_orchard.families import Family
from bold_orchard.likelihood.elimination import Backward, Eliminated, backward, eliminate
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.likelihood.information import quadratic_forms
from bold_orchard.likelihood.products import CrossProducts
from bold_orchard.likelihood.substitution import scores, solve
from bold_orchard.likelihood.weighted import Weighted

Array = NDArray[Any]
MOST_INNER = 60
CLOSE, NEAR, STALE = 1e-5, 0.1, 0.1
Effects = dict[int, Array]


@dataclass
class Mode:
    """The inner minimum at one point: effects ``v`` per unit (k, levels), and the rows' derivatives there."""

    v: Effects
    eta: Array
    rows: tuple[Array, ...]
    products: CrossProducts
    eliminated: Eliminated


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
        near, before = False, None
        for _ in range(MOST_INNER if factors and np.isfinite(close) else 0):
            target = self._newton(factors, within, fixed + within, extra, near)
            step = {f: target[f] - v[f] for f in v}
            longest = max(float(np.abs(d).max()) for d in step.values())
            if not np.isfinite(longest):
                raise np.linalg.LinAlgError("the inner step does not exist")
            near = longest < NEAR
            if near:  # so near that the quadratic model holds
                v, within = target, self.rows.spread(self.moved(factors, target))
                if longest < close:
                    break
            else:
                v, within, before = self._halved(factors, extra, fixed, v, step, within, before)
        self.last = v
        eta, rows = fixed + within, np.empty((4, len(fixed)))

        def source(at: slice) -> tuple[Array, Array]:
            rows[:, at] = self.pieces[at.start].derivatives(eta[at], extra)
            return -rows[2, at], rows[1, at]

        products = self.rows.made_by(source)
        return Mode(v, eta, tuple(rows), products, eliminate(products, factors))

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


class LaplacePoint:
    """Everything at one point; the costly parts are made when first asked for."""

    def __init__(self, criterion: Laplace, theta: Array, mode: Mode) -> None:
        self.criterion, self.theta, self.mode = criterion, theta, mode

    @cached_property
    def factors(self) -> list[Array]:
        return self.criterion.factors(self.theta)

    @cached_property
    def deviance(self) -> float:
        mode = self.mode
        value = -2.0 * float(mode.rows[0].sum()) + sum(float((v**2).sum()) for v in mode.v.values())
        value += mode.eliminated.log_det
        return float(value) if np.isfinite(value) else np.inf

    @cached_property
    def reverse(self) -> Backward:
        return backward(self.mode.eliminated, np.zeros((1, 1)), inverses=True)

    @cached_property
    def pulls(self) -> tuple[Array, Array, Effects]:
        """Half the leverages' pull s on eta (n,), Z K Z's (n,), and a = A^-1 Lambda' Z's per unit."""
        c, mode = self.criterion, self.mode
        h = c.rows.leverage(mode.products, self.reverse)
        s = -0.5 * h * mode.rows[3]
        kept, effects = solve(mode.eliminated, c.rows.to_stages(mode.products, c.rows.pull(s)))
        across = c.rows.spread(c.rows.from_stages(mode.products, effects))
        self.leverages = h
        return s, across, c.unscored(mode.products, self.factors, kept)

    @cached_property
    def gradient(self) -> Array:
        """d deviance / d parameters."""
        with np.errstate(all="ignore"):
            return self._gradient()

    def _gradient(self) -> Array:
        c, mode, rows = self.criterion, self.mode, self.criterion.rows
        out = np.zeros(len(self.theta))
        s, across, a = self.pulls
        _, d1, d2, _ = mode.rows
        total = s - d1 + d2 * across
        out[: c.p] = rows.x @ total
        pulled, forced = self._mixed(rows.pull(total)), self._mixed(rows.pull(d1))
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            slope = pulled[f] @ mode.v[f].T + forced[f] @ a[f].T + self.reverse.slope[f] @ self.factors[f]
            out[at] = np.einsum("aij,ij->a", structure.basis, slope)
        if c.family.n_extra:
            made = c.family.extras(mode.eta, self.theta[c.extra])
            for k, (value, first, second) in enumerate(made):
                out[c.extra.start + k] = -value.sum() - 0.5 * self.leverages @ second + across @ first
        return 2.0 * out

    def _mixed(self, values: Effects) -> Effects:
        """Sums by level in the basis of v: times L for a known covariance."""
        units = self.criterion.rows.units
        return {f: x if units[f].mix is None else x @ units[f].mix for f, x in values.items()}

    def along(self, i: int) -> Callable[[float], LaplacePoint]:
        """h -> the point with parameter i moved by h, its mode followed along a straight line (good to h^2, evenly)."""
        drift = self._drift(i)

        def moved(h: float) -> LaplacePoint:
            theta = self.theta.copy()
            theta[i] += h
            kept, self.criterion.last = self.criterion.last, {f: v + h * drift[f] for f, v in self.mode.v.items()}
            made = self.criterion.at(theta, np.inf)
            self.criterion.last = kept
            return made

        return moved

    def _drift(self, i: int) -> Effects:
        """d v^ / d parameter i, from A dv = -d(df/dv): per unit (k, levels)."""
        c, mode = self.criterion, self.mode
        own = {f: np.zeros_like(v) for f, v in mode.v.items()}
        if i < c.p:
            rows = mode.rows[2] * c.rows.x[i]
        elif i < c.theta.stop:
            f = next(f for f, at in enumerate(c.slices) if at.start <= i < at.stop)
            change = c.structures[f].basis[i - c.slices[f].start]
            own[f] = change.T @ self._mixed(self.forced)[f]
            effects = {g: np.zeros_like(v) for g, v in mode.v.items()} | {
                f: change @ mode.v[f] + self.factors[f] @ own[f]
            }
            plain = [np.eye(len(t)) for t in self.factors]
            rows = mode.rows[2] * c.rows.spread(c.moved(plain, effects))
        else:
            rows = c.family.extras(mode.eta, self.theta[c.extra])[i - c.extra.start][1]
        kept, _ = solve(mode.eliminated, c.rows.to_stages(mode.products, c.rows.pull(rows)))
        return {f: own[f] + v for f, v in c.unscored(mode.products, self.factors, kept).items()}

    @cached_property
    def with_x(self) -> Eliminated:
        """The working linear model at the mode with X, eliminated."""
        c, mode = self.criterion, self.mode
        weight = -mode.rows[2]
        if not weight.min() > 0:
            weight = np.where(weight > 0, weight, c.family.expected(mode.eta, self.theta[c.extra]))
        return eliminate(c.rows.at(weight, mode.rows[1], with_x=True), self.factors)

    @cached_property
    def curvature(self) -> Array:
        """An approximate Hessian: that of the working linear model; rows of the family's own by differences."""
        c, m = self.criterion, len(self.theta)
        hessian = np.zeros((m, m))
        e = self.with_x
        xx = e.w[: c.p, : c.p]
        hessian[: c.p, : c.p] = 2.0 * xx
        kept = {s.unit: self.forced[s.unit][:, s.order] for s in e.products.stages}
        kept |= {t.unit: self._mixed(self.forced)[t.unit] for t in e.products.tails}
        directions = []
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            changes = structure.basis @ self.factors[f].T
            directions += [(f, d @ kept[f]) for d in changes + changes.transpose(0, 2, 1)]
            slope = self.reverse.slope[f] - kept[f] @ kept[f].T
            hessian[at, at] = 2.0 * np.einsum("ij,ajk,bik->ab", slope, structure.basis, structure.basis)
        if directions:
            inverse = np.linalg.inv(xx) if c.p else xx
            hessian[c.theta, c.theta] += quadratic_forms(e, directions, inverse)
        hessian[c.extra] = self._own_rows()
        hessian[:, c.extra] = hessian[c.extra].T
        at = c.extra
        hessian[at, at] = (hessian[at, at] + hessian[at, at].T) / 2
        return hessian

    def _own_rows(self) -> Array:
        """Rows of the family's own parameters, (n_extra, m), by differences; kept for points near by."""
        c = self.criterion
        if c.own_rows is None or np.abs(self.theta - c.own_rows[0]).max() > STALE:
            h, rows = 1e-4, []
            for i in range(c.extra.start, c.extra.stop):
                moved = self.theta.copy()
                moved[i] += h
                rows.append((c.at(moved).gradient - self.gradient) / h)
            c.own_rows = self.theta, np.array(rows).reshape(-1, len(self.theta))
        return c.own_rows[1]

    @cached_property
    def forced(self) -> Effects:
        """Z'l' per unit (k, levels): T^-1' v at the mode."""
        return self.criterion.rows.pull(self.mode.rows[1])

    def brief(self) -> None:
        return None

    # -- results on the user's scale

    sigma2 = 1.0

    @property
    def extra(self) -> Array:
        return np.asarray(self.theta[self.criterion.extra])

    @property
    def b(self) -> Array:
        """Coefficients of the kept columns."""
        return self.criterion.products.standard.to_user(self.theta[: self.criterion.p])

    def covariance(self, f: int) -> Array:
        """Covariance of the effects of unit f, (k, k); between levels it is multiplied by ``mix mix'``."""
        t = np.linalg.solve(self.criterion.products.z_to_work[f], self.factors[f])
        return np.asarray(t @ t.T)

    def effects(self, f: int) -> tuple[Array, Array]:
        """Modes of the effects (levels, k) and the covariance of their errors (levels, k, k), b's uncertainty included."""
        c, e = self.criterion, self.with_x
        back = np.linalg.inv(c.products.z_to_work[f])
        u = c.moved(self.factors, self.mode.v)[f]
        w_bar = np.zeros_like(e.w)
        if c.p:
            w_bar[: c.p, : c.p] = np.linalg.inv(e.w[: c.p, : c.p])
        made = backward(e, w_bar, inverses=True)
        errors = made.inverse[f]
        mix = c.rows.units[f].mix
        if mix is not None:
            t = next(t for t in e.products.tails if t.unit == f)
            own = made.dense[t.columns, t.columns].reshape(t.size, t.levels, t.size, t.levels)
            errors = np.einsum("jl,albm,jm->abj", mix, own, mix, optimize=True)
        order = next((s.order for s in e.products.stages if s.unit == f), np.arange(u.shape[1]))
        covariance = np.empty((u.shape[1], len(back), len(back)))
        covariance[order] = np.einsum("ab,bcj,dc->jad", back, errors, back)
        return (back @ u).T, covariance
