"""Search where the curvature at hand is only approximate: secants correct it on the way.

The Hessian is made once, by differences of the exact gradient, where the search ended: it judges convergence and is
the observed information. Only if it still promises a decrease does the search go on with it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cached_property
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.optimize.newton import clear, decrement_of, newton, scaled, shortened, walk
from bold_orchard.optimize.protocol import Counter, Ending, Objective, OptimizeResult, Point

Array = NDArray[Any]
# decreases of the deviance promised: where secants end, also with many rows; where nothing is left; where one step more needs no new Hessian,
# with many rows and with few
NEAR, NEAR_MANY, SETTLED, SMALL, SMALLER = 1e-10, 1e-6, 1e-13, 1e-5, 1e-8
PAIRS = 6  # changes of the gradient remembered: older ones come from another curvature
RENEWED = 8  # evaluations with many rows after which the approximate curvature is made anew
# new Hessians before the search gives up: one is usual, a curved valley beside an edge takes ten; at least and at most, within the steps left
ROUNDS, MOST_ROUNDS = 6, 30
STEP = 1e-4  # part of a parameter by which the gradient is differenced


class Guide(Point, Protocol):
    """A point that can lead along one of its parameters."""

    def along(self, i: int) -> Callable[[float], Point]: ...


G = TypeVar("G", bound=Guide)


class _Corrected(Generic[G]):
    """A point whose approximate Hessian also agrees with the changes of the gradient seen so far (Broyden and others, 1970)."""

    def __init__(self, point: G, pairs: list[tuple[Array, Array]], base: list[Array]) -> None:
        self.point, self.theta, self.pairs, self.base = point, point.theta, list(pairs), base

    @property
    def deviance(self) -> float:
        return self.point.deviance

    @property
    def gradient(self) -> Array:
        return self.point.gradient

    @cached_property
    def curvature(self) -> Array:
        h = self.base[0] if self.base else self.point.curvature
        if not self.pairs or np.linalg.eigvalsh(scaled(h))[0] <= 0:
            return h
        for s, y in self.pairs:
            hs = h @ s
            along, seen = float(s @ hs), float(s @ y)
            if along > 0 and seen > 1e-3 * along:
                h = h - np.outer(hs, hs) / along + np.outer(y, y) / seen
        return (h + h.T) / 2

    def brief(self) -> Any:
        return None


def settle(
    f: Objective[G], start: Array, nonnegative: NDArray[np.bool_], edges: NDArray[np.bool_], tolerance: float = 1e-10,
    max_steps: int = 100, progress: Callable[[int], None] | None = None, many: bool = False, held: Callable[[Array], Array] | None = None,
    exact: Objective[G] | None = None, scale: Array | float = 1.0, steady: bool = False, about: Array | None = None,
) -> OptimizeResult[G]:  # fmt: skip
    """Minimise as ``search.minimise`` does, by fewer evaluations where each is dear.

    With ``many`` rows the Hessian is so nearly constant that the last small step needs no new one. ``held`` tells which
    parameters have run to a limit where nothing depends on them any more: they are not judged. ``exact`` is f for the last steps.
    ``scale`` (m,) is what is large of each parameter. Where Hessians are dear, one serves a whole walk: ``steady``; ``about`` (m, m)
    is one to begin with.
    """
    pairs: list[tuple[Array, Array]] = []
    last: list[Point] = []
    base: list[Array] = [] if about is None else [about]
    seen = [0]

    def corrected(theta: Array, near: _Corrected[G] | None = None) -> _Corrected[G]:
        there = f(theta, None if near is None else near.point)
        if last and np.isfinite(there.deviance):
            pairs.append((there.theta - last[0].theta, there.gradient - last[0].gradient))
            del pairs[:-PAIRS]
        if np.isfinite(there.deviance):
            last[:] = [there]
        made = _Corrected(there, pairs, base)
        seen[0] += 1
        stale = many and seen[0] % RENEWED == 0  # a start far off left a curvature that secants cannot mend
        if (
            (many or steady) and ((len(pairs) == 1 and about is None) or stale) and np.isfinite(there.deviance)
        ):  # from here on secants keep it up to date
            base[:] = [there.curvature]
            if stale:
                del pairs[:-1]
        return made

    count = Counter(corrected)
    plain: Counter[G] = Counter(exact or f)
    first = count(start)
    near = max(NEAR_MANY if many else NEAR, 1e-12 * abs(first.deviance))

    def free(theta: Array) -> Array:
        out = ~(nonnegative & (theta <= 0.0))
        return out if held is None else out & ~held(theta)

    def walked(first: _Corrected[G], before: int) -> OptimizeResult[G]:
        ended, steps, reason = walk(count, first, nonnegative, near, max_steps - before, progress)
        here = clear(count, ended, edges, scale).point
        return _judged(here, free(here.theta), before + steps, reason, scale)

    found = walked(first, 0)
    rounds = min(max(ROUNDS, max_steps - found.iterations), MOST_ROUNDS)
    for _ in range(rounds if len(start) else 0):
        if found.decrement <= SETTLED and found.reason is not Ending.FALLS:
            break
        moved = shortened(plain, found.point, _newton_step(found, free(found.point.theta)), nonnegative)
        if moved is None:
            break
        moved = clear(plain, moved, edges, scale)
        if found.reason is Ending.FALLS and found.iterations < max_steps:  # off the saddle, and down again
            for memory in (pairs, last, base):
                memory.clear()
            found = walked(count(moved.theta, _Corrected(moved, [], [])), found.iterations)
        elif found.decrement < (SMALL if many else SMALLER):
            decrement, _ = decrement_of(found.hessian, moved.gradient, free(moved.theta))
            found = replace(found, point=moved, decrement=float(decrement))
        else:
            found = _judged(moved, free(moved.theta), found.iterations, Ending.WELL, scale)
    falls = found.reason is Ending.FALLS
    good = found.decrement <= max(tolerance, 1e-8) and not falls
    limit = Ending.LIMIT if found.iterations >= max_steps else Ending.SLOPE
    why = Ending.WELL if good else found.reason or limit
    return replace(found, converged=good, reason=why, evaluations=count.calls + plain.calls)


def _newton_step(found: OptimizeResult[G], free: Array) -> Array:
    step = np.zeros(len(free))
    step[free] = newton(found.hessian[np.ix_(free, free)], found.point.gradient[free], 0.0)
    return step


def _judged(here: G, free: Array, steps: int, reason: Ending, scale: Array | float) -> OptimizeResult[G]:
    """The Hessian at a point and what it says of it."""
    if not len(here.theta):
        return OptimizeResult(here, True, 0.0, np.zeros((0, 0)), steps, 0, Ending.WELL)
    hessian = difference_hessian(here, scale)
    decrement, _ = decrement_of(hessian, here.gradient, free)
    values = np.linalg.eigvalsh(scaled(hessian)[np.ix_(free, free)]) if free.any() else np.ones(1)
    if not values[0] > -1e-6 * max(values[-1], 1e-300):
        reason = Ending.FALLS
    return OptimizeResult(here, False, float(decrement), hessian, steps, 0, reason)


def difference_hessian(here: Guide, scale: Array | float = 1.0) -> Array:
    """(m, m) by central differences of the exact gradient, each mode followed along a straight line.

    ``scale`` (m,) is what is large of each parameter. Both sides follow one mode, so that what that lacks cancels.
    """
    m = len(here.theta)
    out: Array = np.empty((m, m))
    least = np.broadcast_to(0.1 * np.asarray(scale), m)
    for i in range(m):
        h = STEP * max(abs(float(here.theta[i])), float(least[i]))
        moved = here.along(i)
        out[i] = (moved(h).gradient - moved(-h).gradient) / (2 * h)
    return (out + out.T) / 2
