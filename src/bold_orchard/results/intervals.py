"""The document of ``orchard intervals``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, Absent, Number, Part, Result


@dataclass(frozen=True)
class ParameterInterval(Part):
    """One parameter and its limits; ``profile`` are points of its curve, (value, signed root of the rise)."""

    parameter: str
    estimate: Number
    low: Number
    high: Number
    kind: str
    group: str | None
    term: str | None
    term2: str | None
    profile: list[Any] | Absent = ABSENT


@dataclass(frozen=True)
class IntervalsResult(Result):
    """Intervals for every parameter: profile likelihood, Wald or bootstrap."""

    command: ClassVar[str] = "intervals"
    main: ClassVar[str] = "parameters"

    schema: str
    name: str
    model: str
    outcome: str
    method: str
    criterion: str
    confidence: float
    parameters: list[ParameterInterval]
    notes: list[str]
