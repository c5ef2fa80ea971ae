"""What predictions are, and how sure a linear combination of coefficients and effects is."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.inference.fit import Fit
from bold_orchard.likelihood.prediction_error import error_variance

Array = NDArray[Any]
DRAWS, ROWS_AT_ONCE = 2_000, 2_000  # outcomes a row: quantiles to 2% of their spread; rows drawn together (32 MB)


@dataclass(frozen=True)
class Predictions:
    """Over the rows of ``table``, each (n,), NaN where a covariate is missing.

    ``average`` is the fixed part alone; ``known`` (n, units) tells which units were in the fit; ``probabilities`` of
    each grade.
    """

    table: Table
    predicted: Array
    se: Array
    low: Array
    high: Array
    average: Array
    residual: Array
    known: Array
    given_neighbours: Array
    probabilities: dict[str, Array] = field(default_factory=dict)


def joint_error(fit: Fit, x: Array, blocks: list[tuple[Array, Array]]) -> Array:
    """Variance of x b_hat + sum z (u_hat - u) per row, x (n, p'), blocks of (level (n,), z (n, k)) per clause.

    Rows that share all levels and covariates share the answer. With w = [x z], this is sigma^2 w' C^- w, C the
    coefficient matrix of the mixed-model equations; each distinct row is one more column carried through the
    elimination.
    """
    e, design = fit.evaluation, fit.design
    standard = e.criterion.products.standard
    work_x = np.linalg.inv(standard.to_work.T) @ x.T
    columns = []
    for clause, (level, z) in zip(design.clauses, blocks):
        back = np.linalg.inv(e.criterion.products.z_to_work[clause.block])
        columns.append((clause.block, level, back.T @ (z.T * e.scales(clause.block)[:, level])))
    return np.asarray(e.sigma2 * error_variance(e.joint, work_x, columns))
