"""Hamiltonian Monte Carlo whose trajectories end where they turn back (Hoffman & Gelman 2014; multinomial, Betancourt 2017).

Step sizes come from dual averaging (Nesterov 2009), the metric from the draws of the warm-up in growing windows. The metric is dense
over the first ``dense`` coordinates and diagonal over the others.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
Target = Callable[[Array], tuple[float, Array]]
WRONG = 1000.0  # energy lost on the way by which a trajectory counts as diverged
DEEPEST = 10  # doublings of a trajectory: 1,023 steps
WANTED = 0.75  # acceptance that the step size is tuned to: short of it draws are made again, far above it they cost too many steps
FIRST, LAST, WINDOW = 75, 50, 25  # draws of the warm-up before, after, and in the first window of the metric
MOST_DENSE = 80  # coordinates whose covariance is learned whole


@dataclass(frozen=True)
class Chain:
    """``positions`` (draws, d) of one chain, the energy (draws,), acceptance (draws,) and steps (draws,) of each, and which diverged.

    ``warm`` (warmup, d) are the positions of the warm-up.
    """

    positions: Array
    energy: Array
    acceptance: Array
    steps: Array
    diverged: NDArray[np.bool_]
    warm: Array
    step_size: float


class Metric:
    """The inverse mass matrix: ``cov`` (m, m) over the first m coordinates, ``var`` (d - m,) over the rest."""

    def __init__(self, cov: Array, var: Array) -> None:
        self.m, self.cov, self.var = len(cov), cov, var
        self.root = np.linalg.cholesky(cov) if len(cov) else cov
        self.back = np.linalg.inv(self.root).T if len(cov) else cov
        self.sd = np.sqrt(var)

    def velocity(self, p: Array) -> Array:
        if not len(self.var):
            return np.asarray(self.cov @ p)
        return np.concatenate([self.cov @ p[: self.m], self.var * p[self.m :]])

    def momentum(self, rng: np.random.Generator) -> Array:
        e = rng.standard_normal(self.m + len(self.var))
        return np.concatenate([self.back @ e[: self.m], e[self.m :] / self.sd])


@dataclass
class _State:
    q: Array
    p: Array
    gradient: Array
    value: float
    velocity: Array


@dataclass
class _Tree:
    """A piece of a trajectory: its ends, the sum of its momenta, the point chosen in it and the weight of its points."""

    left: _State
    right: _State
    total: Array
    chosen: _State
    weight: float
    turning: bool
    diverged: bool
    accepted: float
    steps: int


class Sampler:
    """One chain. ``target`` gives the log density and its gradient at a position (d,)."""

    def __init__(self, target: Target, metric: Metric, rng: np.random.Generator) -> None:
        self.target, self.metric, self.rng = target, metric, rng
        self.step_size = 1.0

    def _at(self, q: Array, p: Array) -> _State:
        value, gradient = self.target(q)
        return _State(q, p, gradient, value, self.metric.velocity(p))

    def _moved(self, s: _State, step: float) -> _State:
        p = s.p + 0.5 * step * s.gradient
        q = s.q + step * self.metric.velocity(p)
        value, gradient = self.target(q)
        p = p + 0.5 * step * gradient
        return _State(q, p, gradient, value, self.metric.velocity(p))

    @staticmethod
    def _energy(s: _State) -> float:
        made = -s.value + 0.5 * float(s.p @ s.velocity)
        return made if math.isfinite(made) else math.inf

    def _leaf(self, s: _State, direction: int, start: float) -> _Tree:
        there = self._moved(s, direction * self.step_size)
        lost = self._energy(there) - start
        bad = not lost < WRONG
        weight = -lost if not bad else -np.inf
        return _Tree(
            there,
            there,
            there.p,
            there,
            weight,
            False,
            bad,
            math.exp(min(0.0, -lost)) if math.isfinite(lost) else 0.0,
            1,
        )

    def _grown(self, s: _State, direction: int, depth: int, start: float) -> _Tree:
        if depth == 0:
            return self._leaf(s, direction, start)
        one = self._grown(s, direction, depth - 1, start)
        if one.turning or one.diverged:
            return one
        two = self._grown(one.right if direction > 0 else one.left, direction, depth - 1, start)
        return self._joined(one, two, direction, biased=False)

    def _joined(self, one: _Tree, two: _Tree, direction: int, biased: bool) -> _Tree:
        left, right = (one, two) if direction > 0 else (two, one)
        weight = _both(one.weight, two.weight)
        chance = two.weight - (one.weight if biased else weight)
        chosen = two.chosen if self.rng.random() < math.exp(min(chance, 0.0)) else one.chosen
        total = one.total + two.total
        turning = two.turning or one.turning
        if not (turning or two.diverged):
            turning = self._turns(left.left, right.right, total)
            turning = turning or self._turns(left.left, right.left, left.total + right.left.p)
            turning = turning or self._turns(left.right, right.right, right.total + left.right.p)
        return _Tree(left.left, right.right, total, chosen, weight, turning, one.diverged or two.diverged,
                     one.accepted + two.accepted, one.steps + two.steps)  # fmt: skip

    @staticmethod
    def _turns(a: _State, b: _State, total: Array) -> bool:
        return bool(a.velocity @ total <= 0 or b.velocity @ total <= 0)

    def draw(self, q: Array, value: float, gradient: Array) -> tuple[_State, float, float, int, bool]:
        """The next position; with its energy, mean acceptance, steps and whether the trajectory diverged."""
        p = self.metric.momentum(self.rng)
        here = _State(q, p, gradient, value, self.metric.velocity(p))
        start = self._energy(here)
        tree = _Tree(here, here, p, here, 0.0, False, False, 0.0, 0)
        accepted, steps, diverged = 0.0, 0, False
        for depth in range(DEEPEST):
            direction = 1 if self.rng.random() < 0.5 else -1
            more = self._grown(tree.right if direction > 0 else tree.left, direction, depth, start)
            accepted, steps = accepted + more.accepted, steps + more.steps
            diverged = diverged or more.diverged
            if more.turning or more.diverged:
                break
            tree = self._joined(tree, more, direction, biased=True)
            if tree.turning:
                break
        return tree.chosen, start, accepted / max(steps, 1), steps, diverged

    def first_step(self, q: Array) -> float:
        """A step size whose acceptance is about one half."""
        here = self._at(q, self.metric.momentum(self.rng))
        start, size = self._energy(here), 1.0
        up = self._energy(self._moved(here, size)) - start < np.log(2.0)
        for _ in range(60):
            size *= 2.0 if up else 0.5
            better = self._energy(self._moved(here, size)) - start < np.log(2.0)
            if better != up:
                break
        return size


def _both(a: float, b: float) -> float:
    """log(exp(a) + exp(b))."""
    top = max(a, b)
    return top if top == -math.inf else top + math.log1p(math.exp(min(a, b) - top))


class _Dual:
    """Dual averaging of the logarithm of the step size."""

    def __init__(self, size: float, wanted: float) -> None:
        self.centre, self.error, self.count, self.mean = float(np.log(10.0 * size)), 0.0, 0, 0.0
        self.wanted = wanted

    def update(self, accepted: float) -> float:
        self.count += 1
        t = self.count
        self.error += (self.wanted - accepted - self.error) / (t + 10.0)
        log = self.centre - np.sqrt(t) / 0.05 * self.error
        share = t**-0.75
        self.mean = share * log + (1.0 - share) * self.mean
        return float(np.exp(log))


def sample(
    target: Target, start: Array, metric: Metric, dense: int, warmup: int, draws: int, rng: np.random.Generator,
    report: Callable[[int, bool], None], wanted: float = WANTED,
) -> Chain:  # fmt: skip
    """One chain of ``draws`` after ``warmup``; ``report`` is told of every iteration and whether it diverged.

    Step sizes are tuned to an acceptance of ``wanted``.
    """
    sampler = Sampler(target, metric, rng)
    q = start
    value, gradient = target(q)
    sampler.step_size = sampler.first_step(q)
    dual, d, m = _Dual(sampler.step_size, wanted), len(start), min(dense, MOST_DENSE)
    ends, window = _windows(warmup), []
    kept, warm = np.empty((draws, d)), np.empty((warmup, d))
    energy, acceptance, steps, diverged = np.empty(draws), np.empty(draws), np.empty(draws), np.zeros(draws, dtype=bool)
    for i in range(warmup + draws):
        chosen, e, accepted, count, bad = sampler.draw(q, value, gradient)
        q, value, gradient = chosen.q, chosen.value, chosen.gradient
        report(i, bad and i >= warmup)
        if i >= warmup:
            k = i - warmup
            kept[k], energy[k], acceptance[k], steps[k], diverged[k] = q, e, accepted, count, bad
            continue
        warm[i] = q
        sampler.step_size = dual.update(accepted)
        if FIRST <= i < warmup - LAST:
            window.append(q)
        if i in ends and len(window) > 4:
            sampler.metric = learned(np.array(window), m)
            window = []
            sampler.step_size = sampler.first_step(q)
            dual = _Dual(sampler.step_size, wanted)
        if i == warmup - 1:
            sampler.step_size = float(np.exp(dual.mean))
    return Chain(kept, energy, acceptance, steps, diverged, warm, sampler.step_size)


def learned(window: Array, m: int) -> Metric:
    """The metric from a window of positions, drawn a little towards a small multiple of the identity where it is short."""
    n = len(window)
    share = n / (n + 5.0)
    cov = np.atleast_2d(np.cov(window[:, :m].T)) if m else np.zeros((0, 0))
    scale = np.diag(cov).copy() if m else np.zeros(0)
    cov = share * cov + (1.0 - share) * np.diag(np.maximum(scale, 1e-10)) + 1e-10 * np.eye(m)
    var = share * window[:, m:].var(axis=0, ddof=1) + (1.0 - share) * 1e-3
    return Metric(cov, np.maximum(var, 1e-10))


def _windows(warmup: int) -> set[int]:
    """The last draws of each window of the metric: doubling, the last one stretched."""
    ends, at, size = [], FIRST, WINDOW
    while at + size <= warmup - LAST:
        last = at + 3 * size > warmup - LAST
        at = warmup - LAST if last else at + size
        ends.append(at - 1)
        size *= 2
    return set(ends)
