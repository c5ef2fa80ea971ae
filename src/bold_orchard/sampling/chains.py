"""Chains on all processors, each with its own stream of one seed, so that draws do not depend on how many there are."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from concurrent.futures import wait
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.sampling.gaussian import NOWHERE
from bold_orchard.sampling.nuts import Chain, sample
from bold_orchard.threads import processors
from bold_orchard.workers import can_fork, forked

Array = NDArray[Any]
SCATTER = 2.0  # standard errors by which chains start apart
TRIES = 50  # starts before a posterior counts as having no density near the fit
MOST_WARM = 250  # positions of the warm-up kept for pictures
MOST_EFFECTS = 40_000_000  # drawn effects kept in memory (320 MB)


@dataclass(frozen=True)
class Drawn:
    """One chain: ``parameters`` (draws, m), ``effects`` (draws, q) or (0, q), ``logs`` (some draws, n) of the rows, ``replicated``
    (some draws, statistics), ``warm`` (few, m), and how it went.
    """

    parameters: Array
    effects: Array
    logs: Array
    replicated: Array
    warm: Array
    chain: Chain


@dataclass(frozen=True)
class Task:
    """What a worker does: ``target``, ``warmup`` and ``draws``, and what it makes of a position, ``finish``."""

    target: Any
    warmup: int
    draws: int
    seeds: tuple[np.random.SeedSequence, ...]
    finish: Callable[[Chain, np.random.Generator], Drawn]


_held: list[tuple[Task, Any]] = []


def run(task: Task, report: Callable[[int, int, int], None]) -> list[Drawn]:
    """All chains; ``report`` is told iterations done, all, and divergences so far."""
    from threadpoolctl import threadpool_limits

    count = len(task.seeds)
    total = count * (task.warmup + task.draws)
    workers = min(processors(), count)
    counted = multiprocessing.get_context("fork").RawArray("l", 2 * count) if can_fork() else [0] * (2 * count)
    if workers == 1 or not can_fork():
        with threadpool_limits(1):
            return [
                _one(task, counted, i, lambda: report(sum(counted[::2]), total, sum(counted[1::2])))
                for i in range(count)
            ]
    with forked(workers, _held.append, (task, counted)) as pool:
        futures = [pool.submit(_do, i) for i in range(count)]
        while wait(futures, timeout=0.2).not_done:
            report(sum(counted[::2]), total, sum(counted[1::2]))
        report(total, total, sum(counted[1::2]))
        return [f.result() for f in futures]


def _do(i: int) -> Drawn:
    task, counted = _held[-1]
    return _one(task, counted, i, lambda: None)


def _one(task: Task, counted: Any, i: int, tell: Callable[[], None]) -> Drawn:
    rng = np.random.default_rng(task.seeds[i])
    target = task.target
    centre = target.start()
    metric = target.metric(centre)
    start = _scattered(target, centre, metric, rng)

    def report(step: int, bad: bool) -> None:
        counted[2 * i] = step + 1
        counted[2 * i + 1] += int(bad)
        if step % 50 == 0:
            tell()

    with np.errstate(all="ignore"):  # a trajectory that runs away is given up, not warned of
        made = sample(target, start, metric, target.dense, task.warmup, task.draws, rng, report, target.wanted)
    return task.finish(made, rng)


def _scattered(target: Any, centre: Array, metric: Any, rng: np.random.Generator) -> Array:
    """A start around the fit, farther off than the posterior is wide; nearer where there is no density."""
    for k in range(TRIES):
        width = SCATTER * 0.8 ** max(k - 5, 0)
        e = rng.standard_normal(len(centre))
        m = metric.m
        away = np.concatenate([metric.root @ e[:m], metric.sd * e[m:]])
        start = centre + width * np.clip(away, -3.0, 3.0)
        if target(start)[0] > NOWHERE:
            return np.asarray(start)
    raise OrchardError(
        "no density was found around the fit's estimates under these priors; look at the priors, or at the fit itself (orchard show)"
    )
