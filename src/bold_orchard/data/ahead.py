"""A file whose reading begins before it is known which of its columns are used."""

from __future__ import annotations

import re
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from bold_orchard.data.read import DELIMITED, PEEK, read_table
from bold_orchard.data.table import Table

LARGEST = 128 << 20  # bytes: larger files may have to be read in pieces


class Mentioned:
    """The names that stand in a text, as words of their own."""

    def __init__(self, text: str) -> None:
        self.text = text

    def __contains__(self, name: object) -> bool:
        return re.search(rf"(?<!\w){re.escape(str(name))}(?!\w)", self.text) is not None


def read_ahead(source: str, missing: Sequence[str], words: str) -> Future[Table] | None:
    """The table of a text file, being read by a thread of its own, with those columns at hand whose names stand in ``words``.

    None where that gains nothing or is too early: small and very large files, other formats, what cannot be read.
    """
    path = Path(source)
    try:
        if path.suffix.lower() not in DELIMITED or not path.is_file() or not PEEK < path.stat().st_size < LARGEST:
            return None
    except OSError:
        return None
    import pyarrow.csv  # noqa: F401  # a thread that loads it would wait for all that is loaded meanwhile

    reader = ThreadPoolExecutor(1)
    table = reader.submit(read_table, path, missing, None, Mentioned(words))
    reader.shutdown(wait=False)
    return table
