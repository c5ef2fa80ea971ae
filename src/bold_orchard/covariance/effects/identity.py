"""One variance for all effects, no covariances."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure

Array = NDArray[Any]


@dataclass(frozen=True)
class Identity(Structure):
    """One variance for all effects, no covariances."""

    name = "identity"
    invariance = "common"
    correlated = False
    contained_in = frozenset({"identity", "diagonal", "exchangeable", "unstructured"})
    contained_in_wider = frozenset({"diagonal", "unstructured"})
    cone = "spectral"

    @cached_property
    def basis(self) -> Array:
        return np.eye(self.size)[None]

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.ones(1, dtype=bool)
