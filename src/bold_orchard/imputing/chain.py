"""Chains that draw missing covariates: the sentence's parameters, each covariate's regression, and the values themselves, in turn.

Each covariate is drawn from its own model times the likelihood of the outcome given all covariates, so that draws are compatible with slopes, products
and transformations of the sentence (Bartlett, Seaman, White & Carpenter 2015); values move by elliptical slice sampling of their latent
variables. Parameters of both are drawn too, or imputations would be too alike (Rubin 1987).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.model import FittedModel
from bold_orchard.imputing.analysis import Analysis, Intercepts
from bold_orchard.imputing.gaps import Covariate, Gaps
from bold_orchard.imputing.regression import Regression
from bold_orchard.sampling.elliptical import slice_sampled

Array = NDArray[np.float64]
Places = NDArray[np.intp]
SETTLING = 50  # sweeps before the first draw that is kept
APART = 20  # least number of sweeps between draws that are kept
LEAST = 100  # sweeps of a chain after settling, by which chains are compared


@dataclass(frozen=True)
class Drawn:
    """Of one chain: for every draw kept the values of each covariate's gaps, and of every sweep after settling their means and SDs."""

    kept: list[dict[str, Array]]
    means: dict[str, Array]
    sds: dict[str, Array]
    failed: int


def sweeps_apart(draws: int) -> int:
    """Sweeps between the ``draws`` that a chain keeps."""
    return max(APART, -(-LEAST // draws))


class Chain:
    """One chain over the rows of ``gaps``; ``model`` is the sentence fitted to rows filled from what was observed."""

    def __init__(
        self, gaps: Gaps, model: FittedModel[Any, Any], units: dict[str, Places], seed: np.random.SeedSequence
    ) -> None:
        self.gaps, self.rng = gaps, np.random.default_rng(seed)
        self.table, self.kept = gaps.table, np.flatnonzero(gaps.kept)
        self.x = {c.column: filled(c, self.rng) for c in gaps.covariates}
        self.z = {c.column: c.latent.start(self.x[c.column], self.rng) for c in gaps.with_gaps}
        self._written()
        self.analysis = Analysis(model)
        self.regressions = {
            c.column: Regression(c, [o for o in gaps.covariates if o is not c], units, self.x, self.z[c.column])
            for c in gaps.with_gaps
        }
        self.reach = {c.column: _Reach(c, gaps) for c in gaps.with_gaps}

    def _written(self) -> None:
        """The table with the present values of all covariates."""
        made = {c.column: c.written(self.table, self.x[c.column][c.cell]) for c in self.gaps.incomplete}
        self.table = self.table.with_columns(made)

    def run(self, draws: int, report: Callable[[], None]) -> Drawn:
        """``draws`` sets of values."""
        out: list[dict[str, Array]] = []
        traces: dict[str, list[tuple[float, float]]] = {c.column: [] for c in self.gaps.with_gaps}
        apart = sweeps_apart(draws)
        for i in range(SETTLING + apart * draws):
            with np.errstate(all="ignore"):
                self.sweep(i < SETTLING)
            report()
            if i < SETTLING:
                continue
            now = {c.column: self.x[c.column][c.gaps] for c in self.gaps.with_gaps}
            for name, values in now.items():
                traces[name].append((float(values.mean()), float(values.std())))
            if (i - SETTLING) % apart == apart - 1:
                out.append({name: values.copy() for name, values in now.items()})
        made = {name: np.array(t).T for name, t in traces.items()}
        return Drawn(out, {n: t[0] for n, t in made.items()}, {n: t[1] for n, t in made.items()}, self.analysis.failed)

    def sweep(self, settling: bool) -> None:
        """Everything drawn once."""
        self.analysis.step(self.table.take(self.kept), self.rng, settling)
        for c in self.gaps.with_gaps:
            self._draw(c, settling)
            self._written()

    def _draw(self, c: Covariate, settling: bool) -> None:
        z, x, regression, rng = self.z[c.column], self.x[c.column], self.regressions[c.column], self.rng
        c.latent.settle(z, x, rng)
        z = regression.step(self.x, z, rng, settling)
        there = np.flatnonzero(~np.isnan(c.x))
        z[there] = c.latent.given(z[there], x[there], regression.mean[there], float(regression.sd[0]), rng)
        gaps, reach = c.gaps, self.reach[c.column]
        mean, own = regression.mean[gaps], self.kept[reach.rows]
        among, analysis = self.table.take(own), self.analysis

        def predictor(away: Array) -> Array:
            values = x.copy()
            values[gaps] = c.latent.values(mean + away)
            return analysis.linear_predictor(
                reach.rows, among.with_columns({c.column: c.written(among, values[c.cell[own]])})
            )

        def log_likelihood(away: Array) -> Array:
            return reach.sums(analysis.log_likelihood(reach.rows, predictor(away)))

        def drawn(from_: Array, by_block: Callable[[Array], Array]) -> Array:
            across = regression.sd * rng.standard_normal(mean.shape)
            return slice_sampled(from_, across, reach.block_of_gap, by_block, rng)

        away = drawn(z[gaps] - mean, log_likelihood)
        beside = analysis.intercepts(c.unit)
        if beside is not None:
            away = self._with_effects(away, predictor, drawn, beside, reach)
        z[gaps] = mean + away
        x[gaps] = c.latent.values(z[gaps])
        self.z[c.column], self.x[c.column] = z, x

    def _with_effects(
        self, away: Array, predictor: Callable[[Array], Array], drawn: Callable[..., Array], beside: Intercepts, reach: _Reach
    ) -> Array:  # fmt: skip
        """A second move of values that are one a unit, the unit's effect giving way so that its rows stay where they are (interweaving, Yu & Meng
        2011): one that held the effect would crawl, as the rows tell the sum of both."""
        analysis, rows = self.analysis, reach.rows
        level, size = beside.codes[rows], len(beside.effects)
        before, counts = predictor(away), np.maximum(np.bincount(level, minlength=size), 1)
        of_level = np.full(size, reach.blocks, dtype=np.intp)
        of_level[level] = reach.block_of_row

        def given_way(eta: Array) -> Array:
            return np.asarray(np.bincount(level, eta - before, minlength=size) / counts)

        def log_likelihood(there: Array) -> Array:
            eta = predictor(there)
            by = given_way(eta)
            density = np.bincount(of_level, beside.log_density(beside.moved(by)), minlength=reach.blocks + 1)[:-1]
            return reach.sums(analysis.log_likelihood(rows, eta - by[level])) + density

        there = drawn(away, log_likelihood)
        beside.effects[:, beside.at] -= given_way(predictor(there))
        return there


class _Reach:
    """Which rows of the analysis the gaps of a covariate move, and which gaps must be judged together.

    ``rows`` (m,) are places among the rows of the analysis, all of a unit whose mean stands in the sentence; ``block_of_row`` (m,) is ``blocks``
    for rows that no gap moves.
    """

    def __init__(self, c: Covariate, gaps: Gaps) -> None:
        names, self.block_of_gap = np.unique(c.block[c.gaps], return_inverse=True)
        self.blocks = len(names)
        of_block = np.full(int(c.block.max()) + 1, self.blocks, dtype=np.intp)
        of_block[names] = np.arange(self.blocks)
        every = of_block[c.block[c.cell]]
        beside = np.zeros(int(gaps.together.max()) + 1, dtype=bool)
        beside[gaps.together[every < self.blocks]] = True
        kept = np.flatnonzero(gaps.kept)
        self.rows = np.flatnonzero(beside[gaps.together[kept]])
        self.block_of_row = every[kept[self.rows]]

    def sums(self, rows: Array) -> Array:
        """Of each block, (blocks,), of figures of the rows (m,)."""
        return np.asarray(np.bincount(self.block_of_row, rows, minlength=self.blocks + 1)[:-1], dtype=float)


def filled(c: Covariate, rng: np.random.Generator) -> Array:
    """The values of all cells, gaps filled with observed ones at random."""
    x = c.x.copy()
    x[c.gaps] = rng.choice(x[~np.isnan(x)], len(c.gaps))
    return x
