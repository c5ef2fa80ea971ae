"""Saved fits by name, and their data: a file begins to be read before the engine that takes the fit up again is loaded."""

from __future__ import annotations

import json
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from bold_orchard.data.ahead import read_ahead
from bold_orchard.data.parts import digest
from bold_orchard.data.table import Table
from bold_orchard.frozen import Frozen, frozen

ENDING = ".fit.json"
LARGEST = 4 << 20  # bytes of a saved fit that is read twice without being felt


@frozen
class Begun(Frozen):
    """The table, and the digest of its file, both in the making."""

    table: Future[Table]
    digest: Future[str]


_begun: dict[tuple[Path, tuple[str, ...]], Begun] = {}


def save_path(name: str) -> Path:
    return Path(name if name.endswith(ENDING) else name + ENDING)


def begin(name: str) -> None:
    """Begin to read the data of a saved fit. What cannot be read is left to the one who asks for it."""
    try:
        path = next(p for p in (Path(name), save_path(name)) if p.is_file() and p.stat().st_size < LARGEST)
        document = json.loads(path.read_text(encoding="utf-8"))
        saved = document["saved"]
        if saved.get("pieces") or "embedded" in saved:
            return
        data = next(p for p in (path.parent / saved["data"], Path(saved["data_absolute"])) if p.is_file())
        words = " ".join([document["model"], saved["where"] or "", saved["options"]["weights"] or ""])
        table = read_ahead(str(data), saved["missing"], words)
    except (OSError, ValueError, RecursionError, LookupError, TypeError, AttributeError, StopIteration):
        return
    if table is not None:
        pool = ThreadPoolExecutor(1)
        _begun[data, tuple(saved["missing"])] = Begun(table, pool.submit(digest, data))
        pool.shutdown(wait=False)


def taken(path: Path, missing: Sequence[str]) -> Begun | None:
    """What was begun of a file, once."""
    return _begun.pop((path, tuple(missing)), None)
