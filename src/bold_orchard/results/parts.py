"""Names of columns that are the part of another within units."""

from __future__ import annotations

import re

PART = re.compile(r"^centre\((.+), ([^,()]+)\)$")


def within(name: str) -> tuple[str, str] | None:
    """The column and the unit of ``centre(column, unit)``; None for other names."""
    found = PART.match(name)
    return None if found is None else (found[1], found[2])
