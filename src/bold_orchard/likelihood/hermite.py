"""Products of Gauss-Hermite rules."""

from __future__ import annotations

import itertools
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@cache
def rule(points: int, axes: int = 1) -> tuple[Array, Array]:
    """Nodes x (axes, points^axes) and the logarithms of w exp(|x|^2) (points^axes,)."""
    x, w = np.polynomial.hermite.hermgauss(points)
    grid = np.array(list(itertools.product(x, repeat=axes))).T
    return grid, np.array([sum(v) for v in itertools.product(np.log(w) + x**2, repeat=axes)])
