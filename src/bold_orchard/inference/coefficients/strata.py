"""Where the error of a test comes from: between which units' levels a hypothesis is told, or between rows inside them all."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.fit import Fit

Array = NDArray[Any]
MOSTLY = 0.5  # share of a hypothesis that lies between a unit's levels, from which it is that unit's
ROWS = "rows"


class Strata:
    """Names a stratum for hypotheses over the kept coefficients of a gaussian fit.

    The estimate of L b by least squares is C'y; the share of C that lies in the span of a unit's columns of Z says how much of it is
    told between that unit's levels: all of a whole-plot factor in the plots, none of one that varies inside them.
    """

    def __init__(self, fit: Fit) -> None:
        self.design = fit.design
        x = np.column_stack([fit.design.fixed.values[k] for k in fit.model.kept])
        self.norms = np.linalg.norm(x, axis=0)
        self.x = x / self.norms
        self.inverse = np.linalg.pinv(self.x.T @ self.x, hermitian=True)

    def of(self, rows: Array) -> str | None:
        """``orchard``, ``orchard: rain`` where slopes vary, or ``rows``; None for no hypothesis. ``rows`` (q, p')."""
        if not len(rows):
            return None
        weights = self.x @ (self.inverse @ (rows / self.norms).T)
        q = np.linalg.svd(weights, full_matrices=False)
        basis = q[0][:, q[1] > 1e-9 * max(float(q[1][0]), 1e-300)]
        best: tuple[int, float, str] | None = None
        for clause in self.design.clauses:
            unit = self.design.units[clause.unit]
            for name, z in zip(clause.part.names, clause.part.values):
                share = _share(basis, z, unit.codes, unit.size)
                if share < MOSTLY or (best is not None and (unit.size, -share) >= best[:2]):
                    continue
                best = (unit.size, -share, unit.name if name == "intercept" else f"{unit.name}: {name}")
        return ROWS if best is None else best[2]


def _share(basis: Array, z: Array, codes: NDArray[np.intp], size: int) -> float:
    """The share of an orthonormal basis (n, q) in the span of one column a level, z inside it."""
    inner = np.bincount(codes, z * z, size)
    total = 0.0
    for column in basis.T:
        across = np.bincount(codes, z * column, size)
        total += float(np.sum(np.divide(across**2, inner, out=np.zeros(size), where=inner > 0)))
    return total / basis.shape[1]
