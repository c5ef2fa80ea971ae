"""The fit's algebra written out: X, Z, G, R and the mixed-model equations, for models small enough to look at."""

from __future__ import annotations

from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError, unknown_name
from bold_orchard.estimation.arrays import row_order
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.fit import Fit

Array = NDArray[Any]
MOST_EFFECTS, MOST_ROWS = 2000, 20000  # sizes whose dense matrices are made in seconds and still looked at


@dataclass(frozen=True)
class Labelled:
    """A matrix with the names of its rows and columns."""

    values: Array
    rows: list[str]
    columns: list[str]


def write_out(fit: Fit, level: str | None = None) -> dict[str, Labelled]:
    """X, Z, G, its inverse, R of one unit's rows and its inverse, the mixed-model equations and their solution.

    Henderson (1953): [X'R^-1X, X'R^-1Z; Z'R^-1X, Z'R^-1Z + G^-1] [b; u] = [X'R^-1y; Z'R^-1y]. ``level`` names the level
    of the first unit whose R is shown (default: the first level). Where G is singular its Moore-Penrose inverse is
    written and the lower equations are multiplied by G: [G Z'R^-1X, G Z'R^-1Z + I] [b; u] = G Z'R^-1y. Raises OrchardError for a model too large to write.
    """
    design = fit.design
    effects = sum(b.unit.size * _width(fit, i) for i, b in enumerate(design.blocks))
    if effects > MOST_EFFECTS or len(design.y) > MOST_ROWS:
        raise OrchardError(
            f"the matrices are too large to write: {len(design.y):,} rows and {effects:,} random effects; the limits are "
            f"{MOST_ROWS:,} and {MOST_EFFECTS:,} (use --where for a part of the data)"
        )
    rows = [str(r) for r in design.table.row_numbers]
    return _written(fit.model, fit, rows, _rows_of(fit, level))


@singledispatch
def _written(model: object, fit: Fit, rows: list[str], mine: Array) -> dict[str, Labelled]:
    raise NotImplementedError(type(model).__name__)


@_written.register
def _(model: GaussianModel, fit: Fit, rows: list[str], mine: Array) -> dict[str, Labelled]:
    design = model.design
    kept = fit.evaluation.criterion.products.standard.kept
    x = np.column_stack([design.fixed.values[c] for c in kept]) if kept else np.zeros((len(rows), 0))
    fixed = [design.fixed.names[c] for c in kept]
    z, g, names = _random(fit)
    r = residual_covariance(model)
    r_inverse = np.linalg.inv(r)
    singular = is_singular(g)
    g_inverse = np.linalg.pinv(g, hermitian=True) if singular else np.linalg.inv(g)
    xz, p = np.hstack([x, z]), len(fixed)
    equations, side = xz.T @ r_inverse @ xz, xz.T @ r_inverse @ design.y
    if singular:
        equations[p:], side[p:] = g @ equations[p:], g @ side[p:]
        equations[p:, p:] += np.eye(len(names))
    else:
        equations[p:, p:] += g_inverse
    solution = np.linalg.solve(equations, side)
    both = [*fixed, *names]
    own = [rows[i] for i in mine]
    return {
        "X": Labelled(x, rows, fixed),
        "Z": Labelled(z, rows, names),
        "G": Labelled(g, names, names),
        "G_inverse": Labelled(g_inverse, names, names),
        "R": Labelled(r[np.ix_(mine, mine)], own, own),
        "R_inverse": Labelled(np.linalg.inv(r[np.ix_(mine, mine)]), own, own),
        "equations": Labelled(equations, both, both),
        "right_side": Labelled(side[:, None], both, ["right side"]),
        "solution": Labelled(solution[:, None], both, ["solution"]),
    }


@_written.register
def _(model: SpreadModel, fit: Fit, rows: list[str], mine: Array) -> dict[str, Labelled]:
    unit = fit.design.units[0].name
    raise OrchardError(
        f"the equations of a mixed model are those of known residual variances; here every {unit}'s own is predicted, so there is no one "
        "set to write out; look at orchard groups, or fit without the spread of each unit"
    )


