"""The document of ``orchard power``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import ABSENT, Absent, Number, Part, Result, Row


@dataclass(frozen=True)
class EffectPower(Part):
    """How often one effect is found: simulated with its interval, and by formula; what was not asked for is null."""

    effect: str
    value: Number
    power: Number
    low: Number
    high: Number
    runs: int | None
    failed: int | None
    power_formula: Number
    uncertain_low: Number | Absent = ABSENT
    uncertain_high: Number | Absent = ABSENT


@dataclass(frozen=True)
class PlannedDesign(Part):
    """One size of the study; ``rows`` in each level of the smallest unit."""

    units: dict[str, int]
    rows: Number
    total_rows: int
    effects: list[EffectPower]


@dataclass(frozen=True)
class SmallestDesign(Part):
    """The smallest listed design that reaches the power wanted."""

    units: dict[str, int]
    rows: Number


@dataclass(frozen=True)
class PowerResult(Result):
    """How often studies of some sizes would find their effects."""

    command: ClassVar[str] = "power"
    main: ClassVar[str] = "designs"

    schema: str
    name: str
    model: str
    alpha: float
    df_method: str
    want: Number
    designs: list[PlannedDesign]
    smallest: SmallestDesign | None
    confidence: float
    notes: list[str]

    def table(self, **view: bool) -> list[Row]:
        """One row a design and effect."""
        return [
            dict(d["units"]) | {"rows": d["rows"], "total_rows": d["total_rows"]} | e
            for d in self["designs"]
            for e in d["effects"]
        ]
