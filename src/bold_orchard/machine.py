"""How much memory this process may use, and the refusal of work that cannot fit into it."""

from __future__ import annotations

import contextlib
import os
from functools import cache
from pathlib import Path

from bold_orchard.errors import UsageError

UNKNOWN = 8 << 30  # bytes, where the system does not say
PART = 0.8  # of the memory that one piece of work may take
# what a container or a job may use: files of the second and the first kind of control groups
GROUPS = (Path("/sys/fs/cgroup/memory.max"), Path("/sys/fs/cgroup/memory/memory.limit_in_bytes"))


@cache
def memory() -> int:
    """Bytes that this process may use: the least of the machine's, a container's limit and a limit of the process."""
    found = []
    with contextlib.suppress(ValueError, OSError, AttributeError):
        found.append(os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"))
    for path in GROUPS:
        with contextlib.suppress(ValueError, OSError):  # "max" where there is no limit
            found.append(int(path.read_text()))
    with contextlib.suppress(ImportError, ValueError, OSError):
        import resource

        for kind in (resource.RLIMIT_AS, resource.RLIMIT_DATA):
            soft = resource.getrlimit(kind)[0]
            found += [soft] if soft != resource.RLIM_INFINITY else []
    return min(found, default=UNKNOWN)


def check_room(needed: float, what: str, remedy: str) -> None:
    """Refuse work before it begins; raises UsageError.

    Parameters
    ----------
    needed : bytes it will take, estimated.
    what : the work, as the subject of a sentence in the plural.
    remedy : what to do instead.
    """
    if needed > PART * memory():
        raise UsageError(f"{what} take about {_size(needed)} of memory, and there are {_size(memory())}; {remedy}")


def _size(number: float) -> str:
    for unit, size in (("PB", 1e15), ("TB", 1e12), ("GB", 1e9)):
        if number >= size:
            return f"{number / size:,.3g} {unit}" if number < 1e18 else f"{number / size:,.0f} {unit}"
    return f"{number / 1e6:,.3g} MB"
