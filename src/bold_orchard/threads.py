"""Parts of one computation side by side, on as many processors as this process may use."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Sequence
from contextvars import copy_context
from queue import SimpleQueue
from threading import Lock, Thread
from typing import Any, TypeVar

Job = TypeVar("Job")
Made = TypeVar("Made")
PATIENCE = 60.0  # seconds until work that does not end is taken for a mistake of ours
_kept: list[int] = []  # how many processors, once it is known
_crew: dict[
    int, list[tuple[Thread, SimpleQueue[Any]]]
] = {}  # helpers that wait for work, by the process they belong to
_working = Lock()


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


def dismiss() -> None:
    """Send the helpers home: before this process is forked there is but one thread of ours."""
    if not _working.acquire(timeout=PATIENCE):
        raise RuntimeError("a process cannot be forked by what runs beside other work")
    try:
        for thread, tasks in _crew.pop(os.getpid(), []):
            tasks.put(None)
            thread.join()
    finally:
        _working.release()


def at_once(work: Callable[[Job], Made], jobs: Sequence[Job]) -> list[Made]:
    """``work`` of every job, in their order whoever did which; what one raises is raised here when all have ended.

    Inside the work of another call all is done by whoever asks: the others are busy.
    """
    count = min(processors(), len(jobs)) - 1
    if count < 1 or not _working.acquire(blocking=False):
        return [work(job) for job in jobs]
    try:
        return _shared(work, jobs, _helpers(count))
    finally:
        _working.release()


def _shared(work: Callable[[Job], Made], jobs: Sequence[Job], helpers: list[SimpleQueue[Any]]) -> list[Made]:
    made: list[Any] = [None] * len(jobs)
    left, ended = iter(range(len(jobs))), SimpleQueue[BaseException | None]()

    def take() -> None:
        failed: BaseException | None = None
        try:
            for i in left:
                made[i] = work(jobs[i])
        except BaseException as e:
            failed = e
            for _ in left:  # nobody begins another
                pass
        ended.put(failed)

    for tasks in helpers:
        tasks.put((copy_context(), take))
    take()
    failures = [e for e in [ended.get() for _ in range(len(helpers) + 1)] if e is not None]
    if failures:
        raise failures[0]
    return made


def _helpers(count: int) -> list[SimpleQueue[Any]]:
    """Where so many helpers of this process wait for their tasks."""
    crew = _crew.setdefault(os.getpid(), [])
    while len(crew) < count:
        tasks: SimpleQueue[Any] = SimpleQueue()
        thread = Thread(target=_wait, args=(tasks,), name="helper", daemon=True)
        thread.start()
        crew.append((thread, tasks))
    return [tasks for _, tasks in crew[:count]]


def _wait(tasks: SimpleQueue[Any]) -> None:
    while (task := tasks.get()) is not None:
        context, take = task
        context.run(take)
