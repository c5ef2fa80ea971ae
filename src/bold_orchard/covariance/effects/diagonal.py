"""A variance for every effect, no covariances."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure

Array = NDArray[Any]


@dataclass(frozen=True)
class Diagonal(Structure):
    """A variance for every effect, no covariances."""

    name = "diagonal"
    invariance = "scale"
    correlated = False
    contained_in = frozenset({"diagonal", "unstructured"})
    contained_in_wider = frozenset({"diagonal", "unstructured"})
    cone = "separate"

    @cached_property
    def basis(self) -> Array:
        return np.stack([np.diag(row) for row in np.eye(self.size)])

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.ones(self.size, dtype=bool)
