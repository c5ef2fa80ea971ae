"""Plain JSON values."""

from __future__ import annotations

import math
from typing import Any

PLAIN = frozenset({str, int, bool, type(None)})


def clean(value: Any) -> Any:
    """No NaN, no infinity, no NumPy scalars: null, numbers, texts, lists and dictionaries; rows in columns stay as they are."""
    kind = type(value)
    if kind is float:
        return value if math.isfinite(value) else None
    if kind in PLAIN:
        return value
    if kind is dict or isinstance(value, dict):
        return {str(k): clean(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [clean(v) for v in value]
    if hasattr(value, "columns"):
        return value
    if hasattr(value, "item"):
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value
