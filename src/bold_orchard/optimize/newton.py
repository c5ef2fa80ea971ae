"""Bounded Newton search with a trust region, and an independent check of where it ended."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.optimize.protocol import Counter, Ending, Objective, OptimizeResult, P, Point

Array = NDArray[Any]
NEAR = 1e-5  # decrease of the deviance promised below which the exact Hessian takes over
STALE = 1e-4  # decrease promised from which the Hessian is made anew for the next step
EXACT, LEAST = 1e-10, 1e-3  # of a parameter: a step that moves no digit; of the largest, what is small of a parameter
POLISH = 30  # last steps; two or three are usual


def minimise(
    f: Objective[P],
    start: Array,
    nonnegative: NDArray[np.bool_],
    edges: NDArray[np.bool_],
    tolerance: float = 1e-10,
    max_steps: int = 100,
    progress: Callable[[int], None] | None = None,
    lost: Callable[[Array], NDArray[np.bool_]] | None = None,
) -> OptimizeResult[P]:
    """Minimise over theta with theta[nonnegative] >= 0; theta[edges] are set to zero when that costs nothing.

    ``lost`` says which parameters (m,) have run to a limit where nothing depends on them: they are not looked at in the end.

    ``tolerance`` bounds the expected further decrease of the deviance. Steps solve a ridge-damped Newton system on
    the parameters not held at their bound (More 1983); the damping follows the agreement of the predicted and the
    actual decrease. Near the minimum the Hessian of the exact gradient takes over, for the last steps and the check.
    """
    count = Counter(f)
    here, steps, reason = walk(count, count(start), nonnegative, NEAR, max_steps, progress)
    left = _nothing_lost if lost is None else lost
    return _check(count, here, nonnegative, edges, tolerance, steps, steps >= max_steps, reason, left)


def _nothing_lost(theta: Array) -> NDArray[np.bool_]:
    return np.zeros(len(theta), dtype=bool)


def descend(f: Objective[P], start: Array, nonnegative: NDArray[np.bool_], near: float = 1e-7) -> P:
    """The minimum without the check of it: until the approximate Hessian promises a decrease below ``near``."""
    count = Counter(f)
    return walk(count, count(start), nonnegative, near, 60, None)[0]


def walk(
    count: Counter[P],
    here: P,
    nonnegative: NDArray[np.bool_],
    near: float,
    max_steps: int,
    progress: Callable[[int], None] | None,
) -> tuple[P, int, Ending]:
    """Damped Newton steps by the approximate Hessian; returns the point, the steps and what went wrong, if anything."""
    damping, steps, reason = 0.0, 0, Ending.WELL
    while len(here.theta) and steps < max_steps:
        step, predicted = _step(here, nonnegative, damping)
        if predicted <= near:
            break
        steps += 1
        if progress is not None:
            progress(steps)
        there = count.attempt(_bounded(here.theta + step, nonnegative), here)
        if there is None:
            damping = max(damping * 6, 0.3)
            continue
        actual = here.deviance - there.deviance
        noise = 1e-11 * (1.0 + abs(here.deviance))
        better_slope = (
            predicted < 1e3 * noise
            and abs(actual) <= 10 * noise
            and _pull(there, nonnegative) < _pull(here, nonnegative)
        )
        better = actual > 0.1 * predicted or better_slope
        near_end = False
        if better and np.isfinite(there.gradient).all():
            moving = ~(nonnegative & (there.theta <= 0.0))
            near_end = decrement_of(here.curvature, there.gradient, moving)[0] <= 0.1 * near
        if near_end:  # by the Hessian at hand; the last steps use the exact one
            here = there
            break
        if better and _usable(there):
            here = there
            damping = damping / 10 if actual > 0.5 * predicted else damping
            damping = 0.0 if damping < 1e-2 else damping
        elif predicted <= 10 * noise and not better:
            break
        else:
            damping = max(damping * 6, 0.3)
            if damping > 1e12:
                reason = Ending.STUCK
                break
    return here, steps, reason


def _usable(point: Point) -> bool:
    """Whether the search can go on from a point: at the end of what the function is defined for its slopes may not exist."""
    try:
        return bool(np.isfinite(point.gradient).all() and np.isfinite(point.curvature).all())
    except np.linalg.LinAlgError:
        return False


def _bounded(theta: Array, bounded: NDArray[np.bool_]) -> Array:
    return np.where(bounded & (theta < 0), 0.0, theta)


def _free(point: Point, bounded: NDArray[np.bool_], hessian: Array) -> NDArray[np.bool_]:
    """Parameters that may move: not at the bound, or drawn inside by the slope or by negative curvature."""
    at = bounded & (point.theta <= 0.0)
    inward = (point.gradient < -1e-12) | ((np.abs(point.gradient) <= 1e-12) & (np.diag(hessian) < 0))
    return ~at | inward


def _pull(point: Point, bounded: NDArray[np.bool_]) -> float:
    held = bounded & (point.theta <= 0.0) & (point.gradient >= 0)
    return float(np.abs(np.where(held, 0.0, point.gradient)).max(initial=0.0))


def _step(point: Point, bounded: NDArray[np.bool_], damping: float) -> tuple[Array, float]:
    """A damped Newton step (m,) that respects the bounds, and the decrease the model predicts."""
    h = point.curvature
    free = _free(point, bounded, h)
    step = np.zeros(len(point.theta))
    for _ in range(len(point.theta)):
        step[:] = 0.0
        step[free] = newton(h[np.ix_(free, free)], point.gradient[free], damping)
        out = free & bounded & (point.theta <= 0.0) & (step < 0)
        if not out.any():
            break
        free &= ~out
    step = _bounded(point.theta + step, bounded) - point.theta
    predicted = -(point.gradient @ step + 0.5 * step @ h @ step)
    return step, max(float(predicted), float(-0.5 * point.gradient @ step), 0.0)


def newton(h: Array, g: Array, damping: float) -> Array:
    """Minimise the quadratic model in scaled variables, negative curvature turned over and damped."""
    if not len(g):
        return g
    d = np.sqrt(np.maximum(np.abs(np.diag(h)), 1e-12))
    values, vectors = np.linalg.eigh(h / np.outer(d, d))
    slope = vectors.T @ (g / d)
    floor = 1e-8 * max(float(np.abs(values).max()), 1e-8)
    negative = values < -floor
    along = -slope / (np.maximum(np.abs(values), floor) + damping)
    # a saddle: the slope is zero along negative curvature, so choose a side
    along = np.where(negative & (np.abs(along) < 1e-3), 0.1, along)
    return (vectors @ along) / d


def _check(
    count: Counter[P],
    here: P,
    nonnegative: NDArray[np.bool_],
    edges: NDArray[np.bool_],
    tolerance: float,
    steps: int,
    ran_out: bool,
    reason: Ending,
    lost: Callable[[Array], NDArray[np.bool_]],
) -> OptimizeResult[P]:
    """Polish with the true Hessian, clear what is zero, and judge convergence afresh."""
    m = len(here.theta)
    if m == 0:
        return OptimizeResult(here, True, 0.0, np.zeros((0, 0)), 0, count.calls, Ending.WELL)
    here, hessian, moves = _polish(count, clear(count, here, edges), nonnegative, tolerance, lost)
    here = clear(count, here, edges)
    free = ~(nonnegative & (here.theta <= 0.0)) & ~lost(here.theta)
    decrement, _ = decrement_of(hessian, here.gradient, free)
    values = np.linalg.eigvalsh(scaled(hessian)[np.ix_(free, free)]) if free.any() else np.ones(1)
    positive = bool(values[0] > -1e-6 * max(values[-1], 1e-300))
    inward = nonnegative & (here.theta <= 0.0) & (np.diag(hessian) < -1e-6 * (1 + np.abs(np.diag(hessian))))
    if not positive or inward.any():
        reason = Ending.FALLS
    elif not decrement <= max(tolerance, 1e-8):
        reason = reason or (Ending.LIMIT if ran_out else Ending.SLOPE)
    else:
        reason = Ending.WELL
    return OptimizeResult(here, not reason, float(decrement), hessian, steps, count.calls, reason, moves)


def _polish(
    count: Counter[P],
    here: P,
    nonnegative: NDArray[np.bool_],
    tolerance: float,
    lost: Callable[[Array], NDArray[np.bool_]],
) -> tuple[P, Array, tuple[tuple[float, Any, Any], ...]]:
    """Newton steps with the Hessian of the exact gradient, made anew until the end is near; also leaves a saddle."""
    hessian, moves = _one_sided_hessian(count, here)
    for _ in range(POLISH):
        free = ~(nonnegative & (here.theta <= 0.0)) & ~lost(here.theta)
        decrement, step = decrement_of(hessian, here.gradient, free)
        values = np.linalg.eigvalsh(scaled(hessian)[np.ix_(free, free)]) if free.any() else np.ones(1)
        saddle = values[0] < -1e-6 * max(values[-1], 1e-300)
        if saddle:
            step[free] = newton(hessian[np.ix_(free, free)], here.gradient[free], 0.0)
        elif not np.isfinite(decrement):
            break
        if not saddle and _last_digits(here.theta, step):
            break
        last = not saddle and decrement <= 1e-6 * tolerance  # near enough: one step more, for the last digits
        there = shortened(count, here, step, nonnegative, tries=1 if last else 7)
        here = here if there is None else there
        if there is None or last:
            break
        if saddle or decrement > STALE:
            hessian, moves = _one_sided_hessian(count, here)
    return here, hessian, moves


def _last_digits(theta: Array, step: Array) -> bool:
    """Whether a step moves parameters (m,) by what no answer shows."""
    size = np.abs(theta)
    return bool((np.abs(step) <= EXACT * np.maximum(size, LEAST * size.max(initial=0.0))).all())


def shortened(count: Counter[P], here: P, step: Array, nonnegative: NDArray[np.bool_], tries: int = 7) -> P | None:
    """The first of step, step/4, ... that lowers the deviance, or the slope where the deviance is all but flat."""
    noise = 1e-11 * (1 + abs(here.deviance))
    for _ in range(tries):
        there = count.attempt(_bounded(here.theta + step, nonnegative), here)
        if there is not None and there.deviance < here.deviance - 100 * noise:
            return there
        if (
            there is not None
            and there.deviance <= here.deviance + noise
            and _pull(there, nonnegative) < _pull(here, nonnegative)
        ):
            return there
        step = step / 4
    return None


def clear(count: Counter[P], here: P, edges: NDArray[np.bool_], scale: Array | float = 1.0) -> P:
    """Set parameters that are all but zero to zero when that does not raise the deviance."""
    small = edges & (here.theta != 0) & (np.abs(here.theta) < 1e-2 * np.asarray(scale))
    for i in np.flatnonzero(small):
        theta = here.theta.copy()
        theta[i] = 0.0
        there = count(theta, here)
        if there.deviance <= here.deviance + 1e-9:
            here = there
    return here


def difference_hessian(f: Objective[P], here: P) -> Array:
    """Hessian by central differences of the exact gradient; parameters may step across zero (T is even)."""
    m = len(here.theta)
    out = np.empty((m, m))
    for i in range(m):
        h = 1e-4 * max(abs(here.theta[i]), 1e-2)
        up, down = here.theta.copy(), here.theta.copy()
        up[i] += h
        down[i] -= h
        out[i] = (f(up, here).gradient - f(down, here).gradient) / (2 * h)
    return (out + out.T) / 2


def nudge(value: float) -> float:
    """By how much a parameter is moved for a one-sided difference."""
    return float(1e-5 * max(abs(value), 1e-1))


def _one_sided_hessian(f: Objective[P], here: P) -> tuple[Array, tuple[tuple[float, Any, Any], ...]]:
    """As ``difference_hessian`` with half the work, accurate enough to judge convergence; also the points it used."""
    m = len(here.theta)
    out, moves = np.empty((m, m)), []
    for i in range(m):
        h = nudge(here.theta[i])
        up = here.theta.copy()
        up[i] += h
        moved = f(up, here)
        out[i] = (moved.gradient - here.gradient) / h
        moves.append((h, here.brief(), moved.brief()))
    return (out + out.T) / 2, tuple(moves)


def scaled(h: Array) -> Array:
    d = np.sqrt(np.maximum(np.abs(np.diag(h)), 1e-300))
    return h / np.outer(d, d)


def decrement_of(hessian: Array, gradient: Array, free: NDArray[np.bool_]) -> tuple[float, Array]:
    """Half of g' H^+ g on the free parameters, and the Newton step."""
    step = np.zeros(len(gradient))
    if not free.any():
        return 0.0, step
    h, g = hessian[np.ix_(free, free)], gradient[free]
    d = np.sqrt(np.maximum(np.abs(np.diag(h)), 1e-300))
    values, vectors = np.linalg.eigh(h / np.outer(d, d))
    slope = vectors.T @ (g / d)
    use = np.abs(values) > 1e-9 * np.abs(values).max()
    along = np.where(use, -slope / np.where(use, np.abs(values), 1.0), 0.0)
    lost = float((slope[~use] ** 2).sum())
    step[free] = (vectors @ along) / d
    return float(0.5 * np.abs(along * slope).sum() + lost), step
