"""Parts of one computation side by side, on as many processors as this process may use."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Sequence
from contextvars import copy_context
from threading import Thread
from typing import Any, TypeVar

Job = TypeVar("Job")
Made = TypeVar("Made")
_kept: list[int] = []  # how many, once it is known


def processors() -> int:
    """How many processors this process may use; 1 in a process that shares its work with others."""
    if not _kept:
        with contextlib.suppress(AttributeError, OSError):  # not every system says which are this process's own
            _kept.append(len(os.sched_getaffinity(0)))
        _kept.append(os.cpu_count() or 1)
    return _kept[0]


def keep_to_one() -> None:
    """From now on this process works on one processor: others have the rest."""
    _kept[:] = [1]


def at_once(work: Callable[[Job], Made], jobs: Sequence[Job]) -> list[Made]:
    """``work`` of every job, in their order whoever did which; what one raises is raised here when all have ended."""
    helpers = min(processors(), len(jobs)) - 1
    if helpers < 1:
        return [work(job) for job in jobs]
    made: list[Any] = [None] * len(jobs)
    left, failed = iter(range(len(jobs))), list[BaseException]()

    def take() -> None:
        try:
            for i in left:
                made[i] = work(jobs[i])
        except BaseException as e:
            failed.append(e)
            for _ in left:  # nobody begins another
                pass

    threads = [Thread(target=copy_context().run, args=(take,)) for _ in range(helpers)]
    for thread in threads:
        thread.start()
    take()
    for thread in threads:
        thread.join()
    if failed:
        raise failed[0]
    return made
