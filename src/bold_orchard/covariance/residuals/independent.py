"""Equal, independent residuals."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import Bands, RowCovariance

Array = NDArray[Any]


class Independent(RowCovariance):
    """R = sigma^2 I: the base on which a spread is built."""

    def __init__(self, n: int) -> None:
        self.classes, self.sizes = [np.zeros(n, dtype=np.intp)], [1]
        self.bounded, self.start = np.zeros(0, dtype=bool), np.zeros(0)

    def at(self, phi: Array) -> Bands:
        return Bands([np.ones(1)], [np.zeros((0, 1))], 0.0, np.zeros(0))
