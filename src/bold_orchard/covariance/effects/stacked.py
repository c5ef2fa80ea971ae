"""Independent blocks for one unit."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure

Array = NDArray[Any]


@dataclass(frozen=True)
class Stacked(Structure):
    """Independent blocks for one unit, one for each of its clauses."""

    parts: tuple[Structure, ...] = ()
    name = "stacked"

    @cached_property
    def basis(self) -> Array:
        return self._stacked([p.basis for p in self.parts])

    @cached_property
    def directions(self) -> Array:
        return self._stacked([p.directions for p in self.parts])

    def _stacked(self, each: list[Array]) -> Array:
        out = np.zeros((self.n_theta, self.size, self.size))
        row = at = 0
        for part, own in zip(self.parts, each):
            out[at : at + part.n_theta, row : row + part.size, row : row + part.size] = own
            at, row = at + part.n_theta, row + part.size
        return out

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.concatenate([p.bounded for p in self.parts])

    def of_covariance(self, gamma: Array) -> Array:
        ends = np.cumsum([0, *(p.size for p in self.parts)])
        return np.concatenate([p.of_covariance(gamma[a:b, a:b]) for p, a, b in zip(self.parts, ends, ends[1:])])

    def signs(self, theta: Array) -> Array:
        ends = np.cumsum([p.n_theta for p in self.parts])[:-1]
        return np.concatenate([p.signs(t) for p, t in zip(self.parts, np.split(theta, ends))])

    @cached_property
    def fixed(self) -> Array:
        fixed = np.zeros((self.size, self.size))
        row = 0
        for part in self.parts:
            fixed[row : row + part.size, row : row + part.size] = part.fixed
            row += part.size
        return fixed
