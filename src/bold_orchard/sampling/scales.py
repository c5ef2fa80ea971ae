"""From a parameter as it is reported back to the unbounded scale it is searched on."""

from __future__ import annotations

from typing import Any

AT_ENDS = 40.0  # of the unbounded scale, between which a value is sought


def found(back: Any, value: float) -> float:
    """x with back(x) = value, back being monotone."""
    low, high = -AT_ENDS, AT_ENDS
    rising = back(high) > back(low)
    for _ in range(100):
        middle = (low + high) / 2
        if (back(middle) < value) == rising:
            low = middle
        else:
            high = middle
    return (low + high) / 2
