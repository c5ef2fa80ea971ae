"""The document of ``orchard scan``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Number, Part, Result


@dataclass(frozen=True)
class ScannedTerm(Part):
    """One coefficient of one outcome (or of one level of ``by``); of one that could not be fitted ``why``, all else null."""

    outcome: str
    term: str | None
    estimate: Number
    se: Number
    df: Number
    statistic: Number
    p: Number
    p_adjusted: Number
    converged: bool
    boundary: bool
    rows: int | None
    why: str | None


@dataclass(frozen=True)
class ScannedComponent(Part):
    outcome: str
    group: str
    term: str
    sd: Number


@dataclass(frozen=True)
class ScanResult(Result):
    """One sentence fitted to many outcomes, p-values adjusted over them term by term."""

    command: ClassVar[str] = "scan"
    main: ClassVar[str] = "rows"

    schema: str
    model: str
    by: str | None
    correction: str
    confidence: float
    outcomes: int
    failed: int
    rows: list[ScannedTerm]
    components: list[ScannedComponent]
    notes: list[str]
