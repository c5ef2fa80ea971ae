"""The document of ``orchard predict``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, Absent, Origin, Result, Row
from bold_orchard.results.rows import Rows


@dataclass(frozen=True)
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
    posterior: Origin | Absent = ABSENT

    def table(self, **view: bool) -> Any:
        return self.rows

    def rows_of(self, name: str) -> list[Row]:
        return list(self.rows) if name == "rows" else super().rows_of(name)

    def to_frame(self, name: str | None = None) -> Any:
        """A pandas DataFrame of the rows."""
        import pandas as pd

        rows: Any = self.rows
        if name in (None, "rows") and isinstance(rows, Rows):
            return pd.DataFrame(rows.run(slice(None)))
        return super().to_frame(name)
