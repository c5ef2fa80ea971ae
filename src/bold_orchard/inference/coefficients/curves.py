"""Curves of all rows among the average effects: their wiggle's coefficients beside the fixed ones, with the errors of both together.

The wiggle is predicted as effects of a unit are; its error is that of the prediction (Ruppert, Wand & Carroll 2003, section 6.4), the
fixed part's included.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.coefficients.precision import CoefficientInference, Residual
from bold_orchard.inference.fit import Fit
from bold_orchard.likelihood.prediction_error import error_variance

Array = NDArray[Any]


def curve_columns(design: Design, maker: ColumnMaker) -> Array:
    """Columns (n, m) of the wiggles of all curves of all rows, over the rows of a maker; by curve and function."""
    parts = [np.zeros((len(maker.table), 0))]
    for clause, each in zip(design.clauses, design.sentence.clauses):
        if design.units[clause.unit].curve:
            parts.append(np.column_stack(build_part(each.terms, False, maker).values))
    return np.concatenate(parts, axis=1)


def curve_effects(fit: Fit) -> Array:
    """Their coefficients as predicted, (m,)."""
    design = fit.design
    own = [fit.model.effects[c.block][0].ravel() for c in design.clauses if design.units[c.unit].curve]
    return np.concatenate([np.zeros(0), *own])


def average_curves(fit: Fit, maker: ColumnMaker) -> Array:
    """What the curves of all rows add to the average, (n,)."""
    return np.asarray(curve_columns(fit.design, maker) @ curve_effects(fit))


def with_curves(fit: Fit, known: CoefficientInference) -> CoefficientInference:
    """How sure combinations of coefficients and wiggles are; ``known`` itself where there are no curves of all rows."""
    return known if not any(u.curve for u in fit.design.units) else CurveInference(fit, known)


class CurveInference(CoefficientInference):
    """Of rows (q, p' + m) over the kept coefficients and the wiggles' (``curve_columns``)."""

    def __init__(self, fit: Fit, known: CoefficientInference) -> None:
        super().__init__(known.model)
        self.fit, self.known, self.p = fit, known, len(known.e.b)

    @cached_property
    def b(self) -> Array:
        return np.concatenate([self.e.b, curve_effects(self.fit)])

    @cached_property
    def covariance(self) -> Array:
        out = self._joint(self.e)
        out[: self.p, : self.p] = self.known.covariance
        return out

    def _joint(self, e: Any) -> Array:
        """Covariance of the errors of (b, u) at a point, (p' + m, p' + m), by the variances of sums of two."""
        size = len(self.b)
        i, j = np.triu_indices(size)
        w = np.zeros((len(i), size))
        w[np.arange(len(i)), i] += 1.0
        w[np.arange(len(i)), j] += 1.0
        made = self._variance(e, w)
        single = np.zeros(size)
        single[i[i == j]] = made[i == j] / 4.0
        out = np.zeros((size, size))
        out[i, j] = out[j, i] = np.where(i == j, single[i], (made - single[i] - single[j]) / 2.0)
        return out

    def _variance(self, e: Any, rows: Array) -> Array:
        """Of rows (n, p' + m)."""
        design, products, columns, at = self.fit.design, e.criterion.products, [], self.p
        for clause in design.clauses:
            if not design.units[clause.unit].curve:
                continue
            k = len(clause.part.names)
            back = np.linalg.inv(products.z_to_work[clause.block])
            columns.append((clause.block, np.zeros(len(rows), dtype=np.intp), back.T @ rows[:, at : at + k].T))
            at += k
        work = np.linalg.inv(products.standard.to_work.T) @ rows[:, : self.p].T
        return np.asarray(e.sigma2 * error_variance(e.joint, work, columns))

    def se(self, row: Array) -> float:
        if not row[self.p :].any():
            return self.known.se(row[: self.p])
        return super().se(row)

    def df(self, rows: Array) -> float | None:
        if not rows[:, self.p :].any():
            return self.known.df(rows[:, : self.p])
        if isinstance(self.known, Residual) and type(self.known) is Residual:
            return self.known.df(rows[:, : self.p])
        if not isinstance(self.model, GaussianModel) or not isinstance(self.known, Residual) or len(rows) > 1:
            return None
        return self._satterthwaite(rows[0])

    def test(self, rows: Array) -> tuple[float | None, float]:
        if not rows[:, self.p :].any():
            return self.known.test(rows[:, : self.p])
        return self.df(rows), 1.0

    def _satterthwaite(self, row: Array) -> float | None:
        """2 f^2 / (g' A g), f the variance of the row's error as a function of all covariance parameters."""
        f = float(row @ self.covariance @ row)
        g = np.array([float(row @ change @ row) for change in self._changes])
        spread = float(g @ self.parameter_covariance @ g)
        return min(2.0 * f**2 / spread, 1e12) if f > 0 and spread > 0 else None

    @cached_property
    def _changes(self) -> list[Array]:
        psi, c, out = self.e.psi, self.e.criterion, []
        for i in range(len(psi)):
            h = 1e-4 * max(abs(psi[i]), 1e-2)
            ends = []
            for side in (h, -h):
                moved = psi.copy()
                moved[i] += side
                ends.append(self._joint(c.at_psi(moved)))
            out.append((ends[0] - ends[1]) / (2.0 * h))
        return out


def joint_with_curves(joint: Array, known: CoefficientInference) -> Array:
    """The covariance of (own parameters, b), (k + p', ..), with the wiggles' after it where ``known`` has curves."""
    if not isinstance(known, CurveInference):
        return joint
    p, own = known.p, len(joint) - known.p
    out = np.zeros((own + len(known.b), own + len(known.b)))
    out[: own + p, : own + p] = joint
    out[own:, own + p :] = known.covariance[:, p:]
    out[own + p :, own:] = known.covariance[p:]
    return out
