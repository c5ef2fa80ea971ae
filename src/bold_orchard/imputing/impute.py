"""Completed tables: covariates drawn by chains from several starts, and whether the chains agree."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design, unit_codes
from bold_orchard.design.design import Design, Options
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.estimate import estimate
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.imputing.analysis import constants
from bold_orchard.imputing.chain import SETTLING, Chain, Drawn, sweeps_apart
from bold_orchard.imputing.gaps import Covariate, Gaps, gaps_of
from bold_orchard.inference.fit import Imputing
from bold_orchard.progress import Progress
from bold_orchard.sampling.diagnostics import rhat
from bold_orchard.sentence import tree
from bold_orchard.workers import all_of

Array = NDArray[np.float64]
CHAINS = 4  # starts, or as many as there are draws
FEWEST = 2  # draws between which there is a variance
MOST_FAILED = 0.1  # share of sweeps whose rows make no such model
APART_MEANS = 1.1  # R-hat of means and SDs from which chains do not agree


@dataclass(frozen=True)
class Filled:
    """The values of one covariate's gaps in every draw, (draws, gaps), with its kind, its level, and R-hat of means and SDs over the chains."""

    covariate: Covariate
    values: Array
    missing: int
    mean_r_hat: float
    sd_r_hat: float

    @property
    def agrees(self) -> bool:
        return not max(self.mean_r_hat, self.sd_r_hat) > APART_MEANS


@dataclass(frozen=True)
class Imputed:
    """The rows with gaps, what was drawn for them, and the design of the sentence by whose constants every completed table is coded."""

    gaps: Gaps
    first: Design
    filled: tuple[Filled, ...]
    asked: Imputing

    def table(self, i: int | None) -> Table:
        """The rows of the analysis as the draw ``i`` completes them; None: at the means of the draws, categories as most of them say."""
        return self.every(i).take(self.gaps.kept)

    def every(self, i: int | None) -> Table:
        """The same of all rows, those without an outcome too."""
        made = {f.covariate.column: f for f in self.filled}
        columns = {}
        for c in self.gaps.incomplete:
            x = c.x.copy()
            if len(c.gaps):
                x[c.gaps] = _middle(c, made[c.column].values) if i is None else made[c.column].values[i]
            columns[c.column] = c.written(self.gaps.table, x[c.cell])
        return self.gaps.table.with_columns(columns)

    def completed(self, table: Table, i: int) -> Table:
        """The data's own ``table`` of all rows as the draw ``i`` completes it; rows that lack what is never drawn keep their gaps."""
        place = np.searchsorted(table.row_numbers, self.gaps.table.row_numbers)
        made, columns = {f.covariate.column: f for f in self.filled}, {}
        for c in self.gaps.incomplete:
            x, whole = c.x.copy(), np.full(len(table), np.nan)
            if len(c.gaps):
                x[c.gaps] = made[c.column].values[i]
            whole[place] = x[c.cell]
            columns[c.column] = c.written(table, whole)
        return table.with_columns(columns)

    def design(self, i: int, options: Options) -> Design:
        """The sentence over the draw ``i``: constants of its transformations are those of the first design, means of units its own."""
        return build_design(self.first.sentence, self.table(i), options, constants(self.first))


def imputed(
    sentence: tree.Sentence, table: Table, options: Options, search: SearchOptions, asked: Imputing, report: Progress
) -> Imputed:
    """Draw what is missing.

    Raises OrchardError where the sentence, a column or the rows do not allow it.
    """
    if asked.draws < FEWEST:
        raise UsageError(f"--impute needs {FEWEST} completed tables or more, 20 as a rule")
    if options.fill_mean:
        raise UsageError("--fill-mean fills gaps that --impute draws; leave one of them out")
    gaps = gaps_of(sentence, table, options, asked.beside)
    first = build_design(sentence, evenly_filled(gaps).take(gaps.kept), options)
    if not gaps.with_gaps:
        return Imputed(gaps, first, (), asked)
    model = estimate(first, search)
    if not model.converged:
        raise OrchardError(
            "the sentence does not converge on rows filled from observed values, so nothing can be drawn by it; try a simpler sentence"
        )
    units = {str(e.unit): unit_codes(e.unit, gaps.table).codes for e in sentence.clauses}
    chains = min(CHAINS, asked.draws)
    each = -(-asked.draws // chains)
    seeds = np.random.SeedSequence(asked.seed).spawn(chains)
    sweeps = chains * (SETTLING + sweeps_apart(each) * each)
    done = [0]

    def told() -> None:
        done[0] += 1
        report(min(done[0], sweeps), sweeps)

    made = all_of(
        lambda i: Chain(gaps, model, units, seeds[i]).run(each, told), chains,
        lambda ended, _: report(ended * sweeps // chains, sweeps), together=1,
    )  # fmt: skip
    failed = sum(chain.failed for chain in made)
    if failed > MOST_FAILED * sweeps:
        raise OrchardError(
            f"in {failed:,} of {sweeps:,} sweeps the completed rows told apart fewer terms than the sentence has, so nothing drawn by it is to be used; "
            "try a simpler sentence"
        )
    return Imputed(gaps, first, tuple(_filled(c, gaps, made, asked.draws) for c in gaps.with_gaps), asked)


def _filled(c: Covariate, gaps: Gaps, chains: list[Drawn], draws: int) -> Filled:
    """One covariate's draws over the chains in turn, and how far these agree."""
    values = [chain.kept[k][c.column] for k in range(len(chains[0].kept)) for chain in chains][:draws]
    means, sds = (np.array([getattr(chain, kind)[c.column] for chain in chains]) for kind in ("means", "sds"))
    return Filled(c, np.array(values), gaps.missing(c), rhat(means), rhat(sds))


def _middle(c: Covariate, values: Array) -> Array:
    """The mean of the draws of every gap, of categories and counts the value most often drawn."""
    if not c.levels:
        return np.asarray(values.mean(axis=0))
    size = len(c.levels)
    counts = np.array([np.bincount(v.astype(int), minlength=size) for v in values.T])
    return counts.argmax(axis=1).astype(float)


def evenly_filled(gaps: Gaps) -> Table:
    """Gaps filled with evenly spread quantiles of what was observed, in no order: means, spreads, knots and levels are about those of the observed."""
    rng, columns = np.random.default_rng(0), {}
    for c in gaps.incomplete:
        x, there = c.x.copy(), np.sort(c.x[~np.isnan(c.x)])
        n = len(c.gaps)
        x[c.gaps] = rng.permutation(
            there[np.minimum(((np.arange(n) + 0.5) / max(n, 1) * len(there)).astype(int), len(there) - 1)]
        )
        columns[c.column] = c.written(gaps.table, x[c.cell])
    return gaps.table.with_columns(columns)
