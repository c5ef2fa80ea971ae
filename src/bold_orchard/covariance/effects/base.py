"""Every structure here is linear in theta: ``T = fixed + sum_a theta_a basis_a``, and ``Gamma = T T'``.

Then ``dGamma/dtheta_a = basis_a T' + T basis_a'`` and the second derivative is constant, so the search
has exact first and second derivatives of the map for nothing.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass(frozen=True)
class Structure:
    """A covariance among ``size`` effects of one unit.

    ``invariance`` tells which changes of the columns of Z leave the family of models unchanged, so that columns
    may be rescaled internally: 'linear' (any invertible map), 'scale' (each column by a factor), 'common' (all by
    one factor), 'none'. ``correlated`` structures let the effects of a level covary. ``contained_in`` names the structures
    of which this is a special case with the same terms, ``contained_in_wider`` with more terms. ``cone`` says what a
    covariance that is new may be, for the law of a likelihood ratio at the boundary: a 'matrix' without negative
    eigenvalues, 'separate' variances, or 'spectral', multiples of the basis; None where the law is not known.
    """

    size: int
    name: ClassVar[str] = "structure"
    invariance: ClassVar[str] = "none"
    correlated: ClassVar[bool] = True
    contained_in: ClassVar[frozenset[str]] = frozenset()
    contained_in_wider: ClassVar[frozenset[str]] = frozenset()
    cone: ClassVar[str | None] = None

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
