"""Searching the likelihood of a generalized model: from a start without units, a sample of the units, other sizes of the effects."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.crossproducts.arrays import Arrays
from bold_orchard.crossproducts.weighted import Weighted
from bold_orchard.design.design import Design
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.arrays import to_arrays
from bold_orchard.estimation.options import BROKE, SearchOptions
from bold_orchard.estimation.several_predictors import SeveralLaplace, SeveralQuadrature, several_laplace
from bold_orchard.estimation.swept import part_of, swept
from bold_orchard.families import family_of
from bold_orchard.families.base import Family
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.point import LaplacePoint
from bold_orchard.likelihood.laplace.swept import Swept
from bold_orchard.likelihood.quadrature import MOST_TERMS, Quadrature
from bold_orchard.optimize.newton import descend, scaled
from bold_orchard.optimize.protocol import Counter, OptimizeResult
from bold_orchard.optimize.secant import difference_hessian, settle

Array = NDArray[Any]
Result = OptimizeResult[LaplacePoint]
START = 0.5  # SD of the effects on the linear scale that most data are near
STEPS = 40  # of Newton's method for a model without units; some ten are usual
AUTO = (1, 3, 5, 7, 9, 11, 15, 21, 31, 45, 65, 95)  # points tried in turn
ENOUGH = 1e-4  # change of the log-likelihood that no printed figure shows
FAR = 30.0  # linear predictor beyond which a chance is 0 or 1 in double precision
ROUGHLY = 1e-3  # the same where a search of many rows begins: its first step leads far away
EXACT = 1e-7  # longest step of an effect after which the reported mode counts as found
SMALL = 2_000  # rows up to which a fit is tried from other sizes of its effects
SIZES = (0.1, 0.5, 2.0, 6.0, 15.0)  # SDs of the effects on the linear scale
STRETCHED = (2.0, 4.0)  # times the effects found
ALMOST_NONE = 0.05  # SDs of the effects beside the coefficients of a model without units
MOST_SPENT = 250  # evaluations on other starts that run away: a hundred each
LONG = 60  # evaluations after which a search that failed is not begun again
PROMISING = 15.0  # deviance above the minimum found, within which another start may lead lower
LOWER = 1e-2  # deviance by which a search that did not end must lie lower to be believed
SCATTERED, ROUGH = (
    12,
    1e-1,
)  # starts at random where a likelihood has several optima, and what their descents leave undone
TINY, TINIEST = 300, 60  # rows up to which the best of every size is followed, and up to which every promising start
GROWTH = 0.35  # (16 sqrt(3) / (15 pi))^2: how coefficients of a logistic model grow with the variance (Zeger and others 1988)
# from so many rows and levels a start from a sample of that many levels pays
MANY_ROWS, MANY_LEVELS, SAMPLE = 20_000, 500, 300
INDEPENDENT = 1e-6  # least eigenvalue of the scaled products of a sample's columns
SHARE = 10  # times the sample's levels from which its Hessian is worth the time


def check_points(design: Design, points: int | str) -> None:
    """Quadrature is for one unit with up to three terms."""
    if points in (1, "auto") and (points == 1 or not _reachable(design)):
        return
    if not _reachable(design):
        units = " and ".join(u.name for u in design.units) or "no unit"
        terms = sum(len(c.part.names) for c in design.clauses)
        raise UsageError(
            f"--points needs one unit with up to {MOST_TERMS} terms, all levels independent; here there "
            f"{'is' if len(design.units) == 1 else 'are'} {units} with {terms} terms; leave --points out for Laplace"
        )


def _reachable(design: Design) -> bool:
    terms = sum(len(c.part.names) for c in design.clauses)
    return len(design.blocks) == 1 and terms <= MOST_TERMS and design.blocks[0].relationship_factor is None


def make_laplace(design: Design) -> Any:
    """The numeric model of a design: a ``Laplace``, or of rows on disk a ``Swept``."""
    plain = to_arrays(replace(design, y=np.broadcast_to(0.0, len(design.y)), weights=None))
    if not design.on_disk:
        return _laplace(plain, design)
    return swept(_without_intercept(plain, design), make_family(design), design.offset)


def _laplace(arrays: Arrays, design: Design) -> Laplace:
    """The model over all rows."""
    if design.predictors:
        return several_laplace(arrays, design, make_family(design))
    rows, family = Weighted(_without_intercept(arrays, design)), make_family(design)
    order = rows.order
    return Laplace(rows, family.on(family.data.take(order)), None if design.offset is None else design.offset[order])


def _without_intercept(arrays: Arrays, design: Design) -> Arrays:
    """Thresholds of grades belong to columns centred over the rows at hand; other families stay as they are."""
    if family_of(design.family).intercept:
        return arrays
    centred = tuple(arrays.columns[k] - arrays.columns[k].mean() for k in arrays.x)
    first = len(arrays.columns)
    x = tuple(range(first, first + len(centred)))
    return replace(arrays, columns=(*arrays.columns, *centred), x=x, intercept=False)


def start_of_a_part(c: Swept) -> Array:
    """Where a rough search of the first part ends."""
    part = next(c.each_part())
    start = starting_point(part)
    try:
        with np.errstate(all="ignore"):
            theta = descend(part.at, start, part.nonnegative, 1e-2).theta
    except (OrchardError, np.linalg.LinAlgError):
        return start
    return np.where(c.bounded, np.maximum(theta, 0.05), theta)


def sampled_start(design: Design, laplace: Laplace) -> tuple[Array, Array | None] | None:
    """Where the search ends on a sample of the units, a start for all of them, and about what Hessian they have there.

    None where units hang together, and where rows or units are few.
    """
    rows = laplace.rows
    if rows.frame.n < MANY_ROWS or rows.frame.tails or not rows.chain:
        return None
    plain = to_arrays(replace(design, y=np.broadcast_to(0.0, len(design.y)), weights=None))
    top = plain.units[rows.chain[-1]]
    if top.levels < MANY_LEVELS:
        return None
    chosen = np.random.default_rng(0).permutation(top.levels) < max(SAMPLE, top.levels // 15)
    keep, arrays = np.flatnonzero(chosen[top.codes]), _without_intercept(plain, design)
    part, _ = part_of(arrays, rows.standard, make_family(design), design.offset, keep)
    if not _tells(part, laplace, design):
        return None
    try:
        with np.errstate(all="ignore"):
            point = descend(part.at, starting_point(part), part.nonnegative, 1e-2)
            few = chosen.sum() * SHARE <= top.levels
            hessian = difference_hessian(point, part.scale) * (top.levels / chosen.sum()) if few else None
    except (OrchardError, np.linalg.LinAlgError):
        return None
    if not np.isfinite(point.theta).all():
        return None
    theta = np.where(laplace.bounded, np.maximum(point.theta, 0.05), point.theta)
    if hessian is None or not np.isfinite(hessian).all() or np.linalg.eigvalsh(scaled(hessian))[0] <= 0:
        return theta, None
    return theta, hessian


def _tells(part: Laplace, laplace: Laplace, design: Design) -> bool:
    """Whether a sample tells of every coefficient and every grade: a rare category or grade may have no row in it."""
    if design.graded and len(np.unique(part.family.y)) < len(np.unique(laplace.family.y)):
        return False
    x = part.rows.x if family_of(design.family).intercept else np.vstack([np.ones(part.rows.frame.n), part.rows.x])
    gram = x @ x.T
    return not len(x) or bool(np.diag(gram).min() > 0 and np.linalg.eigvalsh(scaled(gram))[0] > INDEPENDENT)


def make_family(design: Design) -> Family:
    """The family over the design's rows."""
    return design.kind(design.link, design.data_of())


