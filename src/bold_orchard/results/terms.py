"""The document of ``orchard terms``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import ABSENT, Absent, Interval, Number, Origin, Part, Result, Row, flat


@dataclass(frozen=True)
class PowerTest(Part):
    """The test of one power of a power(...) term."""

    term: str
    statistic: str | None
    value: Number
    num_df: int | None
    den_df: Number
    p: Number


@dataclass(frozen=True)
class TermTest(Part):
    """The test of one term; ``parts`` of power(...) has one for each power.

    ``stratum`` says where its error comes from: a unit, ``unit: term`` where slopes vary, or rows. ``why`` says why there is no test, or
    only one of a part of its df.
    """

    term: str
    statistic: str | None
    value: Number
    num_df: int | None
    den_df: Number
    p: Number
    parts: list[PowerTest] | Absent = ABSENT
    stratum: str | Absent | None = ABSENT
    eta_squared_partial: Number | Absent = ABSENT
    omega_squared_partial: Number | Absent = ABSENT
    r2_marginal_change: Number | Absent = ABSENT
    why: str | Absent = ABSENT


@dataclass(frozen=True)
class ContrastTest(Part):
    """A person's own hypothesis: the estimate against the value it is tested for."""

    contrast: str
    estimate: Number
    se: Number
    df: Number
    statistic: Number
    p: Number
    ci: Interval
    against: Number
    chance_above: Number | Absent = ABSENT


@dataclass(frozen=True)
class TermsResult(Result):
    """Tests of the fixed terms, and of contrasts."""

    command: ClassVar[str] = "terms"
    main: ClassVar[str] = "tests"

    schema: str
    name: str
    model: str
    type: int
    df_method: str
    tests: list[TermTest]
    contrasts: list[ContrastTest]
    confidence: float
    by: str
    notes: list[str]
    posterior: Origin | Absent = ABSENT

    def table(self, **view: bool) -> list[Row]:
        """Every test, those of a term's powers below it; from draws the contrasts, which have no tests."""
        if self.posterior:
            return [flat(c) for c in self["contrasts"]]
        return [flat(r) for t in self["tests"] for r in (t, *t.get("parts", []))]
