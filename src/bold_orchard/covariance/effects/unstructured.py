"""All variances and covariances free."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure

Array = NDArray[Any]


@dataclass(frozen=True)
class Unstructured(Structure):
    """All variances and covariances free; T lower triangular, theta by rows.

    ``order`` lists the effects in the order in which T is triangular. A search is smoother when effects with large
    variances come first.
    """

    order: tuple[int, ...] = ()
    name = "unstructured"
    invariance = "linear"
    contained_in = frozenset({"unstructured"})
    contained_in_wider = frozenset({"unstructured"})
    cone = "matrix"

    @cached_property
    def basis(self) -> Array:
        rows, columns = np.tril_indices(self.size)
        places = np.asarray(self.order or range(self.size))
        basis = np.zeros((len(rows), self.size, self.size))
        basis[np.arange(len(rows)), places[rows], columns] = 1.0
        return basis

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        rows, columns = np.tril_indices(self.size)
        return rows == columns

    @cached_property
    def directions(self) -> Array:
        rows, columns = np.tril_indices(self.size)
        out = np.zeros((len(rows), self.size, self.size))
        out[np.arange(len(rows)), rows, columns] = out[np.arange(len(rows)), columns, rows] = 1.0
        return out

    def signs(self, theta: Array) -> Array:
        return np.where(theta[self.bounded] < 0, -1.0, 1.0)[np.tril_indices(self.size)[1]]

    def of_covariance(self, gamma: Array) -> Array:
        places = np.asarray(self.order or range(self.size))
        rest, low = gamma[np.ix_(places, places)].copy(), np.zeros_like(gamma)
        floor = 1e-14 * np.maximum(np.diag(rest).copy(), 1e-300)
        for k in range(self.size):
            if rest[k, k] > floor[k]:
                low[k:, k] = rest[k:, k] / np.sqrt(rest[k, k])
                rest[k:, k:] -= np.outer(low[k:, k], low[k:, k])
        return low[np.tril_indices(self.size)]

    def by_size(self, theta: Array) -> Unstructured:
        """The same structure with the effects of largest variance first."""
        t = self.factor(theta)
        return Unstructured(self.size, tuple(int(i) for i in np.argsort(-np.einsum("ij,ij->i", t, t), kind="stable")))
