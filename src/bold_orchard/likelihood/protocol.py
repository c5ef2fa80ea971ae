"""What every likelihood offers, whatever the outcome: its layout of parameters, and what one point of it knows."""

from __future__ import annotations

from typing import Any, ClassVar, Protocol

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.crossproducts.elimination import Eliminated
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.optimize.protocol import Point

Array = NDArray[Any]


class Likelihood(Protocol):
    """parameters (m,) -> a point; ``slices`` say where the parameters of each unit's effects stand.

    ``grown`` (k,) says by what the SDs of a unit's effects where the parameters tell them exceed those at zero of the columns on which
    they depend. ``profiled`` likelihoods have coefficients and residual variance at their closed forms, not among the parameters.
    """

    profiled: ClassVar[bool]

    @property
    def products(self) -> CrossProducts: ...
    @property
    def structures(self) -> list[Structure]: ...
    @property
    def slices(self) -> list[slice]: ...
    @property
    def bounded(self) -> NDArray[np.bool_]: ...
    @property
    def nonnegative(self) -> NDArray[np.bool_]: ...
    def grown(self, alpha: Array, f: int) -> Array: ...


class FittedPoint(Point, Protocol):
    """One point of a likelihood, on the user's scale.

    ``psi`` (m',) are all parameters that are estimated, the residual variance of a gaussian model among them, ``psi_slope``
    the deviance's gradient in them; ``joint`` is the linear model at the point, X included, with the effects eliminated: its matrix is the
    observed information of coefficients and effects together, of a generalized model where that is positive definite.
    """

    @property
    def criterion(self) -> Likelihood: ...
    @property
    def sigma2(self) -> float: ...
    @property
    def factors(self) -> list[Array]: ...
    @property
    def b(self) -> Array: ...
    @property
    def psi(self) -> Array: ...
    @property
    def psi_slope(self) -> Array: ...
    @property
    def joint(self) -> Eliminated: ...
    def covariance(self, f: int) -> Array: ...
    def scales(self, f: int) -> Array: ...
    def effects(self, f: int) -> tuple[Array, Array]: ...
