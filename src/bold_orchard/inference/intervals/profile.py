"""Profile-likelihood intervals: all parameters but one at their best, the one moved until the deviance rises by its quantile.

SDs, correlations and residual parameters follow the fitted criterion, fixed effects the ML deviance. On the scale of the
signed root of the deviance's rise a profile is nearly a straight line, along which the ends are sought by secants.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property, singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.variances.information import full_hessian
from bold_orchard.inference.variances.quantities import Quantity
from bold_orchard.likelihood.gaussian import GaussianPoint
from bold_orchard.optimize.newton import descend

Array = NDArray[Any]
CLOSE = 2e-4  # part of the target within which an end is found: four digits of the interval
MOST_STEPS = 40  # of one constrained minimum or one end; some ten are usual
FLAT = 1e-6  # decrease of the deviance that moves no printed digit
LONGEST = 5.0  # whitened units (standard errors) that a step may be long
VANISHING = 1e-4  # part of an SD at which it is as good as zero
DOUBTFUL = 2.5  # standard errors from zero within which a variance may as well be zero


@dataclass(frozen=True)
class Line:
    """What is followed: ``rise(t, start)`` gives the least rise of the deviance at t and where it is.

    ``here`` is t at the minimum, ``se`` its rough spread, ``low`` and ``high`` the edges of the model, ``slack`` how near is
    there. ``others`` are further points to search from: near a singular covariance the rise can have several minima, of which
    a profile wants the least.
    """

    rise: Callable[[float, Array], tuple[float, Array]]
    here: float
    se: float
    start: Array
    low: float = -np.inf
    high: float = np.inf
    slack: float = 0.0
    others: tuple[Array, ...] = ()


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

    def __init__(self, e: GaussianPoint) -> None:
        self.e, self.c = e, e.criterion
        self.centre = e.psi
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

    def others(self, point: Array) -> tuple[Array, ...]:
        """The point with what may well be zero moved inside, when there is such: another minimum may lie beyond the edge."""
        m = len(self.c.bounded)
        size = np.abs(self.centre[:m]) * np.sqrt(np.maximum(np.diag(self.hessian)[:m], 0.0) / 2.0)
        doubtful = np.append(self.c.bounded & (size < DOUBTFUL), np.zeros(len(point) - m, dtype=bool))
        inside = np.maximum(np.abs(point), 0.3)
        return (np.where(doubtful, inside, point),) if doubtful.any() else ()

    def value_and_slope(self, psi: Array) -> tuple[float, Array]:
        """The rise of the deviance above its minimum, and its slope in psi."""
        key = psi.tobytes()
        if self._last is None or self._last[0] != key:
            try:
                there = self.c.at_psi(psi)
                value = there.deviance - self.bottom, there.psi_slope
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
            held, normal = q.value_and_slope(psi)
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
        value, gradient = self.value_and_slope(psi)
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
            if (
                self.value_and_slope(there)[0] + weight * abs(t - q.at(there))
                <= before + 0.1 * abs(before) * (part == 1.0) + FLAT
            ):
                return there, part
            part /= 3
        return None

    def nudged(self, q: Quantity) -> Array:
        """The minimum itself, or beside it where the quantity has no slope there (a variance at zero)."""
        psi = self.centre
        if np.linalg.norm(q.slope(psi) @ self.whiten) > 1e-3 * max(abs(q.at(psi)), 1e-8):
            return psi
        moved = []
        for i in range(len(self.c.bounded)):
            for side in (1.0, -1.0):
                there = psi.copy()
                there[i] += side * max(0.3 * abs(psi[i]), float(np.linalg.norm(self.whiten[i])))
                moved.append(there)
        changes = [abs(q.at(m) - q.at(psi)) for m in moved]
        return moved[int(np.argmax(changes))] if moved else psi


class FullSurface(Surface):
    """The same over all parameters of a generalized fit, coefficients among them."""

    def __init__(self, e: Any, hessian: Array) -> None:
        super().__init__(e)
        self.known = hessian

    @cached_property
    def hessian(self) -> Array:
        return self.known

    def value_and_slope(self, psi: Array) -> tuple[float, Array]:
        try:
            there = self.c.at(psi, self.e)
            value = there.deviance - self.bottom, there.gradient
        except np.linalg.LinAlgError:
            value = np.inf, np.zeros(len(psi))
        return value if np.isfinite(value[0]) and np.all(np.isfinite(value[1])) else (1e10, np.zeros(len(psi)))


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


@singledispatch
def surface_of(model: object) -> Surface:
    """The deviance around a fitted model's estimates."""
    raise NotImplementedError(type(model).__name__)


@surface_of.register
def _(model: GaussianModel) -> Surface:
    return Surface(model.evaluation)


@surface_of.register
def _(model: SpreadModel) -> Surface:
    return FullSurface(model.evaluation, model.found.hessian)


@surface_of.register
def _(model: GeneralizedModel) -> Surface:
    return FullSurface(model.evaluation, model.found.hessian)


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
            starts = (surface.centre, start, *surface.others(surface.centre))
            ends = [surface.lowest(p, VANISHING * p.at(surface.centre), s)[0] for p in q.parts for s in starts]
            ceilings.append(min((v for v in ends if np.isfinite(v)), default=np.inf))
        if ceilings and not value <= ceilings[0] < np.inf:
            return ceilings[0], start
        return value, there

    return Line(rise, here, se, start, q.low, q.high, q.slack, surface.others(surface.centre))


