"""The Laplace approximation of a generalized mixed model, its exact gradient, and the mode it stands on.

With u = Lambda v, v ~ N(0, I), the joint -log density is f = -sum l(eta) + |v|^2 / 2; at its minimum v^,

    deviance = -2 sum l + |v|^2 + log|A|,   A = I + Lambda' Z'WZ Lambda,   W = -l''(eta)

(Tierney & Kadane 1986; Breslow & Clayton 1993), all constants of l included. Everything is maximised jointly: the parameters
are the working coefficients, theta of all units, then the family's own. The gradient follows the mode by implicit
differentiation: A dv^ = -d(df/dv).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.likelihood.laplace.layout import Effects
from bold_orchard.likelihood.laplace.mode import ModeFinder
from bold_orchard.likelihood.laplace.point import LaplacePoint

Array = NDArray[Any]
CLOSE = 1e-5  # step of an effect that changes the deviance by less than 1e-9 a level


@dataclass(frozen=True)
class Laplace(ModeFinder):
    """parameters -> ``LaplacePoint``."""

    made: ClassVar[type[LaplacePoint]] = LaplacePoint
    close: ClassVar[float] = CLOSE

    def each_part(self) -> Iterator[Laplace]:
        """All rows at once; where they lie on disk there are several parts."""
        yield self

    def at(self, parameters: Array, near: LaplacePoint | None = None, close: float | None = None) -> LaplacePoint:
        """The mode is sought from that of ``near``; ``close`` is the longest step after which it counts as found."""
        parameters = np.asarray(parameters, dtype=float)
        start: Effects | None = None if near is None else near.mode.v
        with np.errstate(all="ignore"):
            return self.made(self, parameters, self.mode(parameters, start, close or self.close), near)