def starting_point(c: Laplace | Swept) -> Array:
    """Coefficients and the family's own of a model without units, and moderate variances; of rows on disk what a part of them says."""
    if isinstance(c, Swept):
        return start_of_a_part(c)
    eta, extra = c.family.start()
    far = FAR * c.family.unit() + (0.0 if c.family.unit() == 1.0 else float(np.abs(c.family.y).max()))
    b = np.zeros(c.p)
    if c.p:
        away = eta if c.offset is None else eta - c.offset
        b = c.rows.nearest_x(np.clip(away, -far, far))
    offset = 0.0 if c.offset is None else c.offset
    if not c.family.intercept and c.offset is not None:  # no intercept there to take the offset's mean
        extra = c.family.recentred(extra, float(c.offset.mean()))
    value = c.family.value(c.rows.times_x(b) + offset, extra).sum() if c.p else -np.inf
    for _ in range(STEPS if c.p else 0):
        here = c.rows.times_x(b) + offset
        d1, d2 = c.family.slopes(here, extra)
        weight = c.mended(-d2, c.family, here, extra)
        step = np.linalg.lstsq(*c.rows.of_fixed(c.rows.x, weight, d1), rcond=1e-12)[0]
        for _ in range(20):
            after = c.family.value(c.rows.times_x(b + step) + offset, extra).sum()
            if after >= value - 1e-12 * abs(value):
                break
            step = step / 2
        gain, b, value = after - value, b + step, after
        if gain < 1e-6 * (1.0 + abs(value)) or np.abs(b).max() > far:
            break
    b = np.clip(b, -far / 2, far / 2)
    theta = [s.start(np.full(s.size, (START * c.family.unit()) ** 2)) for s in c.structures]
    return np.concatenate([b, *theta, extra])


