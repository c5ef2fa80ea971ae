"""The document of ``orchard means``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, Absent, Interval, Number, Origin, Part, Result, Row, flat

Level = str | float


@dataclass(frozen=True)
class GradeChance(Part):
    """The chance of one grade, for an average unit and averaged over units."""

    grade: str
    chance: Number
    se: Number
    ci: Interval
    population: Number


@dataclass(frozen=True)
class AdjustedMean(Part):
    """The mean (or slope) of one combination of levels, null where it is not estimable; ``outcome`` on the outcome's scale, of several outcomes the name of
    the one it is of."""

    levels: dict[str, Level]
    mean: Number
    se: Number
    df: Number
    ci: Interval
    outcome: Number | str | Absent = ABSENT
    outcome_se: Number | Absent = ABSENT
    outcome_ci: Interval | Absent = ABSENT
    population: Number | Absent = ABSENT
    chances: list[GradeChance] | Absent | None = ABSENT
    term: str | Absent = ABSENT
    letters: str | Absent = ABSENT


@dataclass(frozen=True)
class Difference(Part):
    """a less b, its p alone and corrected for the number of differences; ``ci`` is corrected too.

    From draws there is no p, ``chance_above`` is the posterior chance that the difference is above zero.
    """

    a: str
    b: str
    difference: Number
    se: Number
    df: Number
    statistic: Number
    p: Number
    p_adjusted: Number
    ci: Interval
    outcome_difference: Number | Absent = ABSENT
    outcome_se: Number | Absent = ABSENT
    outcome_ci: Interval | Absent = ABSENT
    ratio: Number | Absent = ABSENT
    ratio_ci: Interval | Absent = ABSENT
    chance_above: Number | Absent = ABSENT
    term: str | Absent = ABSENT
    d_total: Number | Absent = ABSENT
    d_residual: Number | Absent = ABSENT
    outcome: str | Absent = ABSENT


@dataclass(frozen=True)
class Trend(Part):
    """An orthonormal polynomial contrast over the levels of a factor."""

    trend: str
    estimate: Number
    se: Number
    df: Number
    statistic: Number
    p: Number
    outcome: str | Absent = ABSENT


@dataclass(frozen=True)
class Region(Part):
    """Where along a number two levels differ, the whole line judged together, and which of them is higher."""

    low: float
    high: float
    higher: str


@dataclass(frozen=True)
class DifferenceCurve(Part):
    """a less b along a number: at each ``x`` the difference with an interval of its own and one of all curves together, ``critical`` SEs wide.

    ``seen`` are the ends of the values that rows of both have, null where they have none in common.
    """

    a: str
    b: str
    column: str
    df: Number
    critical: float
    x: list[float]
    difference: list[Number]
    se: list[Number]
    low: list[Number]
    high: list[Number]
    low_simultaneous: list[Number]
    high_simultaneous: list[Number]
    regions: list[Region]
    seen: Interval
    outcome: str | Absent = ABSENT


@dataclass(frozen=True)
class UnitMeans(Part):
    """The means inside one level of a unit that differs in them, its predicted effects added; null where it has no such cell."""

    unit: str
    level: str
    means: list[Number]


@dataclass(frozen=True)
class DifferenceErrors(Part):
    """Standard errors of differences, and their whole matrix."""

    min: Number
    mean: Number
    max: Number
    matrix: list[list[Number]]


@dataclass(frozen=True)
class MeansResult(Result):
    """Adjusted means of a term's levels, their differences, and what they were held or averaged at.

    Of all categories and products ``term`` is null, and each mean and difference carries its own.
    """

    command: ClassVar[str] = "means"
    main: ClassVar[str] = "means"

    schema: str
    name: str
    model: str
    outcome: str
    family: str
    term: str | None
    slope: str | None
    means: list[AdjustedMean]
    sed: DifferenceErrors
    pairs: list[Difference]
    correction: str
    within: str | None
    df_method: str
    confidence: float
    link: str
    grades: list[str]
    covariates: dict[str, Number]
    averaged: list[str]
    typical_units: list[Any]
    notes: list[str]
    units: list[UnitMeans] | Absent = ABSENT
    trends: list[Trend] | Absent = ABSENT
    curves: list[DifferenceCurve] | Absent = ABSENT
    part: str | Absent = ABSENT
    posterior: Origin | Absent = ABSENT

    def table(self, differences: bool = False, sed: bool = False, **view: bool) -> list[Row]:
        """The means; the differences and the errors of all pairs below them where they are asked for."""
        d = self
        rows = [({"part": "mean"} if differences or sed else {}) | flat(m) for m in d["means"]]
        if differences:
            rows += [{"part": "difference"} | flat(p) for p in d["pairs"]]
        if sed:
            names = [label(m["levels"]) for m in d["means"]]
            rows += [
                {"part": "sed", "a": a, "b": b, "se": d["sed"]["matrix"][i][j]}
                for i, a in enumerate(names)
                for j, b in enumerate(names)
                if i < j
            ]
        return rows

    def by_outcome(self) -> list[MeansResult]:
        """One result for each of several outcomes; itself where there is one."""
        names = [m.outcome for m in self.means if isinstance(m.outcome, str)]
        out = []
        for name in dict.fromkeys(names):
            at = [i for i, n in enumerate(names) if n == name]
            errors = sed_of([[self.sed.matrix[i][j] for j in at] for i in at])
            out.append(replace(self, outcome=name, means=[replace(self.means[i], outcome=ABSENT) for i in at], sed=errors,
                               pairs=[p for p in self.pairs if p.outcome == name], **self._beside(name)))  # fmt: skip
        return out or [self]

    def _beside(self, outcome: str) -> dict[str, Any]:
        """Trends and curves of one outcome, where there are any."""
        return {
            key: [own for own in values if own.outcome == outcome]
            for key, values in (("trends", self.trends), ("curves", self.curves))
            if not isinstance(values, Absent)
        }

    def by_term(self) -> list[MeansResult]:
        """One result for each term."""
        if self.term is not None:
            return [self]
        out = []
        for term in dict.fromkeys(str(m.term) for m in self.means):
            at = [i for i, m in enumerate(self.means) if m.term == term]
            means = [self.means[i] for i in at]
            own = set(means[0].levels)
            errors = sed_of([[self.sed.matrix[i][j] for j in at] for i in at])
            out.append(replace(self, term=term, means=means, pairs=[p for p in self.pairs if p.term == term],
                               sed=errors, averaged=[a for a in self.averaged if a not in own], notes=[]))  # fmt: skip
        return out


def of_all_terms(made: Sequence[MeansResult]) -> MeansResult:
    """Results of several terms of one fit as one."""
    if len(made) == 1:
        return made[0]
    first, size = made[0], sum(len(d.means) for d in made)
    matrix: list[list[Number]] = [[None] * size for _ in range(size)]
    at = 0
    for d in made:
        for i, row in enumerate(d.sed.matrix):
            matrix[at + i][at : at + len(row)] = row
        at += len(d.means)
    return replace(
        first, term=None, means=[replace(m, term=str(d.term)) for d in made for m in d.means],
        pairs=[replace(p, term=str(d.term)) for d in made for p in d.pairs], sed=sed_of(matrix),
        averaged=list(dict.fromkeys(a for d in made for a in d.averaged)), notes=list(dict.fromkeys(n for d in made for n in d.notes)),
        units=ABSENT,
    )  # fmt: skip


def of_all_outcomes(made: Sequence[MeansResult], outcome: str) -> MeansResult:
    """Results of several outcomes of one fit as one, each mean and difference with the name of its outcome."""
    whole = of_all_terms(made)
    means = [replace(m, outcome=d.outcome, term=m.term if d.term is None else ABSENT) for d in made for m in d.means]
    pairs = [replace(p, outcome=d.outcome, term=p.term if d.term is None else ABSENT) for d in made for p in d.pairs]
    beside: dict[str, Any] = {
        key: [replace(own, outcome=d.outcome) for d in made for own in getattr(d, key)]
        for key in ("trends", "curves")
        if not isinstance(getattr(whole, key), Absent)
    }
    return replace(whole, outcome=outcome, term=made[0].term, means=means, pairs=pairs, **beside)


def sed_of(matrix: list[list[Number]]) -> DifferenceErrors:
    """The least, mean and largest of the standard errors of differences, and their matrix."""
    known = [v for i, row in enumerate(matrix) for v in row[i + 1 :] if v is not None]
    ends = (min(known), sum(known) / len(known), max(known)) if known else (None, None, None)
    return DifferenceErrors(ends[0], ends[1], ends[2], matrix)


def label(levels: dict[str, Level]) -> str:
    """hard, clay, rain 40."""
    return ", ".join(v if isinstance(v, str) else f"{k} {v:g}" for k, v in levels.items())
