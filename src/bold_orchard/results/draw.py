"""The document of ``orchard draw``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, BESIDE, Absent, Number, Part, Result, Row


@dataclass(frozen=True)
class UnitLine(Part):
    level: str
    x: list[Number]
    y: list[Number]
    by: str | Absent = ABSENT


@dataclass(frozen=True)
class AverageLine(Part):
    x: list[Number]
    y: list[Number]


@dataclass(frozen=True)
class ObservedRow(Part):
    row: int
    observed: Number
    predicted: Number
    predicted_average: Number


@dataclass(frozen=True)
class Tenth(Part):
    """A tenth of the rows by predicted chance."""

    level: str
    rows: int
    predicted: Number
    observed: Number


@dataclass(frozen=True)
class Agreement(Part):
    """Correlations of what was observed with what is predicted."""

    predicted: Number
    predicted_average: Number


@dataclass(frozen=True)
class EffectBand(Part):
    """The outcome along one predictor, or its slope, the others held; ``ticks`` name the places of a category. A curve has the ends of the band that
    holds all of it together too; along ``dates`` x counts days since 1970-01-01."""

    predictor: str
    by: str | None
    level: str | None
    ticks: list[str]
    x: list[Number]
    estimate: list[Number]
    low: list[Number]
    high: list[Number]
    low_simultaneous: list[Number] | Absent = ABSENT
    high_simultaneous: list[Number] | Absent = ABSENT
    dates: bool | Absent = ABSENT


@dataclass(frozen=True)
class DrawnCoefficient(Part):
    fit: str
    term: str
    label: str
    estimate: Number
    low: Number
    high: Number


@dataclass(frozen=True)
class ImputedValues(Part):
    """Values of a covariate as observed and as drawn: how many, of numbers mean and SD, of a category the share of every level."""

    column: str
    kind: str
    observed: int
    missing: int
    observed_mean: Number
    drawn_mean: Number
    observed_sd: Number
    drawn_sd: Number
    levels: list[str]
    observed_shares: list[Number]
    drawn_shares: list[Number]


@dataclass(frozen=True)
class DrawPicture:
    """What the picture shows beside the document: the axis' name of the outcome, and for lines the rows themselves.

    ``x`` and ``y`` (n,) are the predictor and the outcome as drawn, ``codes`` (n,) the rows' levels, ``texts`` their names,
    ``shown`` the levels drawn; ``named`` when single levels were asked for. ``points`` has for effects the rows' place (n,) along
    each predictor, ``groups`` (n,) their level of ``by`` and ``levels`` the names of these. ``drawn`` has by column the observed values (n,) and
    the draws of the gaps (draws, gaps).
    """

    label: str
    x: Any = None
    y: Any = None
    codes: Any = None
    texts: tuple[str, ...] = ()
    shown: Any = None
    named: bool = False
    points: dict[str, Any] = field(default_factory=dict)
    groups: Any = None
    levels: tuple[str, ...] = ()
    drawn: dict[str, tuple[Any, Any]] = field(default_factory=dict)


@dataclass(frozen=True)
class DrawResult(Result):
    """What a picture of a fit shows: lines of units, observed against predicted, effects, or coefficients."""

    command: ClassVar[str] = "draw"
    main: ClassVar[str] = "kind"

    schema: str
    kind: str
    names: list[str]
    model: str
    outcome: str
    confidence: float
    figure: str | None
    unit: str | Absent = ABSENT
    levels: int | Absent = ABSENT
    along: str | Absent = ABSENT
    held: str | Absent = ABSENT
    ticks: list[str] | Absent = ABSENT
    dates: bool | Absent = ABSENT
    lines: list[UnitLine] | Absent = ABSENT
    average: AverageLine | Absent = ABSENT
    by: str | Absent = ABSENT
    averages: list[EffectBand] | Absent = ABSENT
    rows: list[ObservedRow] | Absent = ABSENT
    tenths: list[Tenth] | Absent | None = ABSENT
    correlation: Agreement | Absent = ABSENT
    effects: list[EffectBand] | Absent = ABSENT
    slope: bool | Absent = ABSENT
    coefficients: list[DrawnCoefficient] | Absent = ABSENT
    imputed: list[ImputedValues] | Absent = ABSENT
    notes: list[str] = ABSENT
    picture: DrawPicture | None = field(default=None, metadata=BESIDE, repr=False, compare=False)

    def table(self, **view: bool) -> list[Row]:
        """The points of every line, the rows, or the coefficients: what the kind draws."""
        d = self
        if self.kind == "coefficients":
            return list(d["coefficients"])
        if self.kind == "imputed":
            return [{k: v for k, v in row.items() if not isinstance(v, list)} for row in d["imputed"]]
        if self.kind == "against":
            return list(d["rows"])
        if self.kind == "effects":
            return [
                {"predictor": m["predictor"], "value": m["ticks"][int(x)] if m["ticks"] else x, "by": m["level"],
                 "estimate": e, "low": low, "high": high}
                | ({} if whole is None else {"low_simultaneous": whole[0], "high_simultaneous": whole[1]})
                for m in d["effects"]
                for x, e, low, high, whole in zip(m["x"], m["estimate"], m["low"], m["high"], _whole(m, d["effects"]))
            ]  # fmt: skip
        lines = [*d["lines"], {"level": "average"} | d["average"]]
        return [
            {
                "unit": d["unit"],
                "level": line["level"],
                d["along"]: d["ticks"][int(x)] if d["ticks"] else x,
                "fitted": y,
            }
            | ({"by": line.get("by")} if "by" in d else {})
            for line in lines
            for x, y in zip(line["x"], line["y"])
        ]


def _whole(m: Any, effects: Any) -> list[Any]:
    """Ends of the simultaneous band at every point; no columns of it where no effect has one."""
    if not any("low_simultaneous" in e for e in effects):
        return [None] * len(m["x"])
    if "low_simultaneous" not in m:
        return [(None, None)] * len(m["x"])
    return list(zip(m["low_simultaneous"], m["high_simultaneous"]))
