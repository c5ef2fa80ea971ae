"""Whether the rows can tell the covariance parameters apart at all: flat directions of the likelihood, by name.

Suspicion comes from the Hessian of the search, the verdict from the expected information in the variances and covariances
themselves, in which V is linear: it is singular exactly where some combination of components changes nothing.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Clause, Design
from bold_orchard.design.subset import some_rows
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.inference.variances.told_apart import null_direction
from bold_orchard.likelihood.expected_information import MOST_EFFECTS, linear_moments, widest
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint
from bold_orchard.optimize.protocol import OptimizeResult
from bold_orchard.sentence.edit import with_clause

Array = NDArray[Any]
SUSPECT = 1e-2  # fall of the deviance that a change of a parameter by its own size would promise
BESIDE = 0.1  # of the largest element of a unit's factor
FLAT = 1e-9  # of the largest eigenvalue of the expected information; exact zeros come out near 1e-14
FLAT_HESSIAN = 1e-5  # the same where only differences of the gradient are to be had
EMPTY = 1e-12  # of the information on the residual, the variances in units of it; exact zeros come out near 1e-25
FEW_EFFECTS = 600  # whose expected information comes at once
AWAY = 1e4  # of where the search starts; so far out a flat direction may lead
IN = 0.02  # weight in a flat direction from which a component belongs to it


def flat_components(design: Design, found: OptimizeResult[GaussianPoint]) -> str | None:
    """A sentence that names the components no rows of this design can tell apart, or None."""
    e = found.point
    c = e.criterion
    if not len(e.theta) or (c.linear and not _suspicious(found)):
        return None
    with np.errstate(all="ignore"):
        try:
            if not c.linear and design.counts is None and not design.on_disk:
                flat = null_direction(design, c.reml)
                return None if flat is None else _words(design, flat[0], flat[1])
            if c.linear and widest(c.products) <= MOST_EFFECTS:
                part = _of_some_levels(design, c)
                if part is not None and _null_of_information(part) is None:
                    return None
                direction = _null_of_information(e)
            else:
                direction = _null_of_hessian(found)
        except np.linalg.LinAlgError:
            return None
    return None if direction is None else _words(design, c, direction)


def _of_some_levels(design: Design, c: Criterion) -> GaussianPoint | None:
    """The start of a fit to the rows of some levels of the largest unit; None where all are few.

    Rows left out only take information away (restricted likelihoods rest on fewer contrasts of the same rows): what some rows
    tell apart, all do.
    """
    wide, largest = widest(c.products), max(c.products.units, key=lambda u: u.levels, default=None)
    if wide <= FEW_EFFECTS or largest is None or design.counts is not None or design.on_disk:
        return None
    keep = np.flatnonzero(largest.codes < FEW_EFFECTS // (2 * largest.size))
    try:
        part = make_criterion(some_rows(design, keep), c.reml, few=True)
    except OrchardError:
        return None
    return part.at(part.start()) if part.products.p == c.products.p and widest(part.products) <= FEW_EFFECTS else None


def _suspicious(found: OptimizeResult[GaussianPoint]) -> bool:
    e, c = found.point, found.point.criterion
    free = ~(c.bounded & (np.abs(e.theta) <= 0.0))
    if not free.any():
        return bool(c.bounded.any())
    if _far_out(e):  # where rounding bends what is flat
        return True
    size = _sizes(e)[free]
    hessian = found.hessian if len(found.hessian) else np.zeros((len(free), len(free)))
    least = np.linalg.eigvalsh(hessian[np.ix_(free, free)] * np.outer(size, size))[0]
    return bool(least < SUSPECT + 1e-8 * abs(e.deviance)) or not free.all()


def _far_out(e: GaussianPoint) -> bool:
    return bool((np.abs(e.theta) > AWAY * np.maximum(np.abs(e.criterion.start()), 1.0)).any())


def _sizes(e: GaussianPoint) -> Array:
    """By how much a parameter may change before the model is another: its own size, a start's, or 1 of the residual's.

    Elements near zero beside others of their unit (uncorrelated effects) are measured by these.
    """
    sizes = np.maximum(np.abs(e.theta), np.abs(e.criterion.start()))
    for at in e.criterion.slices:
        sizes[at] = np.maximum(sizes[at], BESIDE * sizes[at].max(initial=0.0))
    own = slice(e.criterion.phi.start, e.criterion.alpha.stop)
    sizes[own] = np.maximum(sizes[own], 1.0)
    return np.asarray(sizes)


def _null_of_information(e: GaussianPoint) -> Array | None:
    """The flat direction over (covariance elements of all units, the residual), scaled to the residual variance."""
    if _far_out(e):  # where digits are left: no point tells more than another
        e = e.criterion.at(e.criterion.start())
    made = linear_moments(e)
    unit = np.append(np.full(len(made.traces) - 1, e.sigma2), 1.0)  # variances in units of the residual's
    information = (made.information if e.criterion.reml else 0.5 * made.traces) * np.outer(unit, unit)
    scale = np.sqrt(np.maximum(np.diag(information), 1e-300))
    empty = np.diag(information) <= EMPTY * float(np.diag(information).max())
    if empty.any():
        return empty.astype(float)
    values, vectors = np.linalg.eigh(information / np.outer(scale, scale))
    if values[0] > FLAT * values[-1]:
        return None
    direction = np.asarray(vectors[:, 0] / scale)
    return direction / float(np.abs(direction).max())


def _null_of_hessian(found: OptimizeResult[GaussianPoint]) -> Array | None:
    """The same from the search's Hessian, for models inside their bounds only; phi stand in the residual's place."""
    e, c = found.point, found.point.criterion
    if not len(found.hessian) or (np.abs(e.theta[c.bounded]) < 1e-6).any():
        return None
    size = _sizes(e)
    values, vectors = np.linalg.eigh(found.hessian * np.outer(size, size))
    if values[0] > FLAT_HESSIAN * values[-1]:
        return None
    direction = np.abs(vectors[:, 0])
    rest = direction[c.n_theta :].max(initial=0.0)
    return np.append(direction[: c.n_theta], rest) / float(direction.max())


def _never_together(design: Design) -> str:
    """The first two occasions that no unit has both; empty where there are none."""
    rows = design.residual
    if rows.codes is None or not rows.labels or rows.time is None:
        return ""
    have = np.zeros((int(rows.codes.max()) + 1, len(rows.labels)))
    have[rows.codes, rows.time.astype(np.intp)] = 1.0
    pairs = np.argwhere(np.triu(have.T @ have == 0))
    return f"{rows.labels[pairs[0][0]]} and {rows.labels[pairs[0][1]]}" if len(pairs) else ""


def levels_apart(design: Design, clause: Clause) -> str:
    """A remedy where two effects of a clause stand in no unit together, so that rows tell no correlation of them."""
    have = np.zeros((design.units[clause.unit].size, len(clause.part.names)))
    for k, values in enumerate(clause.part.values):
        np.maximum.at(have[:, k], design.units[clause.unit].codes, values != 0)
    pairs = np.argwhere(np.triu(have.T @ have == 0, 1) & np.outer(have.any(axis=0), have.any(axis=0)))
    related = design.blocks[clause.block].relationship_factor is not None
    if not len(pairs) or clause.structure.kind != "unstructured" or clause.wiggle or related:
        return ""
    one, two = (clause.part.names[k] for k in pairs[0])
    place = next(k for k, c in enumerate(design.clauses) if c is clause)
    offer = with_clause(design.sentence, place, design.sentence.each[place].terms, "diagonal").source
    return (
        f"No {design.units[clause.unit].name} has rows of both {one} and {two}, so the correlation of their effects cannot be estimated; "
        f"their variances can. Write: {offer}"
    )


def _words(design: Design, criterion: Criterion, direction: Array) -> str:
    """In words; ``direction`` is over (covariance elements by unit, what else V depends on), the residual last."""
    at, names = 0, []
    found: list[Clause] = []
    for f, structure in enumerate(criterion.structures):
        parts = [c for c in design.clauses if c.block == f]
        sizes = [b.structure.n_theta for b in criterion.products.units[f].blocks]
        for clause, size in zip(parts, sizes):
            weights = np.abs(direction[at : at + size])
            at += size
            if size and weights.max() > IN:
                names.append(f"{design.units[clause.unit].name} ({', '.join(clause.part.names)})")
                found.append(clause)
        assert sum(sizes) == structure.n_theta
    apart = _never_together(design)
    if not names and apart:
        return (
            f"The rows cannot tell the covariance of {apart} in {design.residual.unit}: they never stand in one {design.residual.unit} together. "
            "The figures of the residual are one choice among many; do not use them. Leave such occasions out, or write "
            f"within {design.residual.unit}: exchangeable, or ar1 of a time."
        )
    residual = float(np.abs(direction[at:]).max(initial=0.0)) > IN
    if len(found) == 1 and not residual and (remedy := levels_apart(design, found[0])):
        return remedy
    what = " and ".join([*names, *(["the residual"] if residual else [])])
    why = "several sets of values give one and the same likelihood"
    if len(names) == 1 and not residual:
        why = "the fixed part takes up what they would explain, or the clause's own terms say the same"
    return (
        f"The rows cannot tell the variances and covariances of {what} apart: {why}. The figures of these components are one choice "
        "among many; do not use them. Leave terms out of the clause, or use more rows in each unit."
    )
