"""Profile-likelihood intervals: all parameters but one at their best, the one moved until the deviance rises by its quantile.

SDs, correlations and residual parameters follow the fitted criterion, fixed effects the ML deviance. On the scale of the
signed root of the deviance's rise a profile is nearly a straight line, along which the ends are sought by secants.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.quantities import Quantity, point_of, theta_of
from bold_orchard.inference.uncertainty import full_gradient, full_hessian
from bold_orchard.likelihood.gaussian import Evaluation
from bold_orchard.search import descend

Array = NDArray[Any]
CLOSE = 2e-4
MOST_STEPS = 40
FLAT = 1e-6
LONGEST = 5.0
VANISHING = 1e-4


@dataclass(frozen=True)
class Line:
    """What is followed: ``rise(t, start)`` gives the least rise of the deviance at t and where it is.

    ``here`` is t at the minimum, ``se`` its rough spread, ``low`` and ``high`` the edges of the model.
    """

    rise: Callable[[float, Array], tuple[float, Array]]
    here: float
    se: float
    start: Array
    low: float = -np.inf
    high: float = np.inf
    slack: float = 0.0


@dataclass
class Profile:
    """Ends on the scale of t (an edge of the model where the profile never rises enough, None where it was lost).

    ``trace`` holds (t, signed root of the rise); ``lowest`` is the least rise met.
    """

    low: float | None
    high: float | None
    trace: list[tuple[float, float]]
    lowest: float = 0.0


class Surface:
    """The deviance over psi around its minimum, in coordinates in which it is nearly a sphere."""

    def __init__(self, e: Evaluation) -> None:
        self.e, self.c = e, e.criterion
        self.centre = point_of(e)
        self.bottom = e.deviance
        self._last: tuple[bytes, float, Array] | None = None

    @cached_property
    def hessian(self) -> Array:
        return full_hessian(self.e)

    @cached_property
    def whiten(self) -> Array:
        """W with psi = centre + W z and the deviance about bottom + |z|^2."""
        d = np.sqrt(np.maximum(np.abs(np.diag(self.hessian)), 1e-8))
        values, vectors = np.linalg.eigh(self.hessian / np.outer(d, d))
        floor = 1e-5 * np.abs(values).max()
        return np.asarray(vectors / d[:, None] * np.sqrt(2.0 / np.maximum(np.abs(values), floor)))

    def both(self, psi: Array) -> tuple[float, Array]:
        """The rise of the deviance above its minimum, and its slope in psi."""
        key = psi.tobytes()
        if self._last is None or self._last[0] != key:
            try:
                theta, sigma2 = theta_of(self.c, psi)
                there = self.c.at(theta)
                there.sigma2 = sigma2
                value = there.deviance - self.bottom, full_gradient(there)
            except (np.linalg.LinAlgError, FloatingPointError):
                value = np.inf, np.zeros(len(psi))
            if not (np.isfinite(value[0]) and np.all(np.isfinite(value[1]))):
                value = 1e10, np.zeros(len(psi))
            self._last = key, *value
        return self._last[1:]

    def lowest(self, q: Quantity, t: float, start: Array) -> tuple[float, Array]:
        """The least rise where the quantity is t, and where; NaN when the search is lost.

        Sequential quadratic steps (Powell 1978) on the Lagrangian in the whitened coordinates, its curvature by damped
        updates from that of a sphere.
        """
        psi, w = start, self.whiten
        b = 2.0 * np.eye(len(psi))
        value, gradient = self._whitened(psi)
        for _ in range(MOST_STEPS):
            held, normal = q.both(psi)
            step, force = _constrained_step(b, gradient, normal @ w, t - held)
            step *= min(1.0, LONGEST / max(float(np.linalg.norm(step)), 1e-300))
            promised = float(gradient @ step + 0.5 * step @ b @ step)
            if abs(promised) < FLAT and abs(t - held) <= 1e-3 * abs(t - q.at(self.centre)):
                return value + promised, psi + w @ step
            moved = self._accepted(q, t, psi, step, value, held, force)
            if moved is None:
                return np.nan, psi
            following, shrunk = moved
            value, after = self._whitened(following)
            turn = after - gradient - force * ((q.slope(following) - normal) @ w)
            b = _updated(b, shrunk * step, turn)
            psi, gradient = following, after
        return np.nan, psi

    def _whitened(self, psi: Array) -> tuple[float, Array]:
        value, gradient = self.both(psi)
        return value, gradient @ self.whiten

    def _accepted(
        self, q: Quantity, t: float, psi: Array, step: Array, value: float, held: float, force: float
    ) -> tuple[Array, float] | None:
        """The point after the step or a part of it that lowers rise + 2 |force| |miss|, and the part taken."""
        weight = 2.0 * abs(force) + 1e-8
        before = value + weight * abs(t - held)
        part = 1.0
        for _ in range(8):
            there = psi + part * (self.whiten @ step)
            if self.both(there)[0] + weight * abs(t - q.at(there)) <= before + 0.1 * abs(before) * (part == 1.0) + FLAT:
                return there, part
            part /= 3
        return None

    def nudged(self, q: Quantity) -> Array:
        """The minimum itself, or beside it where the quantity has no slope there (a variance at zero)."""
        psi = self.centre
        if np.linalg.norm(q.slope(psi) @ self.whiten) > 1e-3 * max(abs(q.at(psi)), 1e-8):
            return psi
        moved = []
        for i in range(len(psi) - 1):
            for side in (1.0, -1.0):
                there = psi.copy()
                there[i] += side * max(0.3 * abs(psi[i]), float(np.linalg.norm(self.whiten[i])))
                moved.append(there)
        changes = [abs(q.at(m) - q.at(psi)) for m in moved]
        return moved[int(np.argmax(changes))] if moved else psi


def _constrained_step(b: Array, gradient: Array, normal: Array, miss: float) -> tuple[Array, float]:
    """Minimise the quadratic model with normal @ step = miss; also the force that holds it there."""
    inverse = np.linalg.inv(b)
    free, across = inverse @ gradient, inverse @ normal
    width = float(normal @ across)
    force = (miss + float(normal @ free)) / width if width > 0 else 0.0
    return force * across - free, force


def _updated(b: Array, step: Array, turn: Array) -> Array:
    """Powell's damped update: stays positive definite."""
    bs = b @ step
    along, seen = float(step @ bs), float(step @ turn)
    if not (along > 1e-16 and np.isfinite(seen)):
        return b
    part = 1.0 if seen >= 0.2 * along else 0.8 * along / (along - seen)
    turn = part * turn + (1.0 - part) * bs
    made = b - np.outer(bs, bs) / along + np.outer(turn, turn) / float(step @ turn)
    values = np.linalg.eigvalsh(made) if np.all(np.isfinite(made)) else np.zeros(1)
    return np.asarray(made) if values[0] > 1e-8 * values[-1] else 2.0 * np.eye(len(b))


