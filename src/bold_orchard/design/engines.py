"""Where the sums of pieces are made: one part after the other here, or all of them on a cluster."""

from __future__ import annotations

import contextlib
import logging
import mmap
import pickle
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from itertools import pairwise
from typing import Any

import numpy as np

from bold_orchard.threads import processors
from bold_orchard.workers import can_fork, forked

ROOM = 300_000_000  # bytes of a shelf: no memory until something lies there
MOST_LOCAL = 4  # workers of one thread for each processor of this machine
ANSWER = 10.0  # seconds in which a scheduler must answer
LOOK, PATIENCE = 2.0, 60.0  # seconds between looks after a cluster, and without workers or scheduler until that is told
MUCH = 100_000_000  # bytes from which processes are worth their start


class Engine:
    """Parts one after the other in this process."""

    name, workers = "pieces", 1

    def each(self, work: Callable[..., Any], jobs: list[tuple[Any, ...]]) -> Iterator[Any]:
        """The results of all jobs, in their order."""
        return (work(*job) for job in jobs)

    def joined(
        self, work: Callable[..., Any], jobs: list[tuple[Any, ...]], join: Callable[[Any, Any], Any], report: Callable[[int], None]
    ) -> Any:  # fmt: skip
        """All results put together pairwise, as a tree whose shape depends on their number alone."""
        return tree((work(*job) for job in jobs), join, report)

    def close(self) -> None:
        """Nothing is held."""


def tree(items: Iterable[Any], join: Callable[[Any, Any], Any], report: Callable[[int], None]) -> Any:
    """Join neighbours of equal height as soon as there are two, so that no more than the height of the tree is held."""
    held: list[tuple[int, Any]] = []
    for done, item in enumerate(items, start=1):
        height = 0
        while held and held[-1][0] == height:
            item, height = join(held.pop()[1], item), height + 1
        held.append((height, item))
        report(done)
    made = held.pop()[1]
    while held:
        made = join(held.pop()[1], made)
    return made


class Forked(Engine):
    """Parts on all processors of this machine, in processes forked off this one; what they make comes back through shared memory."""

    def __init__(self, workers: int) -> None:
        self.workers = workers

    def each(self, work: Callable[..., Any], jobs: list[tuple[Any, ...]]) -> Iterator[Any]:
        shelves = [Shelf() for _ in range(self.workers + 1)]
        with forked(min(self.workers, len(jobs)), _held.append, (work, jobs, shelves)) as pool:
            waiting: deque[tuple[int, Any]] = deque()
            for k in range(len(jobs) + len(shelves)):
                if k >= len(shelves) and waiting:  # its shelf is emptied before another job fills it
                    earlier, future = waiting.popleft()
                    yield shelves[earlier % len(shelves)].taken(future.result())
                if k < len(jobs):
                    waiting.append((k, pool.submit(_do, k)))

    def joined(
        self, work: Callable[..., Any], jobs: list[tuple[Any, ...]], join: Callable[[Any, Any], Any], report: Callable[[int], None]
    ) -> Any:  # fmt: skip
        return tree(self.each(work, jobs), join, report)


_held: list[tuple[Callable[..., Any], list[tuple[Any, ...]], list[Shelf]]] = []


def _do(k: int) -> tuple[bytes, list[int] | None]:
    """In a worker: work and jobs came with the fork."""
    work, jobs, shelves = _held[-1]
    return shelves[k % len(shelves)].put(work(*jobs[k]))


class Shelf:
    """Memory that a worker and its parent share, for the arrays of one result at a time."""

    def __init__(self) -> None:
        try:
            self.memory = mmap.mmap(-1, ROOM)
        except (OSError, ValueError):  # not to be had: results go another way
            self.memory = mmap.mmap(-1, mmap.PAGESIZE)

    def put(self, item: Any) -> tuple[bytes, list[int] | None]:
        """The item without its arrays, and how long these are; None where there was no room."""
        arrays: list[pickle.PickleBuffer] = []
        made = pickle.dumps(item, protocol=5, buffer_callback=arrays.append)
        raw = [a.raw() for a in arrays]
        if sum(len(r) for r in raw) > len(self.memory):
            return pickle.dumps(item, protocol=5), None
        at = 0
        for r in raw:
            self.memory[at : at + len(r)] = r
            at += len(r)
        return made, [len(r) for r in raw]

    def taken(self, put: tuple[bytes, list[int] | None]) -> Any:
        """What was put there, on memory of its own."""
        made, lengths = put
        if lengths is None:
            return pickle.loads(made)
        ends = np.cumsum([0, *lengths])
        return pickle.loads(made, buffers=[bytearray(memoryview(self.memory)[a:b]) for a, b in pairwise(ends)])


