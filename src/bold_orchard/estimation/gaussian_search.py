"""Gaussian models: the exact likelihood, sought from the moments of the data and, where a doubt stands, from elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.unstructured import Unstructured
from bold_orchard.crossproducts.arrays import Arrays
from bold_orchard.crossproducts.assemble import cross_products, split
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.varying import Varying, VaryingPart
from bold_orchard.crossproducts.wide.products import WideProducts, wide_products
from bold_orchard.design.design import Design
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.arrays import to_arrays
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.estimation.starts import scaled_starts
from bold_orchard.estimation.wide_search import search_wide, walk_wide
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint
from bold_orchard.likelihood.moments import OFF_EDGE
from bold_orchard.likelihood.wide import WideCriterion
from bold_orchard.optimize.by_values import descend_by_values
from bold_orchard.optimize.newton import descend, difference_hessian, minimise, scaled
from bold_orchard.optimize.protocol import Counter, Ending, OptimizeResult

Array = NDArray[Any]
Result = OptimizeResult[GaussianPoint]
FAR = 0.8  # step in the residual correlation's parameter that leads out of a neighbouring optimum
MOST_DIFFICULT = 50  # steps: a limit below it was set by a person who wants the search to stop
UNEVEN_WEIGHTS = 1e3  # weights this far apart make likelihoods with several maxima
TRIED = 3  # of the other starts, the best are followed
SMALL = 5_000  # effects up to which every fit is tried from other starts
DEAR = 1_500  # crossed effects from which one factor costs more than a search by random signs
MOST_VALUES = 6_000  # evaluations of a search by values, some seconds
AT_EDGE = 1e-5  # deviance by which an edge may lie above a point beside it from which the search knew no way
FEW_STEPS = 30  # of that search, whose end is only a beginning
MOST_CROSSED = 12_000  # effects whose dense factor still fits in memory (1.2 GB)
MOST_CROSSED_CORRELATED = 1_500  # the same where many such factors are made for one gradient


def search(
    criterion: Criterion, start: Array, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> Result:
    """Minimise the criterion, then bring the parameters to the form in which they are reported."""
    if isinstance(criterion, WideCriterion):
        return search_wide(criterion, start, options, progress)
    found = _minimise(criterion, start, options, progress)
    edge = bool((np.abs(found.point.theta[criterion.bounded]) < 1e-3).any())
    found = _from_other_scales(criterion, found, options, edge)
    if criterion.phi.stop > criterion.phi.start and (edge or not found.converged):
        for other in _far_starts(criterion):
            found = _or(found, partial(_minimise, criterion, other, options, progress))
    if not found.converged and options.max_steps >= MOST_DIFFICULT:
        found = _or(found, partial(_in_another_order, criterion, found, options))
    if not found.converged and options.max_steps >= MOST_DIFFICULT:
        found = _at_an_edge(criterion, found)
    found = _on_its_edge(criterion, found)
    signs = criterion.signs(found.point.theta)
    if (signs < 0).any():
        turned = criterion.at(signs * found.point.theta)
        moves = tuple((s * h, base, moved) for s, (h, base, moved) in zip(signs, found.moves))
        found = replace(found, point=turned, hessian=signs[:, None] * found.hessian * signs, moves=moves)
    return found


def _minimise(
    criterion: Criterion, start: Array, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> Result:
    edges, limit = criterion.bounded, options.max_steps
    return minimise(
        criterion.at, start, criterion.nonnegative, edges, options.tolerance, limit, progress, criterion.lost
    )


def _from_other_scales(criterion: Criterion, found: Result, options: SearchOptions, edge: bool) -> Result:
    """Search again from other scales of the effects: everywhere in small models, in large ones where a doubt stands."""
    effects = sum(u.levels * u.size for u in criterion.products.units)
    uneven = criterion.products.uneven > UNEVEN_WEIGHTS
    if not criterion.n_theta or (effects > SMALL and not (edge or uneven or not found.converged)):
        return found
    count = Counter(criterion.at)
    tried = [p for p in map(count.attempt, scaled_starts(criterion, found.point.theta)) if p is not None]
    tried.sort(key=lambda p: p.deviance)
    doubtful = effects <= SMALL and (edge or uneven or not found.converged)
    for point in tried[: TRIED if doubtful else 1]:
        if not doubtful and point.deviance > found.point.deviance:
            break
        low = descend(criterion.at, point.theta, criterion.nonnegative)
        if low.deviance < found.point.deviance - 1e-6 or not found.converged:
            found = _or(found, partial(_minimise, criterion, low.theta, options))
    return found


def _on_its_edge(criterion: Criterion, found: Result) -> Result:
    """A parameter of the residual covariance all but at its edge put there, where that costs nothing."""
    for theta in criterion.edges(found.point.theta) if found.converged else []:
        there = criterion.at(theta)
        if there.deviance <= found.point.deviance + AT_EDGE:
            return _on_its_edge(criterion, replace(found, point=there, moves=()))
    return found


def _at_an_edge(criterion: Criterion, found: Result) -> Result:
    """Search with a parameter of the residual covariance put at an edge near by, by values alone; what was found where that leads nowhere."""

    count = Counter(criterion.at)

    def value(theta: Array) -> float:
        if count.calls > MOST_VALUES:
            return np.inf
        try:
            made = count(theta).deviance
        except np.linalg.LinAlgError:
            return np.inf
        return float(made) if np.isfinite(made) else np.inf

    def free(theta: Array) -> NDArray[np.bool_]:
        return ~(criterion.bounded & (np.abs(theta) <= 0.0)) & ~criterion.lost(theta)

    def ended(start: Array) -> Result:
        theta, hessian, promised = descend_by_values(value, start, free)
        left = free(theta)
        values = np.linalg.eigvalsh(scaled(hessian)[np.ix_(left, left)]) if left.any() else np.ones(1)
        good = bool(promised < 1e-6 and values[0] > 0)
        reason = Ending.WELL if good else Ending.FALLS
        return replace(
            found, point=criterion.at(theta), converged=good, decrement=promised, hessian=hessian, reason=reason, moves=()
        )  # fmt: skip

    best = found
    at = found.point.theta
    near = criterion.edges(at) if len(at) ** 2 < MOST_VALUES / 30 else []
    starts = [at, *near] if near or criterion.lost(at).any() else []
    for _ in range(1 + criterion.phi.stop - criterion.phi.start):
        made = [r for r in map(ended, starts) if r.converged or not best.converged]
        there = min(made, key=lambda r: (not r.converged, r.point.deviance), default=None)
        if (
            there is None
            or there.point.deviance > best.point.deviance + AT_EDGE
            or (best.converged and there.point.deviance >= best.point.deviance - AT_EDGE)
        ):
            break
        best, starts = there, criterion.edges(there.point.theta)
    return best


def _better(one: Result, two: Result) -> Result:
    """The lower deviance; at a tie the one that converged."""
    gain = one.point.deviance - two.point.deviance
    return two if gain > 1e-7 or (gain > -1e-7 and two.converged and not one.converged) else one


def _or(found: Result, search: Callable[[], Result]) -> Result:
    """The better of what was found and what another search finds; where that leaves the ground the likelihood stands on, the first."""
    try:
        return _better(found, search())
    except np.linalg.LinAlgError:
        return found


def _far_starts(criterion: Criterion) -> list[Array]:
    """The usual start with other correlations: variances between units and the correlation inside them compete."""
    at = criterion.phi.start
    starts = []
    for shift in (FAR, -2.0 * FAR) if not criterion.nonnegative[at] else (FAR,):
        start = criterion.start()
        start[at] += shift
        starts.append(start)
    return starts


def _in_another_order(criterion: Criterion, found: Result, options: SearchOptions) -> Result:
    """Search again with T triangular in the order of the variances found, and bring the result back."""
    theta, units = found.point.theta.copy(), []
    for unit, at in zip(criterion.products.units, criterion.slices):
        blocks, place = [], at.start
        for block in unit.blocks:
            own = slice(place, place + block.structure.n_theta)
            place = own.stop
            structure = block.structure
            if isinstance(structure, Unstructured):
                t = structure.factor(theta[own])
                structure = structure.by_size(theta[own])
                theta[own] = structure.of_covariance(t @ t.T)
            blocks.append(replace(block, structure=structure))
        units.append(replace(unit, blocks=tuple(blocks)))
    moved = replace(criterion, products=replace(criterion.products, units=tuple(units)))
    again = _minimise(moved, theta, options)
    back = again.point.theta.copy()
    for f, (unit, at) in enumerate(zip(criterion.products.units, criterion.slices)):
        place = at.start
        for block, turned in zip(unit.blocks, units[f].blocks):
            own = slice(place, place + block.structure.n_theta)
            place = own.stop
            if isinstance(block.structure, Unstructured):
                t = turned.structure.factor(back[own])
                back[own] = block.structure.of_covariance(t @ t.T)
    return replace(
        again, point=criterion.at(back), hessian=difference_hessian(criterion.at, criterion.at(back)), moves=()
    )


def make_criterion(design: Design, reml: bool, few: bool = False) -> Criterion:
    """The numeric model of a design, to be evaluated often, or a ``few`` times."""
    arrays = to_arrays(design)
    products: CrossProducts
    if _is_wide(design, arrays):
        products, correlated = wide_products(arrays), None
    else:
        products, correlated = cross_products(arrays, few)
    rounding = 10.0 * np.finfo(float).eps * float(np.linalg.norm(design.y))
    if products.dense[-1, -1] <= rounding**2:
        raise OrchardError(
            f"the fixed part reproduces '{design.outcome}' exactly, so nothing is left to vary; "
            "is one of the terms computed from the outcome?"
        )
    if isinstance(products, WideProducts):
        return WideCriterion(products, reml)
    return Criterion(products, reml, correlated, varying(design, products), design.known_errors)


def first_guess(design: Design, criterion: Criterion) -> Array:
    """Where a search begins: by moments; where every look factors a large matrix, where slopes by random signs are zero."""
    start = criterion.start()
    if isinstance(criterion, WideCriterion) or criterion.products.q < DEAR:
        return start
    arrays = to_arrays(design)
    if len(split(arrays)[0]) != 1 or _beside_crossings(design, arrays):
        return start
    quick = WideCriterion(wide_products(arrays), criterion.reml)
    try:
        theta = walk_wide(quick, quick.start(), FEW_STEPS)[0].theta
    except np.linalg.LinAlgError:
        return start
    return np.where(criterion.bounded, np.maximum(theta, OFF_EDGE), theta)


def varying(design: Design, products: CrossProducts) -> Varying | None:
    """On what the SDs of which effects depend; raises OrchardError beside crossings too large to hold densely."""
    parts = []
    for clause in design.clauses:
        if clause.vary is None:
            continue
        unit = design.blocks[clause.block].unit
        first = np.empty(unit.size, dtype=np.intp)
        first[unit.codes[::-1]] = np.arange(len(unit.codes))[::-1]
        w = np.array([v[first] for v in clause.vary.values])
        parts.append(VaryingPart(clause.block, clause.columns, w, w.std(axis=1), w.mean(axis=1)))
    if parts and any(s.crossing is not None for s in products.stages):
        raise OrchardError("vary with is not made for crossed units as large as these; leave one of the units out")
    return Varying(tuple(parts)) if parts else None


def _beside_crossings(design: Design, arrays: Arrays) -> str:
    """What stands in the sentence that no sparse crossing is made with; empty where nothing does."""
    structures = [c.structure.kind for c in design.clauses]
    return (
        "within or spread" if arrays.rows is not None or design.known_errors
        else "vary with" if any(c.vary is not None for c in design.clauses)
        else next((f"a covariance that is {kind}" for kind in structures if kind in ("known", "given")), "")
    )  # fmt: skip


def _is_wide(design: Design, arrays: Arrays) -> bool:
    """Whether the dense part would be too large to factor; raises OrchardError where nothing else will do."""
    _, tail = split(arrays)
    width = sum(arrays.units[f].levels * arrays.units[f].size for f in tail)
    limit = MOST_CROSSED if arrays.rows is None else MOST_CROSSED_CORRELATED
    if width <= limit:
        return False
    beside = _beside_crossings(design, arrays)
    if not beside:
        return True
    names = " and ".join(f"{design.blocks[f].unit.name} ({arrays.units[f].levels:,} levels)" for f in tail)
    raise OrchardError(
        f"{names}: {width:,} effects crossed with a larger unit are too many beside {beside} (at most {limit:,}); leave the "
        "unit out, or fit a part of the data with --where"
    )
