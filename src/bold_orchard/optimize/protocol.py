"""What is minimised, and what comes back."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


class Point(Protocol):
    """A function's value, gradient (m,) and approximate Hessian (m, m) at ``theta``."""

    theta: Array

    @property
    def deviance(self) -> float: ...
    @property
    def gradient(self) -> Array: ...
    @property
    def curvature(self) -> Array: ...
    def brief(self) -> Any: ...


P = TypeVar("P", bound=Point)


class Objective(Protocol[P]):
    """theta (m,) -> its point; what is sought inside may start from a point ``near`` by, which changes no more than time."""

    def __call__(self, theta: Array, near: P | None = None, /) -> P: ...


class Ending(StrEnum):
    """Why a search ended short of a minimum; empty where it did not."""

    WELL = ""
    FALLS = "the deviance still falls in some direction"
    SLOPE = "the slope is not zero"
    LIMIT = "the step limit was reached"
    STUCK = "no step lowers the deviance"


@dataclass(frozen=True)
class OptimizeResult(Generic[P]):
    """Where a search ended.

    ``decrement`` is the expected further decrease of the deviance on the free parameters (g' H^-1 g / 2, H by
    differences of the exact gradient); ``hessian`` is that H, (m, m). ``moves`` holds, for each parameter,
    (step, point, point moved by the step) in brief, from which the Hessian was made: more can be learned from them.
    ``rival`` is the least deviance of another minimum, where one was met.
    """

    point: P
    converged: bool
    decrement: float
    hessian: Array
    iterations: int
    evaluations: int
    reason: Ending
    moves: tuple[tuple[float, Any, Any], ...] = ()
    rival: float | None = None


class Counter(Generic[P]):
    """An objective that counts how often it is asked."""

    def __init__(self, f: Objective[P]) -> None:
        self.f, self.calls = f, 0

    def __call__(self, theta: Array, near: P | None = None) -> P:
        self.calls += 1
        return self.f(theta, near)

    def attempt(self, theta: Array, near: P | None = None) -> P | None:
        """The point, or None where the function does not exist."""
        try:
            there = self(theta, near)
        except np.linalg.LinAlgError:
            return None
        return there if np.isfinite(there.deviance) else None
