"""The fit without each level of a unit, for all levels at once, by one Newton step from the whole fit.

Units that nest in one another make [X y]'H^-1 [X y] and log|H| sums over the levels of the coarsest unit. So the deviance
without one level is the whole one less what that level adds to each unit above it, and no row is touched again (block
elimination as in ``elimination``; one-step deletion as in Cook & Weisberg 1982, ch. 5).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts import batched
from bold_orchard.crossproducts.assemble import combine, nested_in, picks_of_w, working_effects
from bold_orchard.crossproducts.row_sums import Sums, one_pass
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint
from bold_orchard.threads import at_once

Array = NDArray[Any]
STEP = 1e-3  # part of a parameter by which one step's Hessian is differenced
LOST = 1e-9  # part of a column's square that must remain without a level for its coefficient to be told
HELD = 1e-9  # parameters as small stand on their boundary


@dataclass(frozen=True)
class LeftOut:
    """Over the J levels of a unit: ``b_work`` (J, p), ``theta`` (J, m), ``sigma2`` (J,) without each level's rows.

    ``held`` (J, p) are the working coefficients at the whole fit's theta, ``grams`` (J, p, p) the X'H^-1 X left there;
    ``reached`` (J,) is False where the other rows cannot tell all coefficients apart, or no step was found; ``gain`` (J,)
    is the decrease of the deviance that the step promises.
    """

    b_work: Array
    theta: Array
    sigma2: Array
    held: Array
    grams: Array
    reached: NDArray[np.bool_]
    gain: Array


def applies(criterion: Criterion) -> bool:
    """Nested units, independent residuals, no covariance that is given whole."""
    products = criterion.products
    return bool(products.stages) and not products.tails and criterion.linear and criterion.concentrated


def leave_out(e: GaussianPoint, unit: int) -> LeftOut:
    """One Newton step in theta without each level of ``unit``; parameters on their boundary stay there."""
    c = e.criterion
    chain = Chain(c.products)
    place = next(i for i, s in enumerate(c.products.stages) if s.unit == unit)
    n_rows = np.bincount(c.products.units[unit].codes, minlength=c.products.units[unit].levels)
    free = np.flatnonzero(~(c.bounded & (np.abs(e.theta) < HELD))).tolist()
    steps = STEP * np.maximum(np.abs(e.theta), 0.1)

    def at(moved: tuple[tuple[int, int], ...]) -> _Without:
        theta = e.theta.copy()
        for i, side in moved:
            theta[i] += side * steps[i]
        return _Without(*chain.without(c.factors(theta), place), c, n_rows)

    pairs = list(itertools.combinations(free, 2))
    asked = [(), *(((i, side),) for i in free for side in (1, -1)), *(((i, 1), (k, 1)) for i, k in pairs)]
    with np.errstate(all="ignore"):
        made = iter(at_once(at, asked))
        here = next(made)
        ends = {i: (next(made), next(made)) for i in free}
        both = {pair: next(made) for pair in pairs}
        step, gain = _newton(here, ends, both, steps)
        b, log_s = here.b.copy(), np.log(here.sigma2)
        theta = np.tile(e.theta, (len(n_rows), 1))
        for column, (i, (up, down)) in enumerate(ends.items()):
            along = step[:, column]
            theta[:, i] += along
            b += (along * (up.b - down.b)) / (2 * steps[i])
            log_s += along * (np.log(up.sigma2) - np.log(down.sigma2)) / (2 * steps[i])
    reached = here.whole & np.isfinite(step).all(axis=1) & np.isfinite(b).all(axis=0) & np.isfinite(log_s)
    return LeftOut(b.T, theta, np.exp(log_s), here.b.T, here.w[:-1, :-1].transpose(2, 0, 1), reached, gain)


def _newton(
    here: _Without, ends: dict[int, Any], both: dict[tuple[int, int], Any], steps: Array
) -> tuple[Array, Array]:
    """-H^-1 g per level from differences of the deviance, (J, free), and its gain (J,); H made positive where it is not."""
    free, j = list(ends), len(here.deviance)
    g, h = np.zeros((j, len(free))), np.zeros((j, len(free), len(free)))
    for a, i in enumerate(free):
        up, down = ends[i]
        g[:, a] = (up.deviance - down.deviance) / (2 * steps[i])
        h[:, a, a] = (up.deviance - 2 * here.deviance + down.deviance) / steps[i] ** 2
    for (i, k), there in both.items():
        a, b = free.index(i), free.index(k)
        mixed = there.deviance - ends[i][0].deviance - ends[k][0].deviance + here.deviance
        h[:, a, b] = h[:, b, a] = mixed / (steps[i] * steps[k])
    if not free:
        return g, np.zeros(j)
    bad = ~(np.isfinite(h).all(axis=(1, 2)) & np.isfinite(g).all(axis=1))
    h[bad] = np.eye(len(free))

    def some(rows: slice) -> Array:
        values, vectors = np.linalg.eigh(h[rows])
        values = np.maximum(np.abs(values), 1e-8 * np.abs(values).max(axis=1, keepdims=True))
        return np.asarray(-np.einsum("jab,jb,jcb,jc->ja", vectors, 1.0 / values, vectors, g[rows]))

    out = np.concatenate(at_once(some, batched.chunks(j)))
    out[bad] = np.nan
    return out, -0.5 * np.einsum("ja,ja->j", out, g)


class _Without:
    """From W (p+1, p+1, J) and log|H| (J,): deviance, b and sigma^2 without each level."""

    def __init__(self, w: Array, log_det: Array, c: Criterion, n_rows: Array) -> None:
        p = len(w) - 1
        self.w, dof = w, c.dof - n_rows
        low = batched.cholesky(w)
        self.b = np.zeros((p, w.shape[2]))
        for a in reversed(range(p)):
            self.b[a] = (low[p, a] - np.einsum("mj,mj->j", low[a + 1 : p, a], self.b[a + 1 :])) / low[a, a]
        rss = low[p, p] ** 2
        self.sigma2 = rss / dof
        self.deviance = dof * np.log(2 * np.pi * self.sigma2) + dof + log_det
        self.whole = np.isfinite(self.sigma2) & (self.sigma2 > 0) & (dof > 0)
        for a in range(p):
            self.whole &= low[a, a] ** 2 > LOST * w[a, a]
            if c.reml:
                self.deviance += 2.0 * np.log(low[a, a])


class Chain:
    """Products of all working columns [Z of each unit, X, y] within each level of the finest unit, and the way up."""

    def __init__(self, products: CrossProducts) -> None:
        standard, self.units = products.standard, [s.unit for s in products.stages]
        works = [working_effects(products.units[f], standard)[1] for f in self.units]
        picks = np.concatenate([*works, picks_of_w(standard)], axis=1)
        finest = products.units[self.units[0]]
        sums = Sums(finest.codes, finest.levels)
        used = np.flatnonzero(picks.any(axis=1))
        for a, b in itertools.combinations_with_replacement(used.tolist(), 2):
            sums.want(a, b)
        one_pass(standard.columns, [sums])
        self.pool = combine(sums, picks, picks)
        self.parents = []
        for child, parent in itertools.pairwise(self.units):
            above = nested_in(products.units[child], products.units[parent])
            assert above is not None
            self.parents.append(above)
        self.levels = [products.units[f].levels for f in self.units]

    def without(self, factors: list[Array], place: int) -> tuple[Array, Array]:
        """W (p+1, p+1, J) and log|H| (J,) without each level of the unit at ``place`` in the chain."""
        pools, kept, logs, sums = [self.pool], [], [], np.zeros(self.levels[0])
        for i, f in enumerate(self.units):
            rest, log_det = _eliminated(pools[i], factors[f])
            kept.append(rest)
            logs.append(log_det)
            sums = sums + log_det
            if i == place:
                change, log_change = -rest, -sums
            if i < len(self.parents):
                pools.append(_gathered(rest, self.parents[i], self.levels[i + 1]))
                sums = _gathered(sums, self.parents[i], self.levels[i + 1])
        above = np.arange(self.levels[place])
        for i in range(place + 1, len(self.units)):
            above = self.parents[i - 1][above]
            rest, log_det = _eliminated(pools[i][..., above] + change, factors[self.units[i]])
            change = rest - kept[i][..., above]
            log_change = log_change + log_det - logs[i][above]
        return kept[-1].sum(axis=2)[..., None] + change, sums.sum() + log_change


def _eliminated(pool: Array, t: Array) -> tuple[Array, Array]:
    """Products (e, e, J) with the first k columns' effects eliminated, (e-k, e-k, J), and log|I + T'CT| (J,)."""
    k = len(t)
    inner = batched.constant_times(t.T, pool[:k, :k])
    inner = batched.constant_times(t.T, inner.transpose(1, 0, 2))
    inner[np.arange(k), np.arange(k)] += 1.0
    low = batched.cholesky(inner)
    y = batched.multiply(batched.solve_lower_constant(low, t.T), pool[:k, k:])
    return pool[k:, k:] - batched.gram(y), 2.0 * sum(np.log(low[a, a]) for a in range(k))


def _gathered(values: Array, parents: Array, size: int) -> Array:
    """Sums (..., J) over the children of each parent."""
    flat = values.reshape(-1, values.shape[-1])
    return np.stack([np.bincount(parents, row, minlength=size) for row in flat]).reshape(*values.shape[:-1], size)
