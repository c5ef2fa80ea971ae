"""Plain JSON values."""

from __future__ import annotations

import math
from typing import Any


def clean(value: Any) -> Any:
    """No NaN, no infinity, no NumPy scalars: null, numbers, texts, lists and dictionaries; rows in columns stay as they are."""
    if hasattr(value, "columns"):
        return value
    if isinstance(value, dict):
        return {str(k): clean(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [clean(v) for v in value]
    if hasattr(value, "item"):
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value
