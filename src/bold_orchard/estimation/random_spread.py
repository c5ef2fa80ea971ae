"""The maker of gaussian models whose units have a residual spread of their own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Block, Clause, Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import UsageError
from bold_orchard.estimation.arrays import to_arrays
from bold_orchard.estimation.gaussian import fit_gaussian
from bold_orchard.estimation.model import EDGE, FittedModel, one_step
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.likelihood.random_spread.criterion import RandomSpread, SpreadPoint
from bold_orchard.likelihood.random_spread.layout import SpreadRows
from bold_orchard.likelihood.random_spread.nested import NestedPoint
from bold_orchard.optimize.newton import descend
from bold_orchard.optimize.protocol import OptimizeResult
from bold_orchard.optimize.secant import settle

Array = NDArray[Any]
Result = OptimizeResult[SpreadPoint]
POINTS = (
    31  # nodes whose error is below 1e-5 of a deviance where units have eight rows, below 1e-9 where they have twenty
)
MANY_ROWS = 50_000  # rows from which the search goes by secants alone
NEAR = 1e-2  # decrease of the deviance promised at which another start has shown where it leads
STARTS = (0.15, 1.0)  # SDs of the log residual SD from which small models are tried as well
ROUGH_STEPS = 100
SMALL = 5_000  # rows up to which they are


@dataclass(frozen=True)
class SpreadModel(FittedModel[RandomSpread, SpreadPoint]):
    """Estimated by maximum likelihood, all parameters together."""

    @property
    def method(self) -> str:
        return "ML"

    @property
    def n_parameters(self) -> int:
        return len(self.evaluation.theta)

    @property
    def extra(self) -> Array:
        return np.zeros(0)

    def again(self, y: Array) -> Result:
        return _searched(make_spread(replace(self.design, y=y), self.points), self.evaluation.theta, self.options)

    def on_rows(self, keep: NDArray[np.intp], exact: bool) -> SpreadModel:
        design = some_rows(self.design, keep)
        criterion = make_spread(design, self.points)
        theta = self.evaluation.theta
        start = self._carried(criterion, theta)
        found = _searched(criterion, start, self.options) if exact else self._one_step(criterion, start)
        return replace(self, design=design, criterion=criterion, found=found)

    def _carried(self, other: RandomSpread, parameters: Array) -> Array:
        """Parameters over these rows as those of the same model over others; linear in the parameters."""
        c = self.criterion
        b = np.zeros(len(self.design.fixed.names))
        b[self.kept] = np.linalg.solve(c.products.standard.to_work, parameters[: c.p])
        thetas = []
        for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
            basis = structure.basis
            move = other.products.z_to_work[f] @ np.linalg.inv(c.products.z_to_work[f])
            t = move @ structure.factor(parameters[at])
            thetas.append(np.einsum("aij,ij->a", basis, t) / np.einsum("aij,aij->a", basis, basis))
        gamma = parameters[c.phi] / c.rows.centres[:, 1]
        level = parameters[-1] + 2.0 * gamma @ (other.rows.centres[:, 0] - c.rows.centres[:, 0])
        standard = other.products.standard
        return np.concatenate([standard.to_work @ b[standard.kept], *thetas, gamma * other.rows.centres[:, 1], [level]])

    def _one_step(self, other: RandomSpread, start: Array) -> Result:
        """One Newton step by the curvature at this fit's estimates, what stands at an edge held there."""
        theta = self.evaluation.theta
        if len(other.bounded) != len(theta):
            return one_step(other.at, start, other.nonnegative)
        turn = np.array([self._carried(other, theta + e) - start for e in np.eye(len(theta))]).T
        back = np.linalg.inv(turn)
        hessian = back.T @ self.found.hessian @ back
        free = ~(other.bounded & (np.abs(start) <= 0.0))
        step = np.zeros(len(theta))
        step[free] = np.linalg.solve(hessian[np.ix_(free, free)], -other.at(start).gradient[free])
        return replace(self.found, point=other.at(start + step), hessian=hessian)

    def constrained(self, basis: Array) -> float:
        return fit_spread(self._confined_design(basis), self.options).evaluation.deviance

    def residual_sd(self, log_spread: Array | float = 0.0) -> Array:
        """Residual SD of every row (n,) for units whose log spread is ``log_spread``, weights included."""
        out = np.empty(len(self.design.y))
        out[self.criterion.rows.order] = 1.0 / np.sqrt(self.evaluation.precision)
        return out * np.exp(log_spread)

    def own_spread(self, effects: list[Array] | None = None) -> Array:
        """Each row's unit's log spread, (n,), as predicted or as in ``effects`` (levels, K) per block."""
        f = self.criterion.rows.block
        made = self.evaluation.effects(f)[0] if effects is None else effects[f]
        return np.asarray(made[:, self.criterion.rows.spread][self.design.blocks[f].unit.codes])

    def residual_draw(self, eta: Array, rng: np.random.Generator) -> Array:
        raise NotImplementedError("a unit's spread is drawn with its other effects: see simulate")

    def simulate(self, rng: np.random.Generator) -> Array:
        """An outcome drawn from the model, (n,), each unit with a spread of its own."""
        eta, effects = self.drawn_predictor(rng)
        return np.asarray(eta + rng.standard_normal(len(eta)) * self.residual_sd(self.own_spread(effects)))


