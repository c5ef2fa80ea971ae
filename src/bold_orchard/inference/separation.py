"""Is the outcome split perfectly by the fixed part, so that no maximum exists?"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.errors import shown
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.point import LaplacePoint

Array = NDArray[Any]
SUSPECT = 8.0  # coefficient beyond which separation is looked for: odds of 3000
MOST_ROWS = 20_000  # rows that a linear program takes in a second


def separated(design: Design, c: Laplace, e: LaplacePoint) -> str | None:
    """A note naming the columns along which the likelihood never stops rising, or None.

    A direction d with (2y - 1) x'd >= 0 for all rows, not 0 for some (Albert & Anderson 1984), is sought by linear
    programming, but only where some coefficient has run far. Counts of zero over all rows of a level are found the same way.
    """
    if not c.family.separable or not c.p:
        return None
    reach = max(float(np.abs(part.linear(e.theta)).max()) for part in c.each_part())
    if float(np.abs(e.theta[: c.p]).max()) < SUSPECT and reach < 2 * SUSPECT:
        return None
    rows = _one_sided(c)
    if rows is None:
        return None
    direction = _direction(*rows)
    if direction is None:
        return None
    user = np.linalg.solve(c.products.standard.to_work, direction)
    kept = c.products.standard.kept
    scale = np.array([float(np.abs(design.fixed.values[k]).max()) for k in kept])
    moving = np.abs(user * scale)
    names = [design.fixed.names[k] for k, m in zip(kept, moving) if m > 1e-6 * moving.max()]
    names = [n for n in names if n != "intercept"] or names
    return (
        f"{', '.join(shown(names))} separates the outcome completely: along it every row is on its own side, so the estimate is "
        "infinite and what is printed is only where the search stopped. Leave it out, join levels, or gather rows that overlap."
    )


def _one_sided(c: Laplace) -> tuple[Array, Array] | None:
    """Rows x (m, p) that may only rise along a direction, and rows that must stay still."""
    sides = np.zeros((0, c.p + 2))
    for part in c.each_part():
        sides = np.vstack([sides, np.column_stack([part.rows.x.T, *part.family.one_sided(part.family.y)])])
        if len(sides) > MOST_ROWS:
            sides = np.unique(sides, axis=0)
        if len(sides) > MOST_ROWS:
            return None
    x, rising, falling = sides[:, : c.p], sides[:, c.p] == 1.0, sides[:, c.p + 1] == 1.0
    return np.concatenate([x[rising], -x[falling]]), x[~rising & ~falling]


def _direction(rising: Array, still: Array) -> Array | None:
    from scipy.optimize import linprog

    p = rising.shape[1] if len(rising) else still.shape[1]
    if not len(rising):
        return None
    equal = {"A_eq": still, "b_eq": np.zeros(len(still))} if len(still) else {}
    done = linprog(
        -rising.sum(axis=0), A_ub=-rising, b_ub=np.zeros(len(rising)), bounds=[(-1.0, 1.0)] * p, method="highs", **equal
    )
    return np.asarray(done.x) if done.success and -done.fun > 1e-7 * len(rising) else None
