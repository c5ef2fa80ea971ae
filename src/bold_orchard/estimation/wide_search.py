"""The search where slopes are to be had but a deviance is dear: Newton's way to the point at which the slopes are zero."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.options import SearchOptions
from bold_orchard.likelihood.wide import WideCriterion, WidePoint
from bold_orchard.optimize.newton import decrement_of
from bold_orchard.optimize.protocol import Ending, OptimizeResult

Array = NDArray[Any]
NEAR = 1e-7  # expected fall of the deviance at which the search ends: far below the signs' own error
FARTHEST = 1.0  # of a parameter and the start's size, that one step may change it by
OVERSHOT = 0.5  # of the slope along a step, beyond which the step was too long
SHORTENED = 6
MOVE = 1e-3  # of a parameter, for differences of slopes
SMALL = 1e-4  # of the start's size, or of the largest parameter: what counts as zero
INSIDE = 0.1  # of the start's size: where a parameter goes whose bound the deviance falls away from


def search_wide(
    criterion: WideCriterion, start: Array, options: SearchOptions, progress: Callable[[int], None] | None = None
) -> OptimizeResult[Any]:
    """Where the slopes are zero, or push against a bound; the Hessian there is made of differences of slopes."""
    here, calls, steps, reason = walk_wide(criterion, start, options.max_steps, progress)
    hessian, moves = differences(criterion, here)
    free = _free(here)
    decrement, _ = decrement_of(hessian, here.gradient, free)
    if reason == Ending.WELL and free.any() and np.linalg.eigvalsh(hessian[np.ix_(free, free)])[0] <= 0:
        reason = Ending.FALLS
    return OptimizeResult(here, not reason, float(decrement), hessian, steps, calls + len(moves), reason, moves)


def walk_wide(
    criterion: WideCriterion, start: Array, max_steps: int, progress: Callable[[int], None] | None = None
) -> tuple[WidePoint, int, int, Ending]:
    """The way there: the point, the points looked at, the steps, and what went wrong, if anything."""
    usual = np.abs(criterion.start())
    size = np.maximum(np.maximum(np.abs(start), usual), 0.1 * usual.max(initial=0.0))
    here, calls, steps = criterion.at(start), 1, 0
    reason = Ending.LIMIT
    while steps < max_steps:
        free = _free(here)
        decrement, step = decrement_of(here.curvature, here.gradient, free)
        if decrement <= NEAR:
            small = criterion.bounded & (here.theta != 0.0) & (np.abs(here.theta) < SMALL * size)
            inward = ~free & (np.diag(here.curvature) < 0.0)
            if not small.any() and not inward.any():
                reason = Ending.WELL
                break
            here, calls = criterion.at(np.where(inward, INSIDE * size, np.where(small, 0.0, here.theta))), calls + 1
            steps += 1
            continue
        steps += 1
        if progress is not None:
            progress(steps)
        step *= min(1.0, FARTHEST / float(np.max(np.abs(step) / np.maximum(np.abs(here.theta), size))))
        there, more = _along(criterion, here, step)
        calls += more
        if there is None:
            reason = Ending.STUCK
            break
        here = there
    return here, calls, steps, reason


def _free(here: WidePoint) -> NDArray[np.bool_]:
    """Parameters that do not stand at their bound, where the slope in T is zero."""
    return np.asarray(~(here.criterion.bounded & (here.theta <= 0.0)))


def _along(criterion: WideCriterion, here: WidePoint, step: Array) -> tuple[WidePoint | None, int]:
    """A point along ``step`` at which the slope has not turned far, and the points looked at."""
    steepness = float(here.gradient @ step)
    for looked in range(1, SHORTENED + 1):
        theta = here.theta + step
        crossed = criterion.bounded & (theta <= 0.0)
        theta[crossed] = 0.0
        try:
            there = criterion.at(theta)
            along = float(there.gradient @ (theta - here.theta))
        except np.linalg.LinAlgError:
            step = step / 4
            continue
        if not np.isfinite(along):
            step = step / 4
        elif along > OVERSHOT * abs(steepness):
            step = step * max(abs(steepness) / (abs(steepness) + along), 0.1)
            steepness *= max(abs(steepness) / (abs(steepness) + along), 0.1)
        else:
            return there, looked
    return None, SHORTENED


def differences(criterion: WideCriterion, here: WidePoint) -> tuple[Array, tuple[tuple[float, Any, Any], ...]]:
    """The Hessian (m, m) and the points it came from, in brief."""
    m = len(here.theta)
    out, moves = np.zeros((m, m)), []
    typical = float(np.abs(here.theta).max(initial=0.0))
    for i in range(m):
        h = MOVE * max(abs(here.theta[i]), 0.1 * typical, 1e-6)
        moved = here.theta.copy()
        moved[i] += h
        there = criterion.at(moved)
        out[i] = (there.gradient - here.gradient) / h
        moves.append((h, here.brief(), there.brief()))
    return (out + out.T) / 2, tuple(moves)
