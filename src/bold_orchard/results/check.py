"""The document of ``orchard check``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, BESIDE, Absent, Number, Part, Result, Row
from bold_orchard.results.groups import labels_of


@dataclass(frozen=True, kw_only=True)
class Outlier(Part):
    """A row or a level far out."""

    row: int | Absent = ABSENT
    units: dict[str, str] | Absent = ABSENT
    unit: str | Absent = ABSENT
    effect: Number | Absent = ABSENT
    residual: Number | Absent = ABSENT
    standardised: Number


@dataclass(frozen=True)
class NormalityTest(Part):
    w: Number
    p: Number


@dataclass(frozen=True, kw_only=True)
class Shape(Part):
    """Moments and Shapiro-Wilk of one kind of residuals, or of one term's predicted effects."""

    level: str
    term: str | Absent = ABSENT
    residuals: str
    unit: str | Absent = ABSENT
    units: int | Absent = ABSENT
    n: int
    mean: Number
    sd: Number
    skewness: Number
    kurtosis: Number
    shapiro: NormalityTest | None
    outliers: list[Outlier]


@dataclass(frozen=True)
class OneWayTest(Part):
    test: str
    value: Number
    num_df: int
    den_df: int
    p: Number


@dataclass(frozen=True)
class UnitTest(OneWayTest):
    """The same for one of several units."""

    unit: str


@dataclass(frozen=True)
class RankTest(Part):
    test: str
    value: Number
    p: Number


@dataclass(frozen=True)
class Curvature(Part):
    """The test of a predictor's square."""

    predictor: str
    statistic: Number
    df: Number
    p: Number


@dataclass(frozen=True)
class Lag(Part):
    lag: int
    gap: Number
    pairs: int
    correlation: Number


@dataclass(frozen=True)
class Autocorrelation(Part):
    time: str
    unit: str
    averaged: bool
    lags: list[Lag]
    expected: Number
    p: Number


@dataclass(frozen=True)
class LevelInfluence(Part):
    """The estimates without one level of a unit, and how far they moved."""

    group: str
    level: str
    rows: int
    cooks_distance: Number
    cooks_distance_components: Number
    p: Number
    without: dict[str, Number]
    change: dict[str, Number]
    components_without: dict[str, Number]
    components_change: dict[str, Number]
    se: dict[str, Number]
    exact: bool


@dataclass(frozen=True)
class Dispersion(Part):
    statistic: Number
    df: Number
    ratio: Number
    p: Number


@dataclass(frozen=True)
class Zeros(Part):
    seen: int
    expected: Number
    sd: Number


@dataclass(frozen=True)
class Sorted(Part):
    """Rows by the side they were given and the side they are predicted on."""

    observed: str
    predicted: str
    rows: int


@dataclass(frozen=True)
class ChanceTenth(Part):
    rows: int
    from_: Number
    to: Number
    predicted: Number
    observed: Number


@dataclass(frozen=True)
class AgainstObserved(Part):
    table: list[Sorted]
    tenths: list[ChanceTenth]


@dataclass(frozen=True)
class BoundaryCoefficient(Part):
    """A column's coefficient at one boundary between grades."""

    term: str
    boundary: str
    estimate: Number


@dataclass(frozen=True)
class ProportionalOdds(Part):
    """Whether a term acts alike at every boundary."""

    term: str
    chisq: Number
    df: int
    p: Number
    boundaries: list[BoundaryCoefficient]


@dataclass(frozen=True)
class PartCheck(Part):
    """Whether the zeros or the spread depend on a term: a score test."""

    part: str
    term: str
    statistic: Number
    df: int
    p: Number


@dataclass(frozen=True)
class CheckFinding(Part):
    """``speaks`` when the check found a fault."""

    check: str
    where: str
    speaks: bool
    words: str
    advice: str


@dataclass(frozen=True)
class Closing(Part):
    fine: list[str]
    doubtful: list[str]
    try_: list[str]


@dataclass(frozen=True)
class EffectArrays:
    """Predicted effects of one clause's terms: ``effects`` and ``se`` (levels, k), the rows' ``codes`` (n,)."""

    group: str
    terms: tuple[str, ...]
    levels: list[str]
    effects: Any
    se: Any
    codes: Any


