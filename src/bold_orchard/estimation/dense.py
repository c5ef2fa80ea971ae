"""The covariance of some rows written out, from a model's parameters: for units whose rows are few."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.estimation.arrays import row_order, to_arrays
from bold_orchard.estimation.assumed import Assumed, phi_of

Array = NDArray[Any]


def effects_covariance(design: Design, assumed: Assumed) -> Array:
    """Z G Z' over the rows of a design, (n, n)."""
    n = len(design.y)
    out = np.zeros((n, n))
    for f, block in enumerate(design.blocks):
        z = np.zeros((n, len(assumed.covariances[f])))
        for i, clause in enumerate(design.clauses):
            if clause.block == f:
                z[:, clause.columns] = np.column_stack(clause.part.values)
                if clause.vary is not None:
                    z[:, clause.columns] *= np.exp(sum(a * v for a, v in zip(assumed.vary[i], clause.vary.values)))[
                        :, None
                    ]
        codes, mix = block.unit.codes, block.relationship_factor
        alike = (codes[:, None] == codes[None, :]).astype(float) if mix is None else (mix @ mix.T)[np.ix_(codes, codes)]
        out += (z @ assumed.covariances[f] @ z.T) * alike
    return out


def residual_covariance(design: Design, assumed: Assumed) -> Array:
    """R over the rows of a design, (n, n)."""
    n, residual = len(design.y), design.residual
    r = np.eye(n)
    rows = to_arrays(replace(design, residual=replace(residual, spread=None))).rows
    if rows is not None:
        order = row_order(residual)
        made = rows.dense(phi_of(rows, assumed))
        assert order is not None
        r[np.ix_(order, order)] = made
    sd = np.full(n, np.sqrt(assumed.sigma2))
    for coefficient, values in zip(assumed.spread, () if residual.spread is None else residual.spread.values):
        sd = sd * np.exp(coefficient * values)
    if design.weights is not None:
        sd = sd / np.sqrt(design.weights)
    return r * np.outer(sd, sd)
