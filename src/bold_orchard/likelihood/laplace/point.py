"""One point of a Laplace approximation: deviance, exact gradient, approximate curvature, and results on the user's scale."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.by_level import Piece
from bold_orchard.crossproducts.elimination import Backward, Eliminated, backward, eliminate
from bold_orchard.crossproducts.substitution import solve
from bold_orchard.likelihood.average_information import quadratic_forms
from bold_orchard.likelihood.laplace.layout import Effects
from bold_orchard.likelihood.laplace.mode import Mode, ModeFinder
from bold_orchard.likelihood.outer import OuterPoint

Array = NDArray[Any]
STALE = 0.1  # distance in the parameters within which rows of the Hessian still steer the search


class LaplacePoint(OuterPoint):
    """Everything at one point; the costly parts are made when first asked for."""

    def __init__(self, criterion: ModeFinder, theta: Array, mode: Mode, near: LaplacePoint | None = None) -> None:
        self.criterion, self.theta, self.mode = criterion, theta, mode
        self._known = None if near is None else near.own_rows_known

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
    def leverages(self) -> Array:
        """z' A^-1 z of every row, (n,); of several predictors for every two of them."""
        return self._pulls[1]

    @cached_property
    def leverage(self) -> float:
        """What all rows together pull at their own predictions through the effects: effective parameters beside b."""
        return float(np.sum(-self.mode.rows[2] * self.leverages))

    @cached_property
    def _pulls(self) -> tuple[Array, Array, Effects]:
        """Half the leverages' pull s on eta (n,), the leverages (n,), and Z's per unit."""
        c, (_, d1, d2, d3) = self.criterion, self.mode.rows
        s, h = np.empty_like(d1), np.empty_like(d2)
        leverages = c.rows.leverages(self.mode.products, self.reverse)

        def source(at: slice, piece: Piece) -> Array:
            h[..., at] = made = leverages(at, piece)
            own = c.turn(d3[..., at], made)
            own *= -0.5
            s[..., at] = own
            return own

        return s, h, c.rows.pull_by(source)

    @cached_property
    def gradient(self) -> Array:
        """d deviance / d parameters."""
        with np.errstate(all="ignore"):
            return self._gradient()

    def _gradient(self) -> Array:
        """With a = A^-1 Lambda' Z's and what Z K Z's says of every row."""
        c, mode, rows = self.criterion, self.mode, self.criterion.rows
        out = np.zeros(len(self.theta))
        s, _, pulled = self._pulls
        kept, effects = solve(mode.eliminated, rows.to_stages(mode.products, pulled))
        a, moved = c.unscored(mode.products, self.factors, kept), rows.from_stages(mode.products, effects)
        _, d1, d2, _ = mode.rows
        across, total = np.empty_like(s), np.empty_like(s)

        def source(at: slice, piece: Piece) -> Array:
            across[..., at] = rows.within(piece, moved)
            own = c.bend(d2[..., at], across[..., at])
            own += s[..., at]
            own -= d1[..., at]
            total[..., at] = own
            return own

        pulled = self._mixed(rows.pull_by(source))
        out[: c.p] = rows.into_x(total)
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            slope = pulled[f] @ mode.v[f].T + self.forced[f] @ a[f].T + self.reverse.slope[f] @ self.factors[f]
            out[at] = np.einsum("aij,ij->a", structure.basis, slope)
        if c.family.n_extra:
            made = c.family.extras(mode.eta, self.theta[c.extra])
            for k, (value, first, second) in enumerate(made):
                own = -value.sum() - 0.5 * np.vdot(self.leverages, second) + np.vdot(across, first)
                out[c.extra.start + k] = own
        return 2.0 * out

    def _mixed(self, values: Effects) -> Effects:
        """Sums by level in the basis of v: times L for a known covariance."""
        units = self.criterion.rows.units
        return {
            f: x if units[f].relationship_factor is None else x @ units[f].relationship_factor
            for f, x in values.items()
        }

    def along(self, i: int) -> Callable[[float], LaplacePoint]:
        """h -> the point with parameter i moved by h, its mode followed along a straight line (good to h^2, evenly)."""
        drift = self._drift(i)

        def moved(h: float) -> LaplacePoint:
            theta = self.theta.copy()
            theta[i] += h
            start = {f: v + h * drift[f] for f, v in self.mode.v.items()}
            with np.errstate(all="ignore"):
                return type(self)(self.criterion, theta, self.criterion.mode(theta, start, np.inf), self)

        return moved

    def _drift(self, i: int) -> Effects:
        """d v^ / d parameter i, from A dv = -d(df/dv): per unit (k, levels)."""
        c, mode = self.criterion, self.mode
        own = {f: np.zeros_like(v) for f, v in mode.v.items()}
        if i < c.p:
            pulled = c.rows.pull_by(lambda at, _: c.bend(mode.rows[2][..., at], c.rows.along_x(i, at)))
        elif i < c.theta.stop:
            f = next(f for f, at in enumerate(c.slices) if at.start <= i < at.stop)
            change = c.structures[f].basis[i - c.slices[f].start]
            own[f] = change.T @ self.forced[f]
            effects = {g: np.zeros_like(v) for g, v in mode.v.items()} | {
                f: change @ mode.v[f] + self.factors[f] @ own[f]
            }
            plain = [np.eye(len(t)) for t in self.factors]
            moved = c.moved(plain, effects)
            pulled = c.rows.pull_by(lambda at, piece: c.bend(mode.rows[2][..., at], c.rows.within(piece, moved)))
        else:
            pulled = c.rows.pull(c.family.extras(mode.eta, self.theta[c.extra])[i - c.extra.start][1])
        kept, _ = solve(mode.eliminated, c.rows.to_stages(mode.products, pulled))
        return {f: own[f] + v for f, v in c.unscored(mode.products, self.factors, kept).items()}

    @cached_property
    def with_x(self) -> Eliminated:
        """The working linear model at the mode with X, eliminated; expected weights where the observed are not positive, as a search wants
        it."""
        c, mode = self.criterion, self.mode
        weight = -mode.rows[2]
        if not c.positive(weight):
            weight = c.mended(weight, c.family, mode.eta, self.theta[c.extra])
        return eliminate(c.rows.at(weight, mode.rows[1], with_x=True), self.factors)

    @cached_property
    def joint(self) -> Eliminated:
        """The observed information of coefficients and effects at the mode; the working model's where it is not positive definite."""
        c, weight = self.criterion, -self.mode.rows[2]
        if c.positive(weight):
            return self.with_x
        try:
            with np.errstate(all="ignore"):
                made = eliminate(c.rows.at(weight, self.mode.rows[1], with_x=True), self.factors)
                np.linalg.cholesky(made.w[: c.p, : c.p])
        except np.linalg.LinAlgError:
            return self.with_x
        return made if np.isfinite(made.log_det) and np.isfinite(made.w).all() else self.with_x

    @property
    def observed(self) -> bool:
        """Whether ``joint`` is the observed information."""
        return self.criterion.positive(-self.mode.rows[2]) or self.joint is not self.with_x

    @cached_property
    def curvature(self) -> Array:
        """An approximate Hessian: that of the working linear model; rows of the family's own by differences."""
        xx = self.with_x.w[: self.criterion.p, : self.criterion.p]
        return self.curvature_beside(np.linalg.inv(xx) if len(xx) and self.criterion.frame.n_theta else xx)

    def curvature_beside(self, inverse: Array) -> Array:
        """The same with the covariance ``inverse`` (p, p) of the coefficients, beside which the effects' own part is taken."""
        c, m = self.criterion, len(self.theta)
        hessian = np.zeros((m, m))
        e = self.with_x
        xx = e.w[: c.p, : c.p]
        hessian[: c.p, : c.p] = 2.0 * xx
        kept = {s.unit: self.forced[s.unit][:, s.order] for s in e.products.stages}
        kept |= {t.unit: self.forced[t.unit] for t in e.products.tails}
        directions = []
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            changes = structure.basis @ self.factors[f].T
            directions += [(f, d @ kept[f]) for d in changes + changes.transpose(0, 2, 1)]
            slope = self.reverse.slope[f] - kept[f] @ kept[f].T
            hessian[at, at] = 2.0 * np.einsum("ij,ajk,bik->ab", slope, structure.basis, structure.basis)
        if directions:
            hessian[c.theta, c.theta] += quadratic_forms(e, directions, inverse)
        hessian[c.extra] = self._own_rows
        hessian[:, c.extra] = hessian[c.extra].T
        at = c.extra
        hessian[at, at] = (hessian[at, at] + hessian[at, at].T) / 2
        return hessian

    @cached_property
    def _own_rows(self) -> Array:
        """Rows of the family's own parameters, (n_extra, m), by differences; those of a point near by serve as well."""
        if self._known is not None and (np.abs(self.theta - self._known[0]) / self.criterion.scale).max() <= STALE:
            return self._known[1]
        c, h, rows = self.criterion, 1e-4, []
        for i in range(c.extra.start, c.extra.stop):
            moved = self.theta.copy()
            moved[i] += h
            there = type(self)(c, moved, c.mode(moved, self.mode.v, self.mode.close), self)
            rows.append((there.gradient - self.gradient) / h)
        return np.array(rows).reshape(-1, len(self.theta))

    @property
    def own_rows_known(self) -> tuple[Array, Array] | None:
        """Where such rows were made last on the way here, and those rows."""
        made = self.__dict__.get("_own_rows")
        if made is None or (self._known is not None and made is self._known[1]):
            return self._known
        return self.theta, made

    @cached_property
    def forced(self) -> Effects:
        """Z'l' per unit (k, levels), times L for a known covariance: T^-1' v at the mode. It came with the products."""
        made = self.mode.products
        own = {s.unit: self.criterion.rows.by_user(s, s.right[:, -1]) for s in made.stages}
        return own | {t.unit: made.dense[t.columns, -1].reshape(t.size, t.levels) for t in made.tails}

    # -- results on the user's scale

    @property
    def b(self) -> Array:
        """Coefficients of the kept columns."""
        return self.criterion.products.standard.to_user(self.theta[: self.criterion.p])

    def scales(self, f: int) -> Array:
        """Effects of all levels have one covariance, (k, levels) of ones."""
        unit = self.criterion.products.units[f]
        return np.ones((unit.size, unit.levels))

    def effects(self, f: int) -> tuple[Array, Array]:
        """Modes of the effects (levels, k) and the covariance of their errors (levels, k, k), b's uncertainty included."""
        p = self.criterion.p
        return self.effects_beside(f, np.linalg.inv(self.joint.w[:p, :p]) if p else np.zeros((0, 0)))

    def effects_beside(self, f: int, inverse: Array) -> tuple[Array, Array]:
        """The same with the covariance ``inverse`` (p, p) of the coefficients."""
        c, e = self.criterion, self.joint
        back = np.linalg.inv(c.products.z_to_work[f])
        u = c.moved(self.factors, self.mode.v)[f]
        w_bar = np.zeros_like(e.w)
        w_bar[: c.p, : c.p] = inverse
        made = backward(e, w_bar, inverses=True)
        errors = made.inverse[f]
        mix = c.rows.units[f].relationship_factor
        if mix is not None:
            t = next(t for t in e.products.tails if t.unit == f)
            own = made.dense[t.columns, t.columns].reshape(t.size, t.levels, t.size, t.levels)
            errors = np.einsum("jl,albm,jm->abj", mix, own, mix, optimize=True)
        order = next((s.order for s in e.products.stages if s.unit == f), np.arange(u.shape[1]))
        covariance = np.empty((u.shape[1], len(back), len(back)))
        covariance[order] = np.einsum("ab,bcj,dc->jad", back, errors, back)
        return (back @ u).T, covariance
