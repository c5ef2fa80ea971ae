"""Cluster-robust errors of fixed effects: bias-reduced linearisation (CR2) with degrees of freedom of their own.

The fit's own covariance is the working one, so that the estimator is exactly unbiased where the fit is right (Bell & McCaffrey 2002;
Pustejovsky & Tipton 2018). Tests of several numbers at once take the approximate Hotelling T^2 of the latter.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.build import unit_codes
from bold_orchard.design.design import Design, UnitCodes
from bold_orchard.design.subset import some_rows
from bold_orchard.design.validation import constant_inside, is_nested
from bold_orchard.errors import OrchardError, UsageError, unknown_name
from bold_orchard.estimation.assumed import assumed_of
from bold_orchard.estimation.dense import effects_covariance, residual_covariance
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.results.fit import ErrorsUsed
from bold_orchard.sentence.edit import unit_of

Array = NDArray[Any]
KIND = "robust"
MOST_IN_CLUSTER = 3_000  # rows, whose covariance is inverted as one matrix
SINGULAR = 1e-10  # of the largest eigenvalue, below which a direction of a cluster has nothing left of its own
FEW_CLUSTERS = 2


@dataclass(frozen=True)
class Cluster:
    """``meat`` is what its residuals add to the covariance of b, ``within`` T V T' and ``through`` T X, all (p', p')."""

    meat: Array
    within: Array
    through: Array


class OverClusters:
    """What the robust errors of every kind of fit share: ``clusters``, the levels over which they are summed."""

    clusters: UnitCodes

    @property
    def called(self) -> str:
        return f"robust over {self.clusters.name}"

    @property
    def errors_used(self) -> ErrorsUsed:
        return ErrorsUsed(KIND, self.clusters.name, self.clusters.size)

    @property
    def rows_of_clusters(self) -> list[NDArray[np.intp]]:
        order = np.argsort(self.clusters.codes, kind="stable")
        return np.split(order, np.cumsum(self.clusters.counts)[:-1])


class Robust(OverClusters, CoefficientInference):
    """CR2 over the levels of a unit, ``clusters``; a df for each combination, None under ``normal``."""

    def __init__(self, model: GaussianModel, unit: str | None, normal: bool = False) -> None:
        super().__init__(model)
        self.clusters, self.normal = cluster_unit(model.design, unit), normal

    @cached_property
    def parts(self) -> list[Cluster]:
        design, assumed = self.model.design, assumed_of(self.model)
        kept, m = self.model.kept, np.asarray(self.e.b_covariance)
        x = np.column_stack([design.fixed.values[k] for k in kept]) if kept else np.zeros((len(design.y), 0))
        rest = design.y - x @ self.e.b
        out = []
        for rows in self.rows_of_clusters:
            part = some_rows(design, rows)
            v = effects_covariance(part, assumed) + residual_covariance(part, assumed)
            out.append(_cluster(x[rows], v, rest[rows], m))
        return out

    @cached_property
    def covariance(self) -> Array:
        return np.asarray(sum(p.meat for p in self.parts))

    def df(self, rows: Array) -> float | None:
        return self.test(rows)[0]

    def test(self, rows: Array) -> tuple[float | None, float]:
        if self.normal:
            return None, 1.0
        q = len(rows)
        eta = self._degrees(rows)
        return float(eta - q + 1), float((eta - q + 1) / eta)

    def _degrees(self, rows: Array) -> float:
        """eta of the approximate Hotelling T^2; of one row the degrees of freedom of Satterthwaite."""
        m = np.asarray(self.e.b_covariance)
        values, vectors = np.linalg.eigh(rows @ m @ rows.T)
        if values[0] <= 0:
            raise OrchardError("the combinations tested together depend on each other")
        u = (vectors / np.sqrt(values)) @ vectors.T @ rows
        within = np.einsum("sp,ipq,tq->sti", u, np.array([p.within for p in self.parts]), u, optimize=True)
        h = np.einsum("sp,ipq->siq", u, np.array([p.through for p in self.parts]), optimize=True)
        gram = np.einsum("siq,qr,tir->sti", h, m, h, optimize=True)  # h_si' M h_ti, the diagonal of the crossed part
        total = 0.0
        for s in range(len(u)):
            for t in range(len(u)):
                # sum over i, j of P^st_ij P^ts_ij + P^ss_ij P^tt_ij with P^st_ij = d_ij within_st - h_si' M h_tj
                total += self._sum(within[s, t], within[t, s], gram[s, t], gram[t, s], h[s], h[t], h[t], h[s], m)
                total += self._sum(within[s, s], within[t, t], gram[s, s], gram[t, t], h[s], h[s], h[t], h[t], m)
        q = len(u)
        return q * (q + 1) / total

    @staticmethod
    def _sum(
        a: Array, b: Array, cross_a: Array, cross_b: Array, h1: Array, h2: Array, h3: Array, h4: Array, m: Array
    ) -> float:
        """sum_ij (d_ij a_i - h1_i' M h2_j)(d_ij b_i - h3_i' M h4_j)."""
        own = float((a * b - a * cross_b - b * cross_a).sum())
        return own + float(np.trace(m @ (h1.T @ h3).T @ m @ (h2.T @ h4)))