def quantity_line(surface: Surface, q: Quantity) -> Line:
    """The way along a variance parameter."""
    inverse = 2.0 * np.linalg.pinv(surface.hessian, rcond=1e-10, hermitian=True)
    a = q.slope(surface.centre)
    here, start = q.at(surface.centre), surface.nudged(q)
    se = float(np.sqrt(max(float(a @ inverse @ a), 0.0))) if start is surface.centre else abs(q.at(start) - here)
    ceilings: list[float] = []

    def rise(t: float, psi: Array) -> tuple[float, Array]:
        value, there = surface.lowest(q, t, psi)
        if q.parts and not ceilings:
            ends = [surface.lowest(part, VANISHING * part.at(surface.centre), surface.centre)[0] for part in q.parts]
            ceilings.append(min((v for v in ends if np.isfinite(v)), default=np.inf))
        if ceilings and not value <= ceilings[0] < np.inf:
            return ceilings[0], start
        return value, there

    return Line(rise, here, se, start, q.low, q.high, q.slack)


def fixed_line(ml: Evaluation, column: int) -> Line:
    """The way along the fixed effect at place ``column`` among the kept ones; ``ml`` is the ML fit."""
    c = ml.criterion

    def rise(t: float, start: Array) -> tuple[float, Array]:
        found = descend(lambda theta: c.at(theta).hold(column, t), start, c.walls)
        return float(found.deviance - ml.deviance), found.theta

    return Line(rise, float(ml.b[column]), float(np.sqrt(ml.b_covariance[column, column])), ml.theta)


