"""What makes a fit unusable although its search ended: nothing told apart, an outcome split, effects without end."""

from __future__ import annotations

from dataclasses import dataclass
from functools import singledispatch

import numpy as np

from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.variances.identified import flat_components
from bold_orchard.results.notes import Note

APART = 200.0  # ratio of residual SDs that no measurements of one kind show
MOST_LEVELS = 40  # of a spread by category
LEVEL_OUT = 1e-2  # curvature of the deviance in a log SD; each row that tells of it adds some 2


@dataclass(frozen=True)
class Trouble:
    """``notes`` say why the figures must not be used, ``remarks`` what else stands above the tables."""

    notes: tuple[str, ...] = ()
    identified: bool = True
    remarks: tuple[str, ...] = ()


def _reproduced(model: GaussianModel) -> bool:
    """Whether the fixed part can reproduce all rows of one spread, so that their density has no bound; units' effects give it one."""
    design = model.design
    part = design.residual.spread
    if model.criterion.reml or design.clauses or part is None:
        return False
    distinct, level = np.unique(np.column_stack(part.values), axis=0, return_inverse=True)
    x = np.column_stack([design.fixed.values[k] for k in model.kept])
    return len(distinct) <= MOST_LEVELS and any(
        (level.ravel() == j).sum() <= np.linalg.matrix_rank(x[level.ravel() == j]) for j in range(len(distinct))
    )


@singledispatch
def trouble_of(model: object) -> Trouble:
    """Everything that is wrong with a fit beside its search."""
    return Trouble()


@trouble_of.register
def _(model: GaussianModel) -> Trouble:
    found = model.found
    known = len(found.hessian) or not len(found.point.theta) or not found.point.criterion.linear
    flat = flat_components(model.design, found) if known else None
    if flat is not None:
        return Trouble((Note(flat, "not identified"),), identified=False)
    endless = _without_maximum(model)
    return Trouble() if endless is None else Trouble((Note(endless, "no maximum"),))


def _without_maximum(model: GaussianModel) -> str | None:
    """That the likelihood goes on rising as the residual SD of some rows goes to zero; None where it does not."""
    found, rows, part = model.found, model.criterion.correlated, model.design.residual.spread
    if part is None or rows is None or not len(found.hessian):
        return None
    phi = found.point.theta[model.criterion.phi]
    scale = np.asarray(rows.rows.scale(phi)) / np.asarray(
        getattr(rows.rows, "inner", rows.rows).scale(phi[: -len(part.names)])
    )
    curvature = np.abs(np.diag(found.hessian)[model.criterion.phi])[-len(part.names) :]
    flat = [n for n, c in zip(part.labels, curvature) if c < LEVEL_OUT]
    if (not flat or float(scale.max() / scale.min()) < APART) and not _reproduced(model):
        return None
    flat = flat or list(part.labels)
    return (
        f"The likelihood has no maximum: it goes on rising as the residual SD of some rows goes to zero (spread: {' and '.join(flat)}), which the "
        "fixed part can reproduce. Do not use these figures. Leave that out of the spread, or join small levels first."
    )
