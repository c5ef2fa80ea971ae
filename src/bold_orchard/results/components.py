"""The document of ``orchard components``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import ABSENT, Absent, Interval, Number, Origin, Part, Result


@dataclass(frozen=True)
class Component(Part):
    """A variance, covariance or parameter; ``share`` is its part of the variance of a row on average, of effects that may covary that of them
    all, which stands with the first. Beside a covariance stand the error and interval of its correlation."""

    group: str
    kind: str
    term: str
    term2: str | None
    estimate: Number
    sd: Number
    correlation: Number
    se: Number
    ratio: Number
    ci: Interval
    share: Number
    boundary: bool
    sd_in_outcome: Number
    change: Number
    correlation_se: Number | Absent = ABSENT
    correlation_ci: Interval | Absent = ABSENT


@dataclass(frozen=True)
class LevelCorrelation(Part):
    """ICC and share in the rows of one level of a category on which variances depend."""

    column: str
    level: str
    value: Number
    share: Number


@dataclass(frozen=True)
class IntraclassCorrelation(Part):
    """``share`` is the unit's own part of the variance, ``value`` the correlation of two rows of one level."""

    group: str
    value: Number
    share: Number
    outcome: str | Absent = ABSENT
    ci: Interval | Absent = ABSENT
    by_level: list[LevelCorrelation] | Absent = ABSENT


@dataclass(frozen=True)
class RSquared(Part):
    marginal: Number
    conditional: Number
    marginal_ci: Interval | Absent = ABSENT
    conditional_ci: Interval | Absent = ABSENT


@dataclass(frozen=True)
class Reduction(Part):
    """1 - variance here / variance in the other fit."""

    group: str
    term: str
    proportion: Number


@dataclass(frozen=True)
class ComponentTest(Part):
    """A term of an each clause, its variances and covariances, against the model without it by likelihood ratio."""

    group: str
    term: str
    chisq: Number
    df: int | None
    p: Number
    p_boundary: Number


@dataclass(frozen=True)
class Heterogeneity(Part):
    """Of a fit whose errors are known: ``i2`` the unit's share of the variance at the typical error variance, ``q`` the weighted sum of squares
    about the fixed part without units, which is of all units together."""

    group: str
    i2: Number
    q: Number
    q_df: int
    q_p: Number


@dataclass(frozen=True)
class ComponentsResult(Result):
    """Variance components with errors, intervals, shares, ICC and R squared."""

    command: ClassVar[str] = "components"
    main: ClassVar[str] = "components"

    schema: str
    name: str
    model: str
    outcome: str
    method: str
    interval: str
    confidence: float
    components: list[Component]
    icc: list[IntraclassCorrelation]
    r2: RSquared
    latent_variance: Number
    against: str | None
    reduction: list[Reduction] | None
    notes: list[str]
    heterogeneity: list[Heterogeneity] | Absent = ABSENT
    tests: list[ComponentTest] | Absent = ABSENT
    posterior: Origin | Absent = ABSENT