def engine_here(parts: int, size: int) -> Engine:
    """All processors for several parts that hold much (``size`` bytes), where processes can be forked; else this process."""
    workers = min(processors(), parts)
    several = workers > 1 and size >= MUCH and can_fork()
    return Forked(workers) if several else Engine()


class Cluster(Engine):
    """Workers of a Dask cluster, which read the files themselves; a lost worker's parts are read again by another."""

    name = "cluster"

    def __init__(self, address: str) -> None:
        """``address`` is that of a running scheduler, or local:N. Raises OrchardError where there is none, or its workers differ."""
        from bold_orchard.errors import OrchardError, UsageError

        try:
            import distributed
        except ImportError:
            raise OrchardError(
                "--cluster needs one more package; install it with: pip install 'bold-orchard[cluster]'"
            ) from None
        self.local: Any = None
        library: Any = distributed
        self.address, count = address, address.partition(":")[2] or "2"
        local = address.partition(":")[0] == "local"
        if local:
            most = MOST_LOCAL * processors()
            if not count.isdigit() or not 1 <= int(count) <= most:
                raise UsageError(
                    f"--cluster is written local:N with N from 1 to {most} here, or as the address of a scheduler, not '{address}'"
                )
        names = [n for n in logging.root.manager.loggerDict if n.partition(".")[0] == "distributed"]
        self.levels = {log: log.level for log in map(logging.getLogger, names)}
        for log in self.levels:
            log.setLevel(logging.CRITICAL + 1)  # what becomes of workers is said in words of ours
        if local:
            self.local = library.LocalCluster(
                n_workers=int(count), threads_per_worker=1, dashboard_address=None, silence_logs=50
            )
        try:
            self.client: Any = library.Client(self.local or address, timeout=f"{ANSWER:g}s")
            self.workers = len(self.client.scheduler_info(n_workers=-1)["workers"])
            self._same_versions()
        except OrchardError:
            self.close()
            raise
        except (OSError, TimeoutError, ValueError) as e:
            self.close()
            what = str(e).splitlines()[0] if str(e) else type(e).__name__
            raise OrchardError(
                f"no scheduler answers at {address} ({what}); start one, or use --cluster local:N"
            ) from None
        if not self.workers:
            self.close()
            raise OrchardError(f"the scheduler at {address} has no workers; start some, or use --cluster local:N")

    def _same_versions(self) -> None:
        from bold_orchard import __version__
        from bold_orchard.errors import OrchardError

        try:
            found = self.client.run(_version)
        except Exception as e:  # whatever a worker says that lacks the package
            raise OrchardError(
                f"the workers cannot import bold_orchard ({type(e).__name__}); install version {__version__} on them"
            ) from None
        odd = sorted({str(v) for v in found.values() if v != __version__})
        if odd:
            raise OrchardError(
                f"workers have bold-orchard {', '.join(odd)}, and here is {__version__}; install the same version"
            )

    def each(self, work: Callable[..., Any], jobs: list[tuple[Any, ...]]) -> Iterator[Any]:
        futures = [self.client.submit(work, *job, pure=False) for job in jobs]
        return (self._result(f) for f in futures)

    def joined(
        self, work: Callable[..., Any], jobs: list[tuple[Any, ...]], join: Callable[[Any, Any], Any], report: Callable[[int], None]
    ) -> Any:  # fmt: skip
        futures = [self.client.submit(work, *job, pure=False) for job in jobs]
        return self._result(tree(futures, lambda a, b: self.client.submit(join, a, b, pure=False), report))

    def _result(self, future: Any) -> Any:
        """What a worker made of it; raises OrchardError when scheduler or workers have been gone for a while."""
        from concurrent.futures import CancelledError

        from bold_orchard.errors import OrchardError

        alone = 0.0
        while alone < PATIENCE:
            try:
                return future.result(timeout=LOOK)
            except TimeoutError:
                if future.done():
                    return future.result()
            except CancelledError:
                break
            if self.client.status != "running":
                alone += LOOK
            elif self.client.scheduler_info(n_workers=-1)["workers"]:
                alone = 0.0
            else:
                alone += LOOK
        gone = "workers" if self.client.status == "running" and alone else "scheduler"
        raise OrchardError(
            f"the {gone} of --cluster {self.address} went away during the fit; nothing was saved: start the {gone} and give the command again"
        )

    def close(self) -> None:
        """Let the workers go."""
        if getattr(self, "client", None) is not None:
            with contextlib.suppress(OSError, TimeoutError):  # a scheduler that is gone answers no farewell
                self.client.close(timeout=LOOK)
        if self.local is not None:
            self.local.close()
        for log, level in self.levels.items():
            log.setLevel(level)


def _version() -> str:
    from bold_orchard import __version__

    return __version__
