"""One design and many gaussian outcomes: their likelihoods searched together, outcome by outcome in the leading axis of every array.

Of a sentence whose units are levels of one unit with one effect each, the cross-products of X and Z are made once. The deviance is a function of
one parameter, theta (the effects' SD over the residual's, on the working columns of the likelihood): a grid finds its lowest basin, bisection of
the slope its end. Standard errors and Satterthwaite's degrees of freedom are by the same differences as those of a single fit.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.design.magnitudes import LARGEST, SMALLEST
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.trouble import trouble_of
from bold_orchard.inference.variances.information import is_large
from bold_orchard.likelihood.gaussian import Criterion

Array = NDArray[Any]
GRID = np.concatenate([[0.0], np.geomspace(1e-3, 1e3, 61)])  # of theta
HALVINGS = 52  # of an interval of log theta, until its ends are neighbours
SMALL = 0.1  # theta below which the deviance is so flat that a fit by itself must decide where it ends
REPRODUCED = 1e-16  # part of the outcome's own squares below which nothing is left to vary
TOGETHER = 2_000_000  # numbers of an array over outcomes and levels at once


@dataclass(frozen=True)
class Estimates:
    """Of outcomes (m,): coefficients ``b`` and their ``se`` (m, p') of the kept columns, ``df`` (m, p') or None for the normal, SDs of the effects and of the
    residual; ``sure`` is False where a fit by itself must decide."""

    b: Array
    se: Array
    df: Array | None
    sd: Array
    residual: Array
    sure: NDArray[np.bool_]


class SharedDesign:
    """What all outcomes of the rows of a fit share; ``of`` makes it, where the fit is of the kind."""

    def __init__(self, fit: Fit) -> None:
        self.fit, model = fit, fit.model
        c: Criterion = model.criterion
        design, products = fit.design, c.products
        clause, stage, standard = design.clauses[0], products.stages[0], products.standard
        self.reml, self.dof, self.p = c.reml, c.dof, products.p
        self.root = np.ones(len(design.y)) if design.weights is None else np.sqrt(design.weights)
        self.to_user = np.linalg.inv(standard.to_work)
        x = np.array([design.fixed.values[k] for k in model.kept]).reshape(self.p, -1) * self.root
        self.x = self.to_user.T @ x  # working columns, (p, n)
        self.z_scale = float(products.z_to_work[0][0, 0])
        self.z = clause.part.values[0] * self.root / self.z_scale
        self.codes = design.blocks[0].unit.codes
        self.counts = np.empty(stage.levels)
        self.counts[stage.order] = stage.c[0, 0]
        self.zx = (
            np.array([np.bincount(self.codes, self.z * column, stage.levels) for column in self.x])
            .reshape(self.p, -1)
            .T
        )
        self.xx = self.x @ self.x.T
        self.across = (self.zx[:, :, None] * self.zx[:, None, :]).reshape(stage.levels, -1)

    @classmethod
    def of(cls, fit: Fit) -> SharedDesign | None:
        """None for a fit whose likelihood has another form, or whose answers rest on more than the outcome's products."""
        model, design, c = fit.model, fit.design, fit.model.criterion
        if not isinstance(model, GaussianModel) or type(c) is not Criterion or not (c.linear and c.concentrated):
            return None
        one = len(design.blocks) == len(design.clauses) == 1 and len(design.clauses[0].part.names) == 1
        if (
            not one
            or design.blocks[0].relationship_factor is not None
            or not model.kept
            or not isinstance(c.structures[0], Structure)
        ):
            return None
        plain = design.offset is None and design.counts is None and len(c.products.stages) == 1 and c.n_theta == 1
        usual = fit.settings.df in ("satterthwaite", "residual", "normal") and fit.settings.errors is None
        if not (plain and usual) or is_large(model.evaluation) or trouble_of(model).notes:
            return None
        return cls(fit)

    def estimates(self, y: Array) -> Estimates:
        """Of outcomes ``y`` (n, m) over the rows of the design."""
        most = max(1, TOGETHER // max(len(self.counts) * 4, 1))
        parts = [_Outcomes(self, y[:, at : at + most]).estimates() for at in range(0, y.shape[1], most)]

        def joined(name: str) -> Any:
            values = [getattr(p, name) for p in parts]
            return None if values[0] is None else np.concatenate(values)

        return Estimates(*(joined(name) for name in ("b", "se", "df", "sd", "residual", "sure")))


class _Outcomes:
    """Some outcomes at once."""

    def __init__(self, shared: SharedDesign, y: Array) -> None:
        self.s = shared
        middle = y.mean(axis=0)
        centred = (y - middle) * shared.root[:, None]
        whole = centred + shared.root[:, None] * middle
        self.b0 = np.linalg.lstsq(shared.x.T, whole, rcond=None)[0].T if shared.p else np.zeros((y.shape[1], 0))
        rest = whole - shared.x.T @ self.b0.T
        levels = len(shared.counts)
        self.zy = np.array([np.bincount(shared.codes, shared.z * column, levels) for column in rest.T]).reshape(
            -1, levels
        )
        self.xy = (shared.x @ rest).T
        self.yy = (rest**2).sum(axis=0)
        own = (centred**2).sum(axis=0)
        size = np.abs(y).max(axis=0)
        self.fit_for = np.isfinite(y).all(axis=0) & (self.yy > REPRODUCED * own) & (size < LARGEST) & (size > SMALLEST)

    def sums(self, t: Array, order: int) -> tuple[Array, Array, Array, Array]:
        """[X y]'H^-1[X y] as its blocks (m, p, p), (m, p), (m,) and log|H| (m,), or their ``order``-th (first) derivative in t = theta^2, at t (m,)."""
        s, grown = self.s, 1.0 + t[:, None] * self.s.counts
        kappa = t[:, None] / grown if order == 0 else 1.0 / grown**2
        sign = 1.0 if order == 0 else 0.0
        xx = sign * s.xx - (kappa @ s.across).reshape(-1, s.p, s.p)
        xy = sign * self.xy - (kappa * self.zy) @ s.zx
        yy = sign * self.yy - (kappa * self.zy**2).sum(axis=1)
        log_det = np.log(grown).sum(axis=1) if order == 0 else (s.counts / grown).sum(axis=1)
        return xx, xy, yy, log_det

    def solved(self, t: Array) -> tuple[Array, Array, Array, Array]:
        """(X'H^-1X)^-1, b on the working scale less the least-squares fit, the residual sum of squares, and log|H|."""
        xx, xy, yy, log_det = self.sums(t, 0)
        inverse = np.linalg.inv(xx)
        b = np.einsum("mab,mb->ma", inverse, xy)
        return inverse, b, yy - (xy * b).sum(axis=1), log_det

    def deviance(self, t: Array) -> Array:
        """Constants left out, sigma^2 at its best."""
        inverse, _, rss, log_det = self.solved(t)
        out = self.s.dof * np.log(np.maximum(rss, 1e-300)) + log_det
        return np.asarray(out - np.linalg.slogdet(inverse)[1] if self.s.reml else out)

    def slopes(self, t: Array, sigma2: Array | None = None) -> tuple[Array, Array]:
        """d deviance / d t at a residual variance (its best where None), and the residual sum of squares."""
        inverse, b, rss, _ = self.solved(t)
        xx, xy, yy, trace = self.sums(t, 1)
        d_rss = yy - 2.0 * (b * xy).sum(axis=1) + np.einsum("ma,mab,mb->m", b, xx, b)
        sigma2 = rss / self.s.dof if sigma2 is None else sigma2
        out = d_rss / sigma2 + trace
        return (out + np.einsum("mab,mba->m", inverse, xx) if self.s.reml else out), rss

    def theta(self) -> tuple[Array, NDArray[np.bool_]]:
        """The parameter at the lowest deviance, (m,), and whether that is beyond doubt."""
        made = np.array([self.deviance(np.full(len(self.yy), theta**2)) for theta in GRID])
        best = made.argmin(axis=0)
        low, high = GRID[np.maximum(best - 1, 0)], GRID[np.minimum(best + 1, len(GRID) - 1)]
        zero = self.slopes(np.zeros(len(best)))[0] >= 0.0
        a, b = np.log(np.maximum(low, 1e-6)), np.log(np.maximum(high, 1e-6))
        for _ in range(HALVINGS):
            middle = 0.5 * (a + b)
            rising = self.slopes(np.exp(2.0 * middle))[0] > 0.0
            a, b = np.where(rising, a, middle), np.where(rising, middle, b)
        theta = np.where((best == 0) & zero, 0.0, np.exp(0.5 * (a + b)))
        sure = np.where(theta == 0.0, made[1] > made[0], (best > 0) & (best < len(GRID) - 1) & (theta > SMALL))
        return theta, sure & ~((theta > 0.0) & zero & (made[0] < made.min(axis=0) + 1e-6))

    def estimates(self) -> Estimates:
        s = self.s
        with np.errstate(all="ignore"):
            theta, sure = self.theta()
            inverse, b, rss, _ = self.solved(theta**2)
            sigma2 = rss / s.dof
            turned = np.einsum("ab,mbc,dc->mad", s.to_user, inverse, s.to_user) * sigma2[:, None, None]
            variances = np.einsum("maa->ma", turned)
            df = self.degrees(theta, sigma2, variances)
            sd = np.abs(theta) * np.sqrt(sigma2) / abs(s.z_scale)
        finite = np.isfinite(variances).all(axis=1) & np.isfinite(sigma2) & (sigma2 > 0)
        whole = (self.b0 + b) @ s.to_user.T
        return Estimates(whole, np.sqrt(variances), df, sd, np.sqrt(sigma2), np.asarray(sure & finite & self.fit_for))

    def degrees(self, theta: Array, sigma2: Array, variances: Array) -> Array | None:
        """Degrees of freedom of every coefficient, (m, p'), by the method of the fit."""
        s, method = self.s, self.s.fit.settings.df
        if method == "normal":
            return None
        plain = float(s.fit.criterion.products.n - s.p)
        if method == "residual":
            return np.full(variances.shape, plain)
        a = self.covariance(theta, sigma2)
        h = 1e-4 * np.maximum(np.abs(theta), 1e-2)
        ends = [self._variances(theta + side, sigma2) for side in (h, -h)]
        change = np.where((theta > 0)[:, None], (ends[0] - ends[1]) / (2.0 * h)[:, None], 0.0)
        g = np.stack([change, variances], axis=2)
        spread = np.einsum("mpi,mij,mpj->mp", g, a, g)
        df = 2.0 * variances**2 / spread
        return np.where(np.isfinite(df) & (spread > 0), np.minimum(df, 1e12), plain)

    def _variances(self, theta: Array, sigma2: Array) -> Array:
        inverse = self.solved(theta**2)[0]
        return np.einsum("ab,mbc,ac->ma", self.s.to_user, inverse, self.s.to_user) * sigma2[:, None]

    def covariance(self, theta: Array, sigma2: Array) -> Array:
        """Of (theta, log sigma^2), (m, 2, 2): twice the inverse Hessian of the deviance, by central differences of its gradient."""
        psi, hessian = np.stack([theta, np.log(sigma2)], axis=1), np.zeros((len(theta), 2, 2))
        for i in range(2):
            h = 1e-4 * np.maximum(np.abs(psi[:, i]), 1e-2)
            ends = []
            for side in (h, -h):
                moved = psi.copy()
                moved[:, i] += side
                slope, rss = self.slopes(moved[:, 0] ** 2, np.exp(moved[:, 1]))
                ends.append(np.stack([slope * 2.0 * moved[:, 0], self.s.dof - rss / np.exp(moved[:, 1])], axis=1))
            hessian[:, i] = (ends[0] - ends[1]) / (2.0 * h)[:, None]
        hessian = 0.5 * (hessian + hessian.transpose(0, 2, 1))
        out = np.zeros_like(hessian)
        held = theta <= 0
        out[held, 1, 1] = 2.0 / hessian[held, 1, 1]
        out[~held] = 2.0 * np.linalg.inv(hessian[~held])
        return out
