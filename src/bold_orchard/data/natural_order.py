"""Labels as people order and write them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np

_NUMBERS = re.compile(r"(\d+(?:\.\d+)?)")
_SIGNED = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")


def natural_key(label: str) -> tuple[Any, ...]:
    """A sort key under which "block 2" stands before "block 10"."""
    if _SIGNED.fullmatch(label):
        return ((0, float(label), ""), (-1, 0.0, label))
    parts = _NUMBERS.split(label)
    key = [(0, float(p), "") if i % 2 else (1, 0.0, p.casefold()) for i, p in enumerate(parts) if p]
    return (*key, (-1, 0.0, label))


def natural_order(labels: Sequence[str]) -> list[int]:
    """Positions of ``labels`` in natural order."""
    return sorted(range(len(labels)), key=lambda i: natural_key(labels[i]))


def label_texts(values: Iterable[Any]) -> list[str]:
    """Labels as text: whole numbers without a point, everything else as written."""
    array = np.asarray(values if isinstance(values, np.ndarray) else list(values))
    if array.dtype.kind in "iu":
        return [str(v) for v in array.tolist()]
    if array.dtype.kind == "f":
        return [str(int(v)) if abs(v) <= 2**53 and v == int(v) else repr(v) for v in array.tolist()]
    return [str(v) for v in array.tolist()]