def search(
    c: Laplace,
    start: Array,
    options: SearchOptions,
    progress: Callable[[int], None] | None,
    hessian: Array | None = None,
) -> OptimizeResult[LaplacePoint]:
    """The minimum from a start, where the Hessian is about ``hessian``; raises OrchardError where the likelihood does not exist around it."""
    try:
        with np.errstate(all="ignore"):
            return _settled(c, start, options, progress, hessian)
    except np.linalg.LinAlgError:
        raise OrchardError(BROKE) from None


def _settled(
    c: Laplace, start: Array, options: SearchOptions, progress: Callable[[int], None] | None, hessian: Array | None
) -> OptimizeResult[LaplacePoint]:
    edges, many = c.bounded, c.rows.frame.n > MANY_ROWS

    def looked(theta: Array, near: LaplacePoint | None = None) -> LaplacePoint:
        return c.at(theta, near, ROUGHLY if near is None and many else None)

    def exact(theta: Array, near: LaplacePoint | None = None) -> LaplacePoint:
        return c.at(theta, near, EXACT)

    found = settle(
        looked, start, c.nonnegative, edges, options.tolerance, options.max_steps, progress, many, exact=exact, scale=c.scale, about=hessian
    )  # fmt: skip
    signs = c.signs(found.point.theta)
    if not (signs < 0).any() and found.point.mode.close <= EXACT:
        return found
    near = None if (signs < 0).any() else found.point
    return replace(
        found, point=c.at(signs * found.point.theta, near, EXACT), hessian=signs[:, None] * found.hessian * signs
    )


def from_other_scales(
    c: Laplace, found: OptimizeResult[LaplacePoint], options: SearchOptions
) -> OptimizeResult[LaplacePoint]:
    """Search small models again from other sizes of the effects, where these promise about as much."""
    if (
        isinstance(c, Swept)
        or c.rows.frame.n > SMALL
        or not c.frame.n_theta
        or (found.evaluations > LONG and not found.converged)
    ):
        return found
    tried = []
    count = Counter(c.at)
    units = [list(zip(c.slices, c.structures))] + [[part] for part in zip(c.slices, c.structures)]
    for size, parts in itertools.product(SIZES, units if len(c.slices) > 1 else units[:1]):
        point = count.attempt(_resized(c, found.point.theta, size, parts))
        if point is not None and (point.deviance < found.point.deviance + PROMISING or not found.converged):
            tried.append((float(point.deviance), size, point.theta))
    for factor, along in itertools.product(STRETCHED if c.rows.frame.n <= TINIEST else (), (1.0, 0.0)):
        point = count.attempt(_stretched(c, found.point.theta, factor, along))
        if point is not None and point.deviance < found.point.deviance + PROMISING:
            tried.append((float(point.deviance), factor, point.theta))
    without = _resized(c, starting_point(c), ALMOST_NONE, units[0])
    point = count.attempt(without)
    if point is not None and point.deviance < found.point.deviance + PROMISING:
        tried.append((float(point.deviance), ALMOST_NONE, without))
    tried.sort(key=lambda t: t[0])
    best = {size: theta for _, size, theta in reversed(tried)}  # the least deviance of each size
    follow = [t for _, _, t in tried]
    if c.rows.frame.n > TINIEST or not found.converged:
        follow = list(best.values()) if c.rows.frame.n <= TINY and found.converged else follow[:1]
    found = _best_from(c, found, follow, options)
    doubtful = found.converged and found.rival is not None
    return _best_from(c, found, _lower(c, found.point), options) if doubtful else found


