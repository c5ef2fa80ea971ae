"""What criteria share in which coefficients stand among the parameters: working coefficients, theta of the units, the rest."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.likelihood.gaussian import Criterion

Array = NDArray[Any]


class OuterLayout:
    """``rows`` hold the working columns ``x`` (p, n) and, as ``frame``, the units."""

    rows: Any

    @cached_property
    def frame(self) -> Criterion:
        """The layout of units and structures, as the Gaussian criterion has it."""
        return Criterion(self.rows.frame, False)

    @property
    def products(self) -> CrossProducts:
        made: CrossProducts = self.rows.frame
        return made

    @property
    def structures(self) -> list[Structure]:
        return self.frame.structures

    @property
    def p(self) -> int:
        return len(self.rows.x)

    @cached_property
    def theta(self) -> slice:
        return slice(self.p, self.p + self.frame.n_theta)

    @cached_property
    def slices(self) -> list[slice]:
        """Where each unit's theta stand."""
        return [slice(s.start + self.p, s.stop + self.p) for s in self.frame.slices]

    @property
    def n_own(self) -> int:
        """Parameters after theta."""
        raise NotImplementedError

    @property
    def extra(self) -> slice:
        """Where those stand."""
        return slice(self.theta.stop, self.theta.stop + self.n_own)

    @cached_property
    def bounded(self) -> NDArray[np.bool_]:
        parts = [s.bounded for s in self.structures]
        free = np.zeros(self.p, dtype=bool), np.zeros(self.n_own, dtype=bool)
        return np.concatenate([free[0], *parts, free[1]]).astype(bool)

    @property
    def nonnegative(self) -> NDArray[np.bool_]:
        return np.zeros(len(self.bounded), dtype=bool)


class OuterPoint:
    """Results of a point ``theta`` on the user's scale; its ``factors`` are those of the effects themselves."""

    criterion: Any
    theta: Array
    factors: Any
    gradient: Any
    sigma2 = 1.0

    def brief(self) -> None:
        return None

    @property
    def psi(self) -> Array:
        """All parameters, coefficients included, (m,)."""
        return self.theta

    @property
    def psi_slope(self) -> Array:
        return np.asarray(self.gradient)

    @property
    def extra(self) -> Array:
        return np.asarray(self.theta[self.criterion.extra])

    def covariance(self, f: int) -> Array:
        """Covariance of the effects of unit f, (k, k); between levels it is multiplied by ``mix mix'``."""
        t = np.linalg.solve(self.criterion.products.z_to_work[f], self.factors[f])
        return np.asarray(t @ t.T)
