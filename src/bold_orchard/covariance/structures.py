"""Every structure here is linear in theta: ``T = fixed + sum_a theta_a basis_a``, and ``Gamma = T T'``.

Then ``dGamma/dtheta_a = basis_a T' + T basis_a'`` and the second derivative is constant, so the search
has exact first and second derivatives of the map for nothing.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass(frozen=True)
class Structure:
    """A covariance among ``size`` effects of one unit.

    ``freedom`` tells which changes of the columns of Z leave the family of models unchanged, so that columns
    may be rescaled internally: 'linear' (any invertible map), 'scale' (each column by a factor), 'common' (all by
    one factor), 'none'.
    """

    size: int
    name = "structure"
    freedom = "none"

    @cached_property
    def basis(self) -> Array:
        """(n_theta, size, size)."""
        raise NotImplementedError

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        """(n_theta,): True where theta must not be negative."""
        raise NotImplementedError

    @property
    def n_theta(self) -> int:
        return len(self.bounded)

    @cached_property
    def fixed(self) -> Array:
        """The part of T that is not estimated, (size, size), as a factor of a covariance on the user's scale."""
        return np.zeros((self.size, self.size))

    def factor(self, theta: Array, scale: float = 1.0) -> Array:
        """T, shape (size, size); ``scale`` multiplies the fixed part."""
        return scale * self.fixed + np.tensordot(theta, self.basis, axes=1)

    def start(self, variance: Array) -> Array:
        """theta whose covariance is near ``diag(variance)``, variance (size,) relative to the residual's."""
        norms = np.einsum("aij,aij->a", self.basis, self.basis)
        target = np.diag(np.sqrt(variance))
        theta = np.einsum("aij,ij->a", self.basis, target) / np.where(norms > 0, norms, 1)
        return np.where(self.bounded, np.maximum(theta, 1e-3), theta)


@dataclass(frozen=True)
class Unstructured(Structure):
    """All variances and covariances free; T lower triangular, theta by rows."""

    name = "unstructured"
    freedom = "linear"

    @cached_property
    def basis(self) -> Array:
        rows, columns = np.tril_indices(self.size)
        basis = np.zeros((len(rows), self.size, self.size))
        basis[np.arange(len(rows)), rows, columns] = 1.0
        return basis

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        rows, columns = np.tril_indices(self.size)
        return rows == columns


@dataclass(frozen=True)
class Diagonal(Structure):
    """A variance for every effect, no covariances."""

    name = "diagonal"
    freedom = "scale"

    @cached_property
    def basis(self) -> Array:
        return np.stack([np.diag(row) for row in np.eye(self.size)])

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.ones(self.size, dtype=bool)


@dataclass(frozen=True)
class Identity(Structure):
    """One variance for all effects, no covariances."""

    name = "identity"
    freedom = "common"

    @cached_property
    def basis(self) -> Array:
        return np.eye(self.size)[None]

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.ones(1, dtype=bool)


@dataclass(frozen=True)
class Exchangeable(Structure):
    """One variance and one covariance (compound symmetry).

    theta holds the square roots of the two eigenvalues: of contrasts among the effects, and of their mean.
    """

    name = "exchangeable"
    freedom = "common"

    @cached_property
    def basis(self) -> Array:
        mean = np.full((self.size, self.size), 1.0 / self.size)
        if self.size == 1:
            return mean[None]
        return np.stack([np.eye(self.size) - mean, mean])

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.ones(len(self.basis), dtype=bool)


@dataclass(frozen=True)
class Stacked(Structure):
    """Independent blocks for one unit, one for each of its clauses."""

    parts: tuple[Structure, ...] = ()
    name = "stacked"

    @cached_property
    def basis(self) -> Array:
        basis = np.zeros((self.n_theta, self.size, self.size))
        row = at = 0
        for part in self.parts:
            basis[at : at + part.n_theta, row : row + part.size, row : row + part.size] = part.basis
            at, row = at + part.n_theta, row + part.size
        return basis

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        return np.concatenate([p.bounded for p in self.parts])

    @cached_property
    def fixed(self) -> Array:
        fixed = np.zeros((self.size, self.size))
        row = 0
        for part in self.parts:
            fixed[row : row + part.size, row : row + part.size] = part.fixed
            row += part.size
        return fixed


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


STRUCTURES: dict[str, type[Structure]] = {s.name: s for s in (Unstructured, Diagonal, Identity, Exchangeable)}
