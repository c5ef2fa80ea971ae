"""Kenward and Roger's adjustment (1997): small-sample covariance of the coefficients, df and a scale of F."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from bold_orchard.design.design import Design
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import UsageError
from bold_orchard.estimation.assumed import Assumed, assumed_of
from bold_orchard.estimation.dense import effects_covariance, residual_covariance
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.variations import STEP, variation
from bold_orchard.inference.coefficients.precision import Residual
from bold_orchard.likelihood.expected_information import MOST_EFFECTS, Moments, linear_moments, widest
from bold_orchard.likelihood.gaussian import Criterion

Array = NDArray[Any]
EXACT = 1e-7  # of A1 = q A2 (in one row, in balanced designs): rounding leaves some ten digits
MOST_TOGETHER = 2_000  # rows whose covariance and all its derivatives are written out at once
LEAST_ROOM = 1e-6  # to the edge of a residual parameter, below which it is none


class KenwardRoger(Residual):
    """Kenward & Roger (1997): b's covariance adjusted, df and a scale of F from the expected information.

    The parameters are the elements of each covariance of effects and the residual variance, in which V is linear, so
    second derivatives vanish. Components on their boundary stay parameters: the df are those of the design.
    """

    @cached_property
    def moments(self) -> Moments:
        return linear_moments(self.e)

    @cached_property
    def variances(self) -> Array:
        """W, the covariance of the parameters, (m, m)."""
        information = self.moments.information
        d = np.sqrt(np.maximum(np.diag(information), 1e-300))
        return np.asarray(np.linalg.pinv(information / np.outer(d, d), rcond=1e-12, hermitian=True) / np.outer(d, d))

    @cached_property
    def _adjusted(self) -> Array:
        """Phi + 2 Phi {sum W_ij (Q_ij - P_i Phi P_j)} Phi on the working scale."""
        m, w = self.moments, self.variances
        inner = np.einsum("ij,ijpq->pq", w, m.second)
        inner -= np.einsum("ij,ipq,qr,jrs->ps", w, m.first, m.phi, m.first, optimize=True)
        inner = (inner + inner.T) / 2
        return np.asarray(m.phi + 2.0 * m.phi @ inner @ m.phi)

    @cached_property
    def back(self) -> Array:
        return np.linalg.inv(self.e.criterion.products.standard.to_work)

    @property
    def covariance(self) -> Array:
        return np.asarray(self.back @ self._adjusted @ self.back.T)

    def df(self, rows: Array) -> float | None:
        return self.test(rows)[0]

    def test(self, rows: Array) -> tuple[float | None, float]:
        """(m, lambda) with lambda F referred to F(q, m); their equations for A1, A2, B, E*, V*."""
        m, w, q = self.moments, self.variances, len(rows)
        work = rows @ self.back
        theta = work.T @ np.linalg.solve(work @ m.phi @ work.T, work)
        each = np.array([theta @ m.phi @ p @ m.phi for p in m.first])
        a1 = float(np.einsum("ij,ipp,jqq->", w, each, each, optimize=True))
        a2 = float(np.einsum("ij,ipq,jqp->", w, each, each, optimize=True))
        if not a2 > 0:
            return super().df(rows), 1.0
        if abs(a1 - q * a2) <= EXACT * q * a2:  # one row, balanced designs: F(q, 2 q / A2) itself, however few its df
            return min(2.0 * q / a2, 1e12), 1.0
        b = (a1 + 6.0 * a2) / (2.0 * q)
        g = ((q + 1) * a1 - (q + 4) * a2) / ((q + 2) * a2)
        under = 3.0 * q + 2.0 * (1.0 - g)
        c1, c2, c3 = g / under, (q - g) / under, (q + 2 - g) / under
        if 1.0 - a2 / q <= EXACT:  # so few units that F has no mean
            return 2.0 * q / a2, 1.0
        mean = 1.0 / (1.0 - a2 / q)
        with np.errstate(all="ignore"):
            variance = 2.0 / q * (1.0 + c1 * b) / (np.float64(1.0 - c2 * b) ** 2 * (1.0 - c3 * b))
            ratio = variance / (2.0 * mean**2)
            df = float(4.0 + (q + 2.0) / (q * ratio - 1.0))
        if not (np.isfinite(df) and df > 2.0):  # nor a second moment
            return 2.0 * q / a2, 1.0
        return df, df / (mean * (df - 2.0))


class BeyondLinear(KenwardRoger):
    """The same where V is not linear in all its parameters, with its second derivatives in the adjustment; V is written out cluster by cluster.

    The parameters are those that are reported (see ``estimation/variations.py``), for the second order depends on their scale.
    """

    def __init__(self, model: GaussianModel) -> None:
        super().__init__(model)
        self.clusters = independent_rows(model.design)

    @cached_property
    def back(self) -> Array:
        return np.eye(len(self.model.kept))

    @cached_property
    def moments(self) -> Moments:
        return self._made[0]

    @cached_property
    def _made(self) -> tuple[Moments, Array]:
        """Moments of all parameters on the user's scale, and X'V^-1 V_ij V^-1 X (m, m, p, p)."""
        design, assumed, kept = self.model.design, assumed_of(self.model), self.model.kept
        x = np.column_stack([design.fixed.values[k] for k in kept])
        traces: Any = 0.0
        first: Any = 0.0
        second: Any = 0.0
        bends: Any = 0.0
        steps = self._steps(assumed)
        for rows in self.clusters:
            part = some_rows(design, rows)
            v = effects_covariance(part, assumed) + residual_covariance(part, assumed)
            made, inverse, own = variation(part, assumed, self.e.criterion.structures, steps), np.linalg.inv(v), x[rows]
            changed, b = inverse @ made.first, inverse @ own
            traces = traces + np.einsum("imn,jnm->ij", changed, changed, optimize=True)
            through = made.first @ b
            first = first + b.T @ through
            second = second + np.einsum("imp,mn,jnq->ijpq", through, inverse, through, optimize=True)
            bend = np.zeros((len(made.first),) * 2 + (x.shape[1],) * 2)
            for (i, j), value in made.second.items():
                bend[i, j] = bend[j, i] = b.T @ value @ b
            bends = bends + bend
        return Moments(traces, first, second, np.asarray(self.e.b_covariance)), bends

    def _steps(self, assumed: Assumed) -> list[float]:
        """Steps in the residual's own parameters; none for one that stands at an edge."""
        correlated = self.e.criterion.correlated
        own = () if correlated is None else correlated.rows.own
        out = []
        for parameter, value in zip(own, assumed.own):
            low, high = parameter.ends
            room = min(value - low, high - value) if np.isfinite(high) else value - low
            scale = 1.0 if np.isfinite(high) else abs(value)
            out.append(0.0 if room < LEAST_ROOM * scale else min(STEP * scale, room / 4.0))
        return out

    @cached_property
    def _adjusted(self) -> Array:
        """Phi + 2 Phi {sum W_ij (Q_ij - P_i Phi P_j - R_ij / 4)} Phi."""
        m = self.moments
        inner = np.einsum("ij,ijpq->pq", self.variances, self._made[1], optimize=True)
        return np.asarray(super()._adjusted - 0.5 * m.phi @ inner @ m.phi)


