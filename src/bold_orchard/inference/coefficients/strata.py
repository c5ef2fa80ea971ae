"""Where the error of a test comes from: between which units' levels a hypothesis is told, or between rows inside them all."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import UnitCodes
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
        found = [(unit.size, name) for unit, name in self._strata(basis) if name]
        return min(found)[1] if found else ROWS

    def _strata(self, basis: Array) -> Iterator[tuple[UnitCodes, str | None]]:
        """For each unit its name, or that of the slope whose variation is the error, or None."""
        for place, unit in enumerate(self.design.units):
            parts = [c.part for c in self.design.clauses if c.unit == place]
            columns = {n: v for p in parts for n, v in zip(p.names, p.values)}
            alone = {n: _share(basis, v[None], unit.codes, unit.size) for n, v in columns.items()}
            most = max(alone, key=lambda n: (round(alone[n], 9), n == "intercept"))
            if alone[most] >= MOSTLY:
                yield unit, unit.name if most == "intercept" else f"{unit.name}: {most}"
            elif len(columns) > 1 and _share(basis, np.array(list(columns.values())), unit.codes, unit.size) >= MOSTLY:
                yield unit, unit.name
            else:
                yield unit, None


def _share(basis: Array, z: Array, codes: NDArray[np.intp], size: int) -> float:
    """The share of an orthonormal basis (n, q) in the span of the columns z (k, n), one each a level, beyond what chance puts there."""
    k, n = z.shape
    inner = np.array([[np.bincount(codes, a * b, size) for b in z] for a in z]).transpose(2, 0, 1)
    across = np.array([[np.bincount(codes, a * column, size) for a in z] for column in basis.T]).transpose(2, 1, 0)
    inverse = np.linalg.pinv(inner, rcond=1e-10, hermitian=True)
    share = float(np.einsum("jaq,jab,jbq->", across, inverse, across)) / basis.shape[1]
    chance = min(k * size / n, 1.0) if k > 1 else 0.0
    return (share - chance) / (1.0 - chance) if chance < 1.0 else 0.0
