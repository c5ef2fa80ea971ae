"""From a parameter as it is reported back to the unbounded scale it is searched on."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bold_orchard.sampling.laws import Law

NOTHING = 1e-300  # keeps a logarithm finite
AT_ENDS = 40.0  # of the unbounded scale, between which a value is sought


def found(back: Callable[[float], float], value: float) -> float:
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


def density_on_scale(law: Law, back: Callable[[float], float], x: float) -> tuple[float, float]:
    """Log density of x where back(x) has the law, with its slope in x; by differences, so that any monotone map serves."""
    h, wide = 1e-5, 1e-3

    def slope(at: float) -> float:
        return (back(at + h) - back(at - h)) / (2 * h)

    value, d = law.density(back(x))
    bend = (np.log(abs(slope(x + wide)) + NOTHING) - np.log(abs(slope(x - wide)) + NOTHING)) / (2 * wide)
    return value + float(np.log(abs(slope(x)) + NOTHING)), d * slope(x) + float(bend)
