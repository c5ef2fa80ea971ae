"""A parameter that a family or a residual structure has of its own, beside the mean and the variances of the units' effects."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass(frozen=True)
class OwnParameter:
    """``name`` stands in the document, ``meaning`` says it in words, ``symbol`` stands for it in formulas.

    It is the ``place``-th of its owner's parameters, and ``back`` brings it from the scale of the search to the value reported,
    monotone. ``edges`` are the scale's own where the value is as good as at its ``ends``, the least and the largest it can be.
    Where it depends on entries before its own too, ``value`` gives it from all of them. ``gone`` says what it means that it has run to its limit; ``nothing`` is the value at which it adds nothing, None where there is none;
    ``size`` is an ordinary value.
    """

    name: str
    meaning: str
    back: Callable[[float], float]
    place: int = 0
    gone: str = ""
    symbol: str = r"\theta"
    edges: tuple[float, float] = (-math.inf, math.inf)
    ends: tuple[float, float] = (-math.inf, math.inf)
    nothing: float | None = None
    value: Callable[[Array], float] | None = None
    size: float = 5.0

    def at(self, entries: Array) -> float:
        """Its value at all of its owner's entries on the scale of the search."""
        return self.back(float(entries[self.place])) if self.value is None else self.value(entries)

    def along(self, entries: Array) -> Callable[[float], float]:
        """Its value as a function of its own entry, the others staying as they are."""
        if self.value is None:
            return self.back
        return lambda x: self.at(np.where(np.arange(len(entries)) == self.place, x, entries))
