"""One variance and one covariance (compound symmetry)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure

Array = NDArray[Any]


@dataclass(frozen=True)
class Exchangeable(Structure):
    """One variance and one covariance (compound symmetry).

    theta holds the square roots of the two eigenvalues: of contrasts among the effects, and of their mean.
    """

    name = "exchangeable"
    invariance = "common"
    contained_in = frozenset({"exchangeable", "unstructured"})
    contained_in_wider = frozenset({"unstructured"})
    cone = "spectral"

    @cached_property
    def basis(self) -> Array:
        mean = np.full((self.size, self.size), 1.0 / self.size)
        if self.size == 1:
            return mean[None]
        return np.stack([np.eye(self.size) - mean, mean])

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.ones(len(self.basis), dtype=bool)