@_written.register
def _(model: GeneralizedModel, fit: Fit, rows: list[str], mine: Array) -> dict[str, Labelled]:
    """The same where the likelihood is not Gaussian: the equations that the effects solve at the mode, given b.

    (Z'WZ + G^-1) u = Z'(W Z u + l'), W = -l'' of the rows; R is 1/W. Multiplied by G where that is singular.
    """
    design = fit.design
    fixed = [design.fixed.names[c] for c in fit.evaluation.criterion.products.standard.kept]
    x = np.column_stack(
        [v for n, v in zip(design.fixed.names, design.fixed.values) if n in fixed] or [np.zeros(len(rows))]
    )
    z, g, names = _random(fit)
    eta = model.linear_predictor() - model.shift
    _, first, second, _ = model.family.derivatives(eta, model.extra)
    weight = np.broadcast_to(-second, (len(rows),))
    u = np.concatenate([np.zeros(0), *(u.ravel() for u, _ in fit.model.effects)])
    equations, side = (z.T * weight) @ z, z.T @ (weight * (z @ u) + first)
    singular = is_singular(g)
    g_inverse = np.linalg.pinv(g, hermitian=True) if singular else np.linalg.inv(g)
    equations, side = (g @ equations + np.eye(len(names)), g @ side) if singular else (equations + g_inverse, side)
    own = [rows[i] for i in mine]
    return {
        "X": Labelled(x, rows, fixed or ["(none)"]),
        "Z": Labelled(z, rows, names),
        "G": Labelled(g, names, names),
        "G_inverse": Labelled(g_inverse, names, names),
        "R": Labelled(np.diag(1.0 / weight[mine]), own, own),
        "R_inverse": Labelled(np.diag(weight[mine]), own, own),
        "equations": Labelled(equations, names, names),
        "right_side": Labelled(side[:, None], names, ["right side"]),
        "solution": Labelled(np.linalg.solve(equations, side)[:, None], names, ["solution"]),
    }


def is_singular(g: Array) -> bool:
    """Whether some combination of the effects has no variance."""
    if not len(g):
        return False
    scale = np.sqrt(np.diag(g))
    if not np.all(scale > 0):
        return True
    return bool(np.linalg.eigvalsh(g / np.outer(scale, scale))[0] < 1e-9)


def _width(fit: Fit, block: int) -> int:
    return fit.criterion.structures[block].size


def _random(fit: Fit) -> tuple[Array, Array, list[str]]:
    """Z (n, q), G (q, q) and the names of the effects, unit by unit, level by level."""
    design, e = fit.design, fit.evaluation
    n = len(design.y)
    zs, gs, names = [], [], []
    for i, block in enumerate(design.blocks):
        clauses = [c for c in design.clauses if c.block == i]
        terms = [t for c in clauses for t in c.part.names]
        values = np.column_stack([v for c in clauses for v in c.part.values])
        k, size = len(terms), block.unit.size
        z = np.zeros((n, size * k))
        for a in range(k):
            z[np.arange(n), block.unit.codes * k + a] = values[:, a]
        between = (
            np.eye(size)
            if block.relationship_factor is None
            else block.relationship_factor @ block.relationship_factor.T
        )
        zs.append(z)
        g = np.kron(between, e.covariance(i))
        if not (e.scales(i) == 1.0).all():
            each = e.scales(i).T / fit.criterion.grown(e.theta[fit.criterion.alpha], i)
            g = g * np.outer(each.ravel(), each.ravel())
        gs.append(g)
        names += [f"{block.unit.name} {label}: {t}" for label in block.unit.texts for t in terms]
    q = sum(g.shape[0] for g in gs)
    g = np.zeros((q, q))
    at = 0
    for part in gs:
        g[at : at + len(part), at : at + len(part)] = part
        at += len(part)
    return (np.hstack(zs) if zs else np.zeros((n, 0))), g, names


def residual_covariance(model: GaussianModel) -> Array:
    """R over all rows used, (n, n), in the order of the table."""
    e, design, correlated = model.evaluation, model.design, model.criterion.correlated
    n = len(design.y)
    r, order = np.eye(n), row_order(design.residual)
    if correlated is not None:
        r = correlated.rows.dense(e.theta[e.criterion.phi])
        if order is not None:
            back = np.argsort(order)
            r = r[np.ix_(back, back)]
    root = np.full(n, np.sqrt(e.sigma2)) if design.weights is None else np.sqrt(e.sigma2 / design.weights)
    return np.asarray(r * np.outer(root, root))


def _rows_of(fit: Fit, level: str | None) -> Array:
    """Positions of the rows of one level of the first unit (or of the unit of within)."""
    units = fit.design.units
    if not units:
        return np.arange(min(len(fit.design.y), 50))
    unit = units[0]
    if level is None:
        level = unit.texts[int(unit.codes[0])]
    if level not in unit.texts:
        raise OrchardError(unknown_name("level", level, unit.texts, unit.name))
    return np.flatnonzero(unit.codes == unit.texts.index(level))