def make_spread(design: Design, points: int) -> RandomSpread:
    """The numeric model of a design."""
    plain = replace(design, residual=replace(design.residual, spread=None))
    clause = next(c for c in design.clauses if c.has_spread)
    place = clause.columns.start + clause.part.names.index("spread")
    spread = design.residual.spread
    columns = () if spread is None else spread.values
    rows = SpreadRows(to_arrays(plain), clause.block, place, columns)
    return RandomSpread(rows, points, kind=SpreadPoint if rows.above is None else NestedPoint)


def without_spread(design: Design) -> Design:
    """The same design in which no unit has a spread of its own."""
    clauses: list[Clause] = []
    for c in design.clauses:
        if not c.has_spread:
            clauses.append(c)
            continue
        keep = [i for i, name in enumerate(c.part.names) if name != "spread"]
        if keep:
            clauses.append(replace(c, part=_some_columns(c.part, keep)))
    left = sorted({c.block for c in clauses})
    at, placed = [0] * len(left), []
    for c in clauses:
        f = left.index(c.block)
        placed.append(replace(c, block=f, columns=slice(at[f], at[f] + len(c.part.names))))
        at[f] += len(c.part.names)
    blocks: tuple[Block, ...] = tuple(design.blocks[f] for f in left)
    return replace(design, clauses=tuple(placed), blocks=blocks)


def _some_columns(part: ModelMatrix, keep: list[int]) -> ModelMatrix:
    return replace(
        part, names=tuple(part.names[i] for i in keep), labels=tuple(part.labels[i] for i in keep),
        values=tuple(part.values[i] for i in keep), owner=tuple(part.owner[i] for i in keep),
        degrees=tuple(part.degrees[i] for i in keep),
    )  # fmt: skip


def starting_point(c: RandomSpread, design: Design, options: SearchOptions) -> tuple[Array, float]:
    """Parameters from the model with one spread for all units, and the SD of the log spread that its residuals show."""
    plain = fit_gaussian(without_spread(design), replace(options, method="ml", points=1))
    e, standard = plain.evaluation, c.products.standard
    b = np.zeros(len(design.fixed.names))
    b[plain.kept] = e.b
    covariances = [np.zeros((u.size, u.size)) for u in c.products.units]
    for f, block in enumerate(plain.design.blocks):
        g = next(g for g, b in enumerate(design.blocks) if b.unit is block.unit)
        at = c.rows.others if g == c.rows.block else list(range(len(covariances[g])))
        covariances[g][np.ix_(at, at)] = e.covariance(f)
    rest = (plain.design.y - plain.linear_predictor() + (0.0 if design.offset is None else design.offset))[c.rows.order]
    phi = e.theta[e.criterion.phi]
    rest = rest * np.exp(-(phi @ c.rows.w)) * (1.0 if c.rows.weights is None else np.sqrt(c.rows.weights))
    squares, n = c.rows.by_unit(rest**2), c.rows.counts
    told = n > len(c.rows.others) + 1
    df = np.maximum(n - len(c.rows.others), 1.0)
    logs = 0.5 * np.log(np.maximum(squares / df, 1e-300 + 1e-6 * e.sigma2))[told]
    chance = float(np.mean(0.5 / df[told])) if told.any() else 0.0
    tau = float(np.sqrt(max(logs.var() - chance, 0.01))) if told.sum() > 1 else 0.3
    covariances[c.rows.block][c.rows.spread, c.rows.spread] = tau**2
    return _parameters(c, standard.to_work @ b[standard.kept], covariances, phi, np.log(e.sigma2) - tau**2), tau