@dataclass(frozen=True)
class CheckArrays:
    """What pictures and tables of rows and units show beside the document; arrays are (n,) over the rows used.

    ``residuals`` has ``fitted``, ``average``, ``conditional``, ``marginal``, ``standardised`` and ``white``; ``within``
    ``residual`` and ``standardised``; each of ``influence`` a unit's estimates without each of its levels.
    """

    outcome: str
    standardised_name: str
    fitted_name: str
    row_numbers: Any
    table: Any
    residuals: Any
    within: Any
    effects: list[EffectArrays]
    influence: list[Any]
    numbers: dict[str, Any]
    categories: dict[str, tuple[Any, list[str]]]
    units: list[tuple[str, Any, list[str]]]
    times: Any


def _named(group: str, level: str) -> Row:
    """A unit's level, its label and those above it in columns of their own."""
    return {"group": group, "level": level, **labels_of(group, level)}


@dataclass(frozen=True)
class Inflation(Part):
    """By how much the other terms inflate the variance of a term's ``df`` coefficients together: its generalized VIF."""

    term: str
    vif: Number
    df: int


@dataclass(frozen=True, kw_only=True)
class CheckResult(Result):
    """Residuals at every level, what is left in them, and what each unit carries."""

    command: ClassVar[str] = "check"
    main: ClassVar[str] = "levels"

    schema: str
    name: str
    model: str
    outcome: str
    method: str
    levels: list[Shape]
    spread: OneWayTest | None
    spreads: list[UnitTest]
    spread_by_fitted: RankTest | None
    curvature: list[Curvature]
    left_out: OneWayTest | None
    collinearity: list[Inflation]
    lacking: list[UnitTest]
    autocorrelation: Autocorrelation | None
    influence: list[LevelInfluence]
    dispersion: Dispersion | Absent | None = ABSENT
    zeros: Zeros | Absent | None = ABSENT
    predicted_against_observed: AgainstObserved | Absent | None = ABSENT
    proportional_odds: list[ProportionalOdds] | Absent = ABSENT
    parts: list[PartCheck] | Absent = ABSENT
    findings: list[CheckFinding]
    closing: Closing
    notes: list[str]
    arrays: CheckArrays | None = field(default=None, metadata=BESIDE, repr=False, compare=False)

    def table(self, **view: bool) -> Any:
        """A frame of the rows used with fitted values and residuals of every kind; of a saved answer the levels."""
        if self.arrays is None:
            return super().table()
        a, r = self.arrays, self.arrays.residuals
        made = {
            "row": a.row_numbers, "fitted": r.fitted, "fitted_average": r.average, "residual": r.conditional,
            "residual_marginal": r.marginal, "residual_standardised": r.standardised,
        }  # fmt: skip
        if r.white is not r.standardised:
            made["residual_independent"] = r.white
        if a.within is not None:
            made |= {"residual_within": a.within.residual, "residual_within_standardised": a.within.standardised}
        frame = a.table.frame
        return frame.assign(**{f"{k} of {self.name}" if k in frame.columns else k: v for k, v in made.items()})

    def most_influential(self, shown: int) -> list[tuple[str, list[Row]]]:
        """Of each unit the entries of ``influence`` with the largest Cook's distances, the largest first."""
        if self.arrays is not None:
            return [(made.unit.name, made.rows(made.largest(shown))) for made in self.arrays.influence]
        groups = dict.fromkeys(r["group"] for r in self["influence"])
        known = [r for r in self["influence"] if r["cooks_distance"] is not None]
        known.sort(key=lambda r: -r["cooks_distance"])
        return [(g, [r for r in known if r["group"] == g][:shown]) for g in groups]

    def to_frame(self, name: str | None = None) -> Any:
        """A list of the document, or "rows" for the rows with their residuals."""
        import pandas as pd

        return self.table() if name == "rows" else pd.DataFrame(self.rows_of(name or self.main))

    def units_table(self) -> list[Row]:
        """One row per level of each unit: effects with errors, and what leaving the level out would do."""
        rows: dict[tuple[str, str], Row] = {}
        for made in self.arrays.effects if self.arrays else []:
            for j, level in enumerate(made.levels):
                row = rows.setdefault((made.group, level), _named(made.group, level))
                row |= {f"effect {t}": made.effects[j, k] for k, t in enumerate(made.terms)}
                row |= {f"se {t}": made.se[j, k] for k, t in enumerate(made.terms)}
        for entry in self["influence"]:
            row = rows.setdefault((entry["group"], entry["level"]), _named(entry["group"], entry["level"]))
            row |= {"rows": entry["rows"], "cooks_distance": entry["cooks_distance"],
                    "cooks_distance_components": entry["cooks_distance_components"]}  # fmt: skip
            row |= {f"change {t}": v for t, v in entry["change"].items()}
            row |= {f"change {t}": v for t, v in entry["components_change"].items()}
        return list(rows.values())
