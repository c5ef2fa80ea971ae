"""Kenward and Roger's adjustment where residuals are correlated or SDs depend on columns, by matrices of the rows that
hang together."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from bold_orchard.design.design import Design
from bold_orchard.design.residual import sorted_rows
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import UsageError
from bold_orchard.estimation.assumed import Assumed, assumed_of
from bold_orchard.estimation.dense import effects_covariance, residual_covariance
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.variations import STEP, effect_scales, variation
from bold_orchard.inference.coefficients.kenward_roger import KenwardRoger
from bold_orchard.likelihood.expected_information import Moments

Array = NDArray[Any]
MOST_TOGETHER = 2_000  # rows whose covariance and all its derivatives are written out at once
LEAST_ROOM = 1e-6  # to the edge of a residual parameter, below which it is none


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
        steps, scales = self._steps(assumed), effect_scales(design, assumed, self.e.criterion.structures)
        known: dict[bytes, Any] = {}
        for rows in self.clusters:
            if (
                design.residual.codes is not None
            ):  # in time, so that units that stand alike share what is made of their residuals
                rows = rows[sorted_rows(design.residual.codes[rows], _at(design.residual.time, rows))]
            part = some_rows(design, rows)
            v = effects_covariance(part, assumed) + residual_covariance(part, assumed)
            made, inverse, own = (
                variation(part, assumed, scales, steps, known),
                np.linalg.inv(v),
                x[rows],
            )
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
        """Phi + 2 Phi {sum W_ij (Q_ij - P_i Phi P_j - R_ij / 4)} Phi.

        Raises UsageError where that is no covariance, as the second order of a logarithm is not beside an SD of hardly
        more than zero.
        """
        m = self.moments
        inner = np.einsum("ij,ijpq->pq", self.variances, self._made[1], optimize=True)
        out = np.asarray(super()._adjusted - 0.5 * m.phi @ inner @ m.phi)
        scale = np.sqrt(np.diag(m.phi))
        if len(out) and not np.linalg.eigvalsh(out / np.outer(scale, scale))[0] > 0:
            raise UsageError(
                "--df kenward-roger fails here: the SDs that depend on columns are known too badly for its adjustment, "
                "which gives negative variances; leave the columns out, or use --df satterthwaite"
            )
        return out


def _at(time: Array | None, rows: NDArray[np.intp]) -> Array | None:
    return None if time is None else time[rows]


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