def fixed_line(ml: GaussianPoint, column: int, surface: Surface) -> Line:
    """The way along the fixed effect at place ``column`` among the kept ones; ``ml`` is the ML fit, ``surface`` about it."""
    c = ml.criterion

    def rise(t: float, start: Array) -> tuple[float, Array]:
        found = descend(lambda theta, near=None: c.at(theta).hold(column, t), start, c.nonnegative)
        return float(found.deviance - ml.deviance), found.theta

    se = float(np.sqrt(ml.b_covariance[column, column]))
    return Line(rise, float(ml.b[column]), se, ml.theta, others=surface.others(ml.theta))


def follow(line: Line, target: float, points: int = 0) -> Profile:
    """Both ends of the interval where the root of the rise reaches ``target``, and ``points`` more between for a picture."""
    sides = [_Side(line, side, target) for side in (-1, 1)]
    low, high = (side.end() for side in sides)
    known = sorted({k.t: k for side in sides for k in side.known}.values(), key=lambda k: k.t)
    for t in np.linspace(known[0].t, known[-1].t, points + 2)[1:-1]:
        side = sides[int(t > line.here)]
        made = side.at(float(t))
        known += [made] if made is not None else []
    trace = sorted((k.t, float(np.sign(k.t - line.here)) * k.root) for k in known)
    return Profile(low, high, trace, min(side.lowest for side in sides))


@dataclass(frozen=True)
class _Known:
    t: float
    root: float
    where: Array


class _Side:
    """One end of a profile: secants in the root of the rise, kept inside a bracket once there is one."""

    def __init__(self, line: Line, side: int, target: float) -> None:
        self.line, self.side, self.target, self.lowest = line, side, target, 0.0
        self.known = [_Known(line.here, 0.0, line.start)]
        self.widths: list[float] = []
        edge = line.low if side < 0 else line.high
        self.edge = edge
        self.stop = edge - side * max(1e-4 * abs(line.here - edge), 1e-7) if np.isfinite(edge) else edge

    def away(self, t: float) -> float:
        """How far out, negative on the other side."""
        return (t - self.line.here) * self.side

    def at(self, t: float) -> _Known | None:
        """The least root found at t from the nearest known point and the line's other starts."""
        near = min(self.known, key=lambda k: abs(k.t - t)).where
        best: _Known | None = None
        for start in (near, *self.line.others):
            value, where = self.line.rise(t, start)
            if np.isfinite(value):
                self.lowest = min(self.lowest, value)
                root = float(np.sqrt(max(value, 0.0)))
                best = _Known(t, root, where) if best is None or root < best.root else best
        return best

    def end(self) -> float | None:
        line = self.line
        if np.isfinite(self.edge) and abs(self.edge - line.here) <= line.slack:
            return self.edge
        t = self._kept(line.here + self.side * self.target * max(line.se, 1e-8))
        for _ in range(MOST_STEPS):
            made = self.at(t)
            if made is None:
                inside = max((k for k in self.known if k.root < self.target), key=lambda k: k.root)
                t = (t + inside.t) / 2
                continue
            # a farther point that is lower shows that a nearer one stood on a lesser minimum
            self.known = [k for k in self.known if self.away(k.t) > self.away(t) or k.root <= made.root]
            self.known.append(made)
            if made.root < self.target and t == self.stop:
                return self.edge
            following = self._towards()
            if abs(made.root - self.target) < CLOSE * self.target:
                return following if abs(following - t) < 0.01 * self.away(t) else t
            t = self._kept(self._bracketed(following, t))
        return None

    def _bracketed(self, following: float, t: float) -> float:
        """A next place between the last point inside and the first outside, or not too far ahead."""
        inside = max((k for k in self.known if k.root < self.target), key=lambda k: self.away(k.t))
        beyond = min((k for k in self.known if k.root >= self.target), key=lambda k: self.away(k.t), default=None)
        if beyond is None:
            far = self.line.here + self.side * 2.5 * self.away(t)
            return following if self.away(t) < self.away(following) < self.away(far) else far
        self.widths.append(abs(beyond.t - inside.t))
        slow = len(self.widths) > 3 and self.widths[-1] > 0.3 * self.widths[-4]
        if self.away(inside.t) < self.away(following) < self.away(beyond.t) and not (slow and len(self.widths) % 2):
            return following
        if self.away(inside.t) >= self.away(beyond.t):  # the nearer one stood on a lesser minimum
            self.known = [k for k in self.known if k is not beyond]
        return (inside.t + beyond.t) / 2

    def _kept(self, t: float) -> float:
        return t if (self.stop - t) * self.side > 0 else self.stop

    def _towards(self) -> float:
        """Where the root should meet the target: inverse interpolation through the three nearest points."""
        near = sorted({k.root: k.t for k in self.known}.items(), key=lambda k: abs(k[0] - self.target))[:3]
        value = 0.0
        for i, (root, t) in enumerate(near):
            weights = [(self.target - other) / (root - other) for k, (other, _) in enumerate(near) if k != i]
            value += float(np.prod(weights)) * t
        return value
