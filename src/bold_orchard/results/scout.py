"""The document of ``orchard scout``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, BESIDE, Absent, Number, Part, Result, Row


@dataclass(frozen=True)
class Column(Part):
    """One column; numbers have a range, categories their first levels."""

    column: str
    kind: str
    missing: int
    distinct: int
    suspected_missing_codes: list[Number]
    levels_within: dict[str, Any]
    whole: bool
    min: Number | Absent = ABSENT
    max: Number | Absent = ABSENT
    mean: Number | Absent = ABSENT
    sd: Number | Absent = ABSENT
    levels: list[str] | Absent = ABSENT
    odd_cells: str | Absent = ABSENT


@dataclass(frozen=True)
class Grouping(Part):
    """A column that may group the rows, and why."""

    column: str
    score: float
    levels: int
    smallest: int
    median: Number
    largest: int
    reason: str


@dataclass(frozen=True)
class Nesting(Part):
    """How two units stand to each other; ``inside`` where labels start again under every parent."""

    unit: str
    parent: str
    relation: str


@dataclass(frozen=True)
class Duplicates(Part):
    """Rows that share unit and time."""

    unit: str
    time: str
    count: int
    example: str


@dataclass(frozen=True)
class PlausibleOutcome(Part):
    """A column that may be an outcome, and the family it would have."""

    column: str
    family: str
    reason: str


@dataclass(frozen=True)
class UnitShare(Part):
    """The share of an outcome's variance that sits between the levels of a unit, by an empty model of it alone."""

    outcome: str
    unit: str
    share: Number


@dataclass(frozen=True)
class Cell(Part):
    """The rows that have these levels and an outcome: how many, its mean and standard deviation (None of one row)."""

    outcome: str
    levels: dict[str, str]
    n: int
    mean: Number
    sd: Number


@dataclass(frozen=True)
class MissingTogether(Part):
    """Columns that the same rows lack, and no others."""

    missing: list[str]
    rows: int


@dataclass(frozen=True)
class MissingSide(Part):
    side: str
    share: Number


@dataclass(frozen=True)
class MissingBy(Part):
    """A column whose gaps go with the values of another: the shares missing at its two ``sides`` (of a category the least and the most)."""

    column: str
    by: str
    p: Number
    sides: list[MissingSide]


@dataclass(frozen=True)
class ScoutPicture:
    """An outcome (n,) by the levels of a unit: ``codes`` (n,), -1 where it is missing, and their ``texts``."""

    outcome: str
    unit: str
    values: Any
    codes: Any
    texts: list[str]


@dataclass(frozen=True)
class ScoutResult(Result):
    """What a table holds before any model: columns, missing cells, what groups the rows, sentences to begin with."""

    command: ClassVar[str] = "scout"
    main: ClassVar[str] = "columns"

    schema: str
    name: str
    rows: int
    columns: list[Column]
    groupings: list[Grouping]
    units: list[str]
    nesting: list[Nesting]
    duplicates: list[Duplicates]
    outcomes: list[PlausibleOutcome]
    times: list[str]
    sentences: list[str]
    first_rows: list[dict[str, Any]]
    notes: list[str]
    shares: list[UnitShare] | Absent = ABSENT
    cells: list[Cell] | Absent = ABSENT
    missing_together: list[MissingTogether] | Absent = ABSENT
    missing_by: list[MissingBy] | Absent = ABSENT
    labels: dict[str, Any] | Absent = ABSENT
    picture: Any = field(default=None, metadata=BESIDE, repr=False, compare=False)

    def table(self, **view: bool) -> list[Row]:
        rows = []
        for c in self["columns"]:
            row = {k: c[k] for k in ("column", "kind", "missing", "distinct")}
            row["suspected_missing_codes"] = " ".join(f"{v:g}" for v in c["suspected_missing_codes"])
            rows.append(row | {f"within {u}": v for u, v in c["levels_within"].items()})
        return rows
