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
        """(n_theta,): True where zero is the edge of the model and theta is reported not negative."""
        raise NotImplementedError

    def signs(self, theta: Array) -> Array:
        """Factors +-1 (n_theta,) that make theta not negative where ``bounded`` and leave T T' as it is.

        The search itself runs over both signs: a wall at zero would hide the way out of a singular T.
        """
        return np.where(self.bounded & (theta < 0), -1.0, 1.0)

    @property
    def n_theta(self) -> int:
        return len(self.bounded)

    @cached_property
    def directions(self) -> Array:
        """A basis of the covariances the structure can take, (n_theta, size, size), symmetric."""
        return self.basis

    @cached_property
    def fixed(self) -> Array:
        """The part of T that is not estimated, (size, size), as a factor of a covariance on the user's scale."""
        return np.zeros((self.size, self.size))

    def factor(self, theta: Array, scale: float = 1.0) -> Array:
        """T, shape (size, size); ``scale`` multiplies the fixed part."""
        return scale * self.fixed + np.tensordot(theta, self.basis, axes=1)

    def of_covariance(self, gamma: Array) -> Array:
        """theta with T T' = gamma, a covariance (size, size) that the structure can take."""
        across = np.einsum("aij,aij->a", self.basis, self.basis)
        return np.sqrt(np.maximum(np.einsum("aij,ij->a", self.basis, gamma), 0.0) / np.where(across > 0, across, 1.0))

    def start(self, variance: Array) -> Array:
        """theta whose covariance is near ``diag(variance)``, variance (size,) relative to the residual's."""
        norms = np.einsum("aij,aij->a", self.basis, self.basis)
        target = np.diag(np.sqrt(variance))
        theta = np.einsum("aij,ij->a", self.basis, target) / np.where(norms > 0, norms, 1)
        return np.where(self.bounded, np.maximum(theta, 1e-3), theta)


@dataclass(frozen=True)
class Unstructured(Structure):
    """All variances and covariances free; T lower triangular, theta by rows.

    ``order`` lists the effects in the order in which T is triangular. A search is smoother when effects with large
    variances come first.
    """

    order: tuple[int, ...] = ()
    name = "unstructured"
    freedom = "linear"

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
