"""The document of ``orchard sample``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.results.base import ABSENT, BESIDE, Absent, Interval, Number, Part, Result, Row

Array = NDArray[Any]

STATISTICS = ("mean", "sd", "smallest", "largest", "share of zeros")  # of an outcome: the columns of ``replicated``


@dataclass(frozen=True)
class PosteriorParameter(Part):
    """One parameter: its posterior, how much its draws are worth, and what the likelihood fit says of it."""

    parameter: str
    kind: str
    mean: Number
    sd: Number
    median: Number
    low: Number
    high: Number
    effective_bulk: Number
    effective_tail: Number
    r_hat: Number
    likelihood_estimate: Number


@dataclass(frozen=True)
class Prior(Part):
    parameter: str
    law: str
    default: bool


@dataclass(frozen=True)
class LeaveOneOut(Part):
    """Expected log predictive density of rows left out, its standard error, and the rows it is not to be relied on for."""

    expected_log_density: Number
    se: Number
    effective_parameters: Number
    doubtful_rows: list[int]
    by_row: list[Number] | Absent = ABSENT


@dataclass(frozen=True)
class Share(Part):
    """The correlation of two rows of one level, icc(UNIT), or r2(marginal), r2(conditional): its posterior and the likelihood's figure."""

    quantity: str
    mean: Number
    sd: Number
    median: Number
    low: Number
    high: Number
    likelihood_estimate: Number


@dataclass(frozen=True)
class Replicate(Part):
    """A statistic of the outcome, observed and of outcomes drawn anew; ``p`` the share of these that are larger."""

    statistic: str
    observed: Number
    mean: Number
    low: Number
    high: Number
    p: Number


@dataclass(frozen=True)
class LevelPosterior(Part):
    """Of one level, by term."""

    level: str
    effects: dict[str, Number]
    sd: dict[str, Number]
    ci: dict[str, Interval]


@dataclass(frozen=True)
class UnitPosterior(Part):
    """One ``each`` clause."""

    group: str
    terms: list[str]
    rows: list[LevelPosterior]


@dataclass(frozen=True)
class ComparedPosterior(Part):
    """Another posterior of the same rows: its leave-one-out less this one's."""

    posterior: str
    model: str
    elpd_difference: Number
    se: Number
    doubtful_rows: list[int]


@dataclass(frozen=True)
class SampleArrays:
    """``draws`` (chains, draws, m) of the parameters ``names``, ``warm`` (chains, few, m), ``effects`` (chains, draws, q) by
    ``effect_names``, ``replicated`` (outcomes, statistics) and ``observed`` (statistics,); ``laws`` of the coefficients as text.
    """

    names: list[str]
    draws: Array
    warm: Array
    laws: list[str]
    effect_names: list[str]
    effects: Array
    replicated: Array
    observed: Array


@dataclass(frozen=True)
class SampleResult(Result):
    """The posterior of a fit's model under priors."""

    command: ClassVar[str] = "sample"
    main: ClassVar[str] = "parameters"

    schema: str
    fit: str
    model: str
    outcome: str
    parameters: list[PosteriorParameter]
    priors: list[Prior]
    chains: int
    warmup: int
    draws: int
    divergent: int
    acceptance: list[Number]
    energy_fraction: list[Number]
    leave_one_out: LeaveOneOut | None
    replicates: list[Replicate]
    converged: bool
    confidence: float
    seed: int
    groups: list[UnitPosterior]
    notes: list[str]
    prior_only: bool | Absent = ABSENT
    shares: list[Share] | Absent = ABSENT
    compared: list[ComparedPosterior] | Absent = ABSENT
    arrays: SampleArrays | None = field(default=None, metadata=BESIDE)

    def kept(self, with_effects: bool = True) -> dict[str, Any]:
        """Draws as columns: chain, draw, every parameter, every predicted effect."""
        assert self.arrays is not None
        chains, draws, _ = self.arrays.draws.shape
        out: dict[str, Any] = {
            "chain": np.repeat(np.arange(1, chains + 1), draws),
            "draw": np.tile(np.arange(1, draws + 1), chains),
        }
        out |= {name: self.arrays.draws[:, :, k].ravel() for k, name in enumerate(self.arrays.names)}
        if with_effects and self.arrays.effects.shape[1]:
            out |= {name: self.arrays.effects[:, :, k].ravel() for k, name in enumerate(self.arrays.effect_names)}
        return out

    def table(self, **view: bool) -> list[Row]:
        """One row a parameter."""
        return list(self["parameters"])