def independent_rows(design: Design) -> list[NDArray[np.intp]]:
    """Rows that hang together. Raises UsageError where there are too many of them to write their covariance out."""
    out = hanging_together(design)
    largest = max(len(o) for o in out)
    if largest > MOST_TOGETHER:
        raise UsageError(
            f"--df kenward-roger writes out the covariance of rows that hang together, at most {MOST_TOGETHER:,} where residuals are correlated or "
            f"spread; here there are {largest:,}; use --df satterthwaite"
        )
    return out


def hanging_together(design: Design) -> list[NDArray[np.intp]]:
    """Sets of rows that are independent of each other, each joined by units or a residual covariance."""
    codes = [np.asarray(u.codes) for u in design.units]
    if design.residual.codes is not None:
        codes.append(np.asarray(design.residual.codes))
    if any(b.relationship_factor is not None for b in design.blocks):
        codes.append(np.zeros(len(design.y), dtype=np.intp))
    n, first = len(design.y), 0
    rows, columns = [], []
    for own in codes:
        rows.append(np.arange(n))
        columns.append(n + first + own)
        first += int(own.max()) + 1
    size = n + first
    places = (
        np.concatenate([*rows, np.zeros(0, dtype=np.intp)]),
        np.concatenate([*columns, np.zeros(0, dtype=np.intp)]),
    )
    label = connected_components(coo_matrix((np.ones(len(places[0])), places), shape=(size, size)), directed=False)[1][
        :n
    ]
    order = np.argsort(label, kind="stable")
    return np.split(order, np.cumsum(np.unique(label, return_counts=True)[1])[:-1])


def check_reach(criterion: Criterion) -> None:
    """Raise UsageError when the method is asked of a fit that it cannot serve."""
    if not criterion.reml:
        raise UsageError("--df kenward-roger rests on REML; fit with --method reml, or use --df satterthwaite")
    if criterion.vary is not None:
        raise UsageError(
            "--df kenward-roger is not made for effects whose SD depends on columns (vary with); use --df satterthwaite"
        )
    if not criterion.linear:
        return
    width = widest(criterion.products)
    if width > MOST_EFFECTS:
        raise UsageError(
            f"--df kenward-roger holds all effects that hang together at once, at most {MOST_EFFECTS:,}; here there are "
            f"{width:,}; use --df satterthwaite, from which it will hardly differ"
        )
