"""Plain JSON values."""

from __future__ import annotations

import math
from typing import Any

PLAIN = frozenset({str, int, bool, type(None)})
FLOATS = {float}


def plain(value: Any) -> Any:
    """No NaN, no infinity, no NumPy scalars: null, numbers, texts, lists and dictionaries (of objects too); rows in columns stay as they are."""
    kind = type(value)
    if kind is float:
        return value if math.isfinite(value) else None
    if kind in PLAIN:
        return value
    if kind is list:
        return list(value) if _is_plain(value) else [plain(v) for v in value]
    if hasattr(value, "columns") and not hasattr(value, "items"):
        return value
    if hasattr(value, "plain"):
        return value.plain()
    if hasattr(value, "items"):
        made = {str(k): v for k, v in value.items()}
        return made if _is_plain(made.values()) else {k: plain(v) for k, v in made.items()}
    if isinstance(value, (list, tuple)):
        return [plain(v) for v in value]
    if hasattr(value, "item"):
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value


def _is_plain(values: Any) -> bool:
    """Whether all values are plain as they stand: told at once, for there may be millions."""
    kinds = set(map(type, values))
    return kinds <= PLAIN or (kinds <= FLOATS and all(map(math.isfinite, values)))