def _parameters(c: RandomSpread, b: Array, covariances: list[Array], phi: Array, log_sigma2: float) -> Array:
    made = []
    for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
        to_work = c.products.z_to_work[f]
        theta = structure.of_covariance(to_work @ covariances[f] @ to_work.T)
        made.append(np.where(structure.bounded, np.maximum(theta, EDGE * c.scale[at]), theta))
    return np.concatenate([b, *made, phi, [log_sigma2]])


def _searched(
    c: RandomSpread, start: Array, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> Result:
    start = np.where(c.bounded & (np.abs(start) < EDGE * c.scale), EDGE * c.scale, start)
    many = c.rows.frame.n > MANY_ROWS
    found = settle(
        c.at,
        start,
        c.nonnegative,
        c.bounded,
        options.tolerance,
        options.max_steps,
        progress,
        many,
        scale=c.scale,
        steady=c.rows.above is not None,
    )
    signs = c.signs(found.point.theta)
    if not (signs < 0).any():
        return found
    return replace(found, point=c.at(signs * found.point.theta), hessian=signs[:, None] * found.hessian * signs)


def _roughly(c: RandomSpread, start: Array) -> SpreadPoint:
    """Near the minimum, by gradients alone (Byrd, Lu, Nocedal & Zhu 1995): Hessians by differences are dear here."""
    best = c.at(start)

    def f(z: Array) -> tuple[float, Array]:
        nonlocal best
        there = c.at(z * c.scale, best)
        best = there if there.deviance < best.deviance else best
        return there.deviance, there.gradient * c.scale

    from scipy.optimize import minimize  # a third of a second, for searches alone

    minimize(f, start / c.scale, jac=True, method="L-BFGS-B", options={"maxiter": ROUGH_STEPS, "ftol": 1e-7})
    return best


def fit_spread(design: Design, options: SearchOptions, progress: Callable[[int], None] | None = None) -> SpreadModel:
    """Raises UsageError for points that are no number."""
    points = POINTS if options.points in (1, "auto") else int(options.points)
    if points < 3:
        raise UsageError("a spread of each unit's own needs 3 or more --points; leave the option out for 31")
    criterion = make_spread(design, points)
    start, tau = starting_point(criterion, design, options)
    others = _other_starts(criterion, start, tau) if criterion.rows.frame.n <= SMALL else []
    if criterion.rows.above is not None:
        ends = [_roughly(replace(criterion, rough=True), s) for s in (start, *others)]
        found = _searched(criterion, min(ends, key=lambda e: e.deviance).theta, options, progress)
    else:
        found = _searched(criterion, start, options, progress)
        for other in others:
            met = descend(criterion.at, other, criterion.nonnegative, NEAR)
            if met.deviance < found.point.deviance - NEAR or not found.converged:
                again = _searched(criterion, met.theta, options)
                better = again.point.deviance < found.point.deviance
                found = again if again.converged and (better or not found.converged) else found
    return SpreadModel(design, options, criterion, found, points)


def _other_starts(c: RandomSpread, start: Array, tau: float) -> list[Array]:
    """The start with other SDs of the log residual SD than ``tau``."""
    out, at = [], c.slices[c.rows.block]
    for size in STARTS:
        other = start.copy()
        other[at] = np.where(c.of_spread, other[at] * size / tau, other[at])
        out.append(other)
    return out


def reopened_spread(
    design: Design, options: SearchOptions, theta: Array, points: int, ended: OptimizeResult[Any]
) -> SpreadModel:
    """A saved fit taken up again at its estimates; ``ended`` says how its search did."""
    criterion = make_spread(design, points)
    return SpreadModel(design, options, criterion, replace(ended, point=criterion.at(theta)), points)
