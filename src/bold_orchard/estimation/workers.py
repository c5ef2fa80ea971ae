"""Tasks on all processors, where processes can be forked."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
Progress = Callable[[int, int], None]
AT_ONCE = 10  # tasks handed to a process together: few enough that a progress bar moves
_held: list[Callable[[int], Array]] = []


def run(task: Callable[[int], Array], samples: int, report: Progress) -> Array:
    """task(0), ..., task(samples - 1) stacked, (samples, ...); on all cores where processes can be forked."""
    parts = [range(i, min(i + AT_ONCE, samples)) for i in range(0, samples, AT_ONCE)]
    made: list[Array] = []
    for part in _each_part(task, parts):
        made += part
        report(len(made), samples)
    return np.array(made)


def _each_part(task: Callable[[int], Array], parts: list[range]) -> Iterator[list[Array]]:
    workers = min(os.cpu_count() or 1, len(parts))
    if workers == 1 or "fork" not in multiprocessing.get_all_start_methods():
        for part in parts:
            yield [task(i) for i in part]
        return
    context = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(workers, context, initializer=_begin, initargs=(task,)) as pool:
        yield from pool.map(_do, parts)


def _begin(task: Callable[[int], Array]) -> None:
    """In a new worker: the processors are shared out, so its linear algebra keeps to one of them."""
    from threadpoolctl import threadpool_limits

    threadpool_limits(1)
    _held.append(task)


def _do(part: range) -> list[Array]:
    """In a worker: the task came with the fork."""
    return [_held[-1](i) for i in part]
