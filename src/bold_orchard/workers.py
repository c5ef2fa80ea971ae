"""Tasks on all processors, where processes can be forked; on one where they cannot."""

from __future__ import annotations

import ctypes
import multiprocessing
import signal
import sys
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor
from contextlib import contextmanager
from itertools import islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.machine import check_room
from bold_orchard.progress import Progress
from bold_orchard.threads import dismiss, keep_to_one, processors

Array = NDArray[Any]
DIE_WITH_PARENT = 1  # PR_SET_PDEATHSIG of prctl(2)
ENDED = "a process that shared this work was ended from outside, most often for want of memory; use fewer rows (--where), or close other programs"
WAITING = 4  # tasks for each process that are handed out before they are done
HELD, HEAD = 2, 100  # times that a result is held, and bytes it takes beside its numbers
AT_ONCE = 10  # tasks handed to a process together: few enough that a progress bar moves
_held: list[Callable[[int], Array]] = []


def can_fork() -> bool:
    """Whether work is shared by processes forked off this one: on Linux alone.

    Elsewhere a fork is not there (Windows) or unsafe once a system library has begun a thread (macOS), and one process does the work.
    """
    return sys.platform == "linux" and "fork" in multiprocessing.get_all_start_methods()


def run(task: Callable[[int], Array], samples: int, report: Progress) -> Array:
    """task(0), ..., task(samples - 1) stacked, (samples, ...); on all cores where processes can be forked."""
    made: list[Array] = []
    for part in _each_part(task, samples):
        made += part
        check_room(HELD * (part[0].nbytes + HEAD) * samples, f"{samples:,} simulated outcomes", "ask for fewer")
        report(len(made), samples)
    return np.array(made)


def all_of(task: Callable[[int], Any], samples: int, report: Progress, together: int = AT_ONCE) -> list[Any]:
    """task(0), ..., task(samples - 1), whatever they are, in order; on all cores where processes can be forked, ``together`` at once each."""
    made: list[Any] = []
    for part in _each_part(task, samples, together):
        made += part
        report(len(made), samples)
    return made


def _each_part(task: Callable[[int], Array], samples: int, together: int = AT_ONCE) -> Iterator[list[Array]]:
    parts = (range(i, min(i + together, samples)) for i in range(0, samples, together))
    workers = min(processors(), -(-samples // together))
    if workers <= 1 or not can_fork():
        for part in parts:
            yield [task(i) for i in part]
        return
    with forked(workers, _held.append, task) as pool:
        waiting = deque(pool.submit(_do, part) for part in islice(parts, WAITING * workers))
        while waiting:  # never cancelled here: a pool whose processes end answers what is left of them itself
            yield waiting.popleft().result()
            waiting.extend(pool.submit(_do, part) for part in islice(parts, 1))


@contextmanager
def forked(workers: int, begin: Callable[[Any], object], held: Any) -> Iterator[ProcessPoolExecutor]:
    """Processes forked off this one, each of which begins with ``begin(held)``; where the work is broken off they end at once."""
    dismiss()
    context = multiprocessing.get_context("fork")
    with ProcessPoolExecutor(workers, context, initializer=_begin, initargs=(begin, held)) as pool:
        try:
            yield pool
        except BaseException as e:
            processes = list((pool._processes or {}).values())
            pool.shutdown(wait=False, cancel_futures=True)
            for process in processes:
                process.terminate()
            if isinstance(e, BrokenExecutor):
                raise OrchardError(ENDED) from None
            raise


def _begin(begin: Callable[[Any], object], held: Any) -> None:
    """In a new worker: its linear algebra keeps to one processor, Ctrl-C is its parent's business, and it does not outlive its parent."""
    from threadpoolctl import threadpool_limits

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    if sys.platform == "linux":
        ctypes.CDLL(None).prctl(DIE_WITH_PARENT, signal.SIGTERM)
    threadpool_limits(1)
    keep_to_one()
    begin(held)


def _do(part: range) -> list[Array]:
    """In a worker: the task came with the fork."""
    return [_held[-1](i) for i in part]