def _cluster(x: Array, v: Array, rest: Array, m: Array) -> Cluster:
    upper = np.linalg.cholesky(v).T
    b = upper @ (v - x @ m @ x.T) @ upper.T
    values, vectors = np.linalg.eigh((b + b.T) / 2.0)
    keep = values > SINGULAR * max(float(values[-1]), 0.0)
    root = (vectors[:, keep] / np.sqrt(values[keep])) @ vectors[:, keep].T
    t = m @ np.linalg.solve(v, x).T @ upper.T @ root @ upper
    score = t @ rest
    return Cluster(np.outer(score, score), t @ v @ t.T, t @ x)


def cluster_unit(design: Design, name: str | None) -> UnitCodes:
    """The unit whose levels are independent of each other: the topmost one, or the one named.

    Raises UsageError for a name that is no unit and no column, OrchardError where effects or residuals are shared between its levels.
    """
    if name is None:
        made = next((u for u in design.units if all(is_nested(o, u) for o in design.units)), None)
        if made is None:
            names = " and ".join(u.name for u in design.units) or "no unit"
            raise OrchardError(
                f"robust errors need a unit that holds all others, and here there are {names}; name a column above them: robust=UNIT"
            )
    else:
        known = {u.name: u for u in design.units}
        columns = unit_of(name).columns
        for column in columns:
            if name not in known and not design.table.has(column.name):
                raise UsageError(
                    unknown_name("unit", name, [*known, *design.table.columns], f"the model and {design.table.name}")
                    + " (in --errors)"
                )
        made = known[name] if name in known else unit_codes(unit_of(name), design.table)
    other = next((u.name for u in design.units if not is_nested(u, made)), None)
    if other is not None:
        raise OrchardError(
            f"effects of {other} are shared by levels of {made.name}, so these are no independent clusters; name the topmost unit, or one above all"
        )
    residual = design.residual
    if residual.codes is not None and not constant_inside(
        np.asarray(residual.codes), int(residual.codes.max()) + 1, made.codes
    ):
        raise OrchardError(
            f"residuals of one {residual.unit} are correlated across levels of {made.name}; name a unit that holds {residual.unit}"
        )
    if any(b.relationship_factor is not None for b in design.blocks):
        raise OrchardError(
            "effects with a known covariance between levels leave no independent clusters; leave --errors out"
        )
    if made.size <= FEW_CLUSTERS:
        raise OrchardError(
            f"{made.name} has {made.size} levels; robust errors rest on the number of clusters, and so few tell nothing"
        )
    if int(made.counts.max()) > MOST_IN_CLUSTER:
        raise OrchardError(
            f"the largest {made.name} has {int(made.counts.max()):,} rows; {MOST_IN_CLUSTER:,} are the most of a cluster"
        )
    return made


def read_errors(text: str | None) -> tuple[bool, str | None]:
    """Whether errors are robust, and the unit named: "robust", "robust=orchard". Raises UsageError for another word."""
    if text is None or text == "model":
        return False, None
    kind, sign, unit = text.partition("=")
    if kind.strip() != KIND or (sign and not unit.strip()):
        raise UsageError(f"--errors is model, robust or robust=UNIT, not '{text}'")
    return True, " ".join(unit.split()) or None
