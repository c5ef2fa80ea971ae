"""The document of ``orchard table``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Part, Result, Row


@dataclass(frozen=True)
class TableRow(Part):
    """One line of a publication table; ``cells`` are the printed texts, one for each column."""

    block: str
    label: str
    cells: list[str]


@dataclass(frozen=True)
class TableResult(Result):
    """Fits side by side as a paper shows them."""

    command: ClassVar[str] = "table"
    main: ClassVar[str] = "rows"

    schema: str
    columns: list[str]
    rows: list[TableRow]
    footnotes: list[str]
    caption: str
    notes: list[str]

    def table(self, **view: bool) -> list[Row]:
        """A row for each line, a column for each fit."""
        return [
            {"block": r["block"], "label": r["label"]} | dict(zip(self["columns"], r["cells"])) for r in self["rows"]
        ]
