"""A covariance that is known whole."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure

Array = NDArray[Any]


@dataclass(frozen=True)
class Given(Structure):
    """A covariance that is known whole and not estimated; ``rows`` is its lower Cholesky factor."""

    rows: tuple[tuple[float, ...], ...] = ()
    name = "given"

    @cached_property
    def basis(self) -> Array:
        return np.zeros((0, self.size, self.size))

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.zeros(0, dtype=bool)

    @cached_property
    def fixed(self) -> Array:
        return np.array(self.rows)
