"""The document of ``orchard groups``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, Absent, Interval, Number, Origin, Part, Result, Row


def labels_of(group: str, level: str) -> dict[str, str]:
    """Of a nested unit, tree in orchard, its label and those of the units above it, each by its own name; else nothing."""
    names, labels = group.split(" in "), level.split(" in ")
    return dict(zip(names, labels)) if 1 < len(names) == len(labels) else {}


@dataclass(frozen=True)
class OwnEstimate(Part):
    """Of a level with one row whose error is known: what it found, the error, and its share of the weight in the mean."""

    estimate: Number
    se: Number
    weight: Number


@dataclass(frozen=True)
class NewUnit(Part):
    """Of fits with known errors and no predictor: the mean over all levels, its interval, and that of a new level's true value."""

    mean: Number
    ci: Interval
    new_ci: Interval


@dataclass(frozen=True)
class LevelEffects(Part):
    """Of one level, by term: predicted effects, their errors and intervals, and the level's own coefficients.

    ``residual_sd`` is there where each level has a residual spread of its own; from draws there are intervals of coefficients and ranks.
    """

    level: str
    effects: dict[str, Number]
    se: dict[str, Number]
    coefficients: dict[str, Number]
    ci: dict[str, Interval]
    rank: int
    rows: int
    residual_sd: Number | Absent = ABSENT
    residual_sd_ci: Interval | Absent = ABSENT
    coefficients_ci: dict[str, Interval] | Absent = ABSENT
    rank_ci: Interval | Absent = ABSENT
    own: OwnEstimate | Absent = ABSENT


@dataclass(frozen=True)
class UnitEffects(Part):
    """One ``each`` clause."""

    group: str
    terms: list[str]
    in_fixed: list[bool]
    rows: list[LevelEffects]


@dataclass(frozen=True)
class GroupsResult(Result):
    """What was predicted for each level of each unit."""

    command: ClassVar[str] = "groups"
    main: ClassVar[str] = "groups"

    schema: str
    name: str
    model: str
    outcome: str
    link: str
    confidence: float
    groups: list[UnitEffects]
    notes: list[str]
    new_unit: NewUnit | Absent = ABSENT
    posterior: Origin | Absent = ABSENT

    def table(self, **view: bool) -> list[Row]:
        """One row per level, a column for every figure of every term."""
        rows = []
        for unit in self["groups"]:
            for r in unit["rows"]:
                row = {
                    "group": unit["group"],
                    "level": r["level"],
                    **labels_of(unit["group"], r["level"]),
                    "rows": r["rows"],
                    "rank": r["rank"],
                }
                for t in unit["terms"]:
                    low, high = r["ci"][t] or (None, None)
                    row |= {f"effect {t}": r["effects"][t], f"se {t}": r["se"][t], f"low {t}": low, f"high {t}": high,
                            f"coefficient {t}": r["coefficients"][t]}  # fmt: skip
                if "own" in r:
                    row |= {
                        "own estimate": r["own"]["estimate"],
                        "own se": r["own"]["se"],
                        "weight": r["own"]["weight"],
                    }
                if "residual_sd" in r:
                    row |= {"residual_sd": r["residual_sd"]} | dict(
                        zip(("residual_sd low", "residual_sd high"), r["residual_sd_ci"])
                    )
                rows.append(row)
        return rows

    def to_frame(self, name: str | None = None) -> Any:
        """One row per level and term."""
        import pandas as pd

        rows = []
        for unit in self["groups"]:
            for r in unit["rows"]:
                for t in unit["terms"]:
                    low, high = r["ci"][t] or (None, None)
                    rows.append({"group": unit["group"], "level": r["level"], "term": t, "effect": r["effects"][t],
                                 "se": r["se"][t], "low": low, "high": high, "coefficient": r["coefficients"][t],
                                 "rows": r["rows"]})  # fmt: skip
        return pd.DataFrame(rows)