def follow(line: Line, target: float, points: int = 0) -> Profile:
    """Both ends of the interval where the root of the rise reaches ``target``, and ``points`` more between for a picture."""
    made = Profile(None, None, [(line.here, 0.0)])

    def root(t: float, start: Array) -> tuple[float, Array]:
        value, there = line.rise(t, start)
        made.lowest = min(made.lowest, value) if np.isfinite(value) else made.lowest
        return float(np.sqrt(max(value, 0.0))), there

    made.low, made.high = (_end(root, line, side, target, made.trace) for side in (-1, 1))
    ends = [t for t, _ in made.trace]
    for t in np.linspace(min(ends), max(ends), points + 2)[1:-1]:
        value, _ = root(float(t), line.start)
        if np.isfinite(value):
            made.trace.append((float(t), float(np.sign(t - line.here)) * value))
    made.trace.sort()
    return made


def _end(
    root_at: Callable[[float, Array], tuple[float, Array]],
    line: Line,
    side: int,
    target: float,
    trace: list[tuple[float, float]],
) -> float | None:
    """One end: secants in the root of the rise, kept inside a bracket once there is one."""
    edge, here = (line.low if side < 0 else line.high), line.here
    if np.isfinite(edge) and abs(here - edge) <= line.slack:
        return edge
    stop = edge - side * max(1e-4 * abs(here - edge), 1e-7) if np.isfinite(edge) else edge
    known = [(here, 0.0)]
    t, psi = _kept(here + side * target * max(line.se, 1e-8), stop, side), line.start
    for _ in range(MOST_STEPS):
        root, there = root_at(t, psi)
        inside = max((k for k in known if k[1] < target), key=lambda k: k[1])
        if np.isnan(root):
            t, psi = (t + inside[0]) / 2, line.start
            continue
        psi = there
        known.append((t, root))
        trace.append((t, side * root))
        if root < target and t == stop:
            return edge
        following = _towards(known, target, side)
        if abs(root - target) < CLOSE * target:
            return following
        beyond = [k for k in known if k[1] >= target]
        inside = max((k for k in known if k[1] < target), key=lambda k: k[1])
        if not beyond:
            far = here + side * 2.5 * abs(t - here)
            following = following if abs(t - here) < abs(following - here) < abs(far - here) else far
        elif not abs(inside[0] - here) < abs(following - here) < min(abs(k[0] - here) for k in beyond):
            following = (inside[0] + min(beyond, key=lambda k: k[1])[0]) / 2
        t = _kept(following, stop, side)
    return None


def _towards(known: list[tuple[float, float]], target: float, side: int) -> float:
    """Where the root should meet the target: inverse interpolation through the three nearest points."""
    near = sorted({root: t for t, root in known}.items(), key=lambda k: abs(k[0] - target))[:3]
    value = 0.0
    for i, (root, t) in enumerate(near):
        weight = np.prod([(target - other) / (root - other) for k, (other, _) in enumerate(near) if k != i])
        value += float(weight) * t
    return value


def _kept(t: float, stop: float, side: int) -> float:
    return t if (stop - t) * side > 0 else stop