def _best_from(
    c: Laplace, found: OptimizeResult[LaplacePoint], starts: Iterable[Array], options: SearchOptions
) -> OptimizeResult[LaplacePoint]:
    """The best of what was found and the searches from these starts; its ``rival`` is another minimum that any of them met."""
    ends, spent = [found.rival] if found.rival is not None else [], 0
    for theta in starts:
        if spent > MOST_SPENT:
            break
        try:
            again = search(c, theta, options, None)
        except OrchardError:  # where it cannot be followed: the first search stands
            continue
        spent += 0 if again.converged else again.evaluations
        gain = found.point.deviance - again.point.deviance
        ends += [r.point.deviance for r in (found, again) if r.converged]
        if (again.converged and (gain > 1e-6 or not found.converged)) or gain > LOWER:
            found = again
    apart = [e for e in ends if e > found.point.deviance + LOWER]
    return replace(found, rival=min(apart, default=None))


def _lower(c: Laplace, found: LaplacePoint) -> Iterator[Array]:
    """Where rough descents from starts at random (fixed seed) lead lower, for small models that are known to have several optima."""
    r, at = np.random.default_rng(0), c.theta
    for _ in range(SCATTERED if c.rows.frame.n <= TINY else 0):
        theta = found.theta.copy()
        size = np.exp(r.normal(scale=1.5)) * np.exp(r.normal(scale=0.7, size=len(theta))) * c.family.unit()
        theta[at] = np.where(c.bounded, size, r.normal(size=len(theta)))[at]
        try:
            with np.errstate(all="ignore"):
                there = descend(c.at, theta, c.nonnegative, ROUGH)
        except (OrchardError, np.linalg.LinAlgError):
            continue
        if there.deviance < found.deviance - LOWER:
            yield there.theta


def _stretched(c: Laplace, here: Array, factor: float, along: float) -> Array:
    """Effects ``factor`` times as large, coefficients as well (``along`` 1) or as they are (0): ridges that rise far out lie there."""
    theta = here.copy()
    theta[c.theta] *= factor
    if along:
        theta[: c.p] *= factor
        theta[c.extra] = c.family.stretched(theta[c.extra], factor)
    return theta


def _resized(c: Laplace, here: Array, size: float, parts: list[tuple[slice, Structure]]) -> Array:
    """Parameters with effects of another size; coefficients of chances grow with them, as those of one unit do."""
    theta = here.copy()
    for at, structure in parts:
        theta[at] = structure.start(np.full(structure.size, (size * c.family.unit()) ** 2))
    if c.family.chances:
        factor = np.sqrt((1.0 + GROWTH * size**2) / (1.0 + GROWTH * float(here[c.theta] @ here[c.theta])))
        theta[: c.p] *= max(factor, 1.0)
        theta[c.extra] = c.family.stretched(theta[c.extra], max(factor, 1.0))
    return theta


def with_points(laplace: Any, points: int) -> Any:
    """The likelihood by ``points`` quadrature points; Laplace's approximation itself for one."""
    if points == 1:
        return laplace
    if isinstance(laplace, Swept):
        return laplace.with_points(points)
    kind = SeveralQuadrature if isinstance(laplace, SeveralLaplace) else Quadrature
    return kind(laplace.rows, laplace.family, laplace.offset, points)


def enough_points(
    laplace: Laplace, found: OptimizeResult[LaplacePoint], options: SearchOptions
) -> tuple[int, Laplace, OptimizeResult[LaplacePoint]]:
    """The fewest points of which the next number changes the log-likelihood by less than 1e-4; the most where none does."""
    if laplace.rows.frame.tails or len(laplace.rows.units) != 1 or laplace.rows.units[0].size > MOST_TERMS:
        return 1, laplace, found
    for points, following in itertools.pairwise(AUTO[1:]):
        criterion = with_points(laplace, points)
        found = search(criterion, found.point.theta, options, None)
        more = with_points(laplace, following).at(found.point.theta).deviance
        if abs(more - found.point.deviance) < 2.0 * ENOUGH:
            return points, criterion, found
    criterion = with_points(laplace, AUTO[-1])
    return AUTO[-1], criterion, search(criterion, found.point.theta, options, None)
