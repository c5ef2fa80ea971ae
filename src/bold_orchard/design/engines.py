"""Where the sums of pieces are made: one part after the other here, or all of them on a cluster."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any


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
        if address.startswith("local"):
            count = address.partition(":")[2] or "2"
            if not count.isdigit() or int(count) < 1:
                raise UsageError(f"--cluster is written local:N, or the address of a scheduler, not '{address}'")
            self.local = library.LocalCluster(
                n_workers=int(count), threads_per_worker=1, dashboard_address=None, silence_logs=50
            )
        try:
            self.client: Any = library.Client(self.local or address, timeout="10s")
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
        return (f.result() for f in futures)

    def joined(
        self, work: Callable[..., Any], jobs: list[tuple[Any, ...]], join: Callable[[Any, Any], Any], report: Callable[[int], None]
    ) -> Any:  # fmt: skip
        futures = [self.client.submit(work, *job, pure=False) for job in jobs]
        return tree(futures, lambda a, b: self.client.submit(join, a, b, pure=False), report).result()

    def close(self) -> None:
        """Let the workers go."""
        if getattr(self, "client", None) is not None:
            self.client.close()
        if self.local is not None:
            self.local.close()


def _version() -> str:
    from bold_orchard import __version__

    return __version__
