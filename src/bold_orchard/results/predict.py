"""The document of ``orchard predict``."""

from __future__ import annotations

from typing import Any, ClassVar

from bold_orchard.frozen import frozen
from bold_orchard.results.base import Result, Row


@frozen
class PredictResult(Result):
    """The input rows with what is predicted beside them."""

    command: ClassVar[str] = "predict"
    main: ClassVar[str] = "rows"

    schema: str
    name: str
    model: str
    outcome: str
    confidence: float
    df: str
    units: list[str]
    new_units: int
    grades: list[str]
    rows: list[dict[str, Any]]
    new_observation: bool
    notes: list[str]

    def table(self, **view: bool) -> list[Row]:
        return self.rows

    def rows_of(self, name: str) -> list[Row]:
        return self.rows if name == "rows" else super().rows_of(name)
