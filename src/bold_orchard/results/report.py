"""The document of ``orchard report``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import BESIDE, Part, Result


@dataclass(frozen=True)
class ReportPart(Part):
    """One section: its heading, and the command whose answer it holds ("" for words of the report itself)."""

    heading: str
    command: str
    fit: str | None


@dataclass(frozen=True)
class ReportResult(Result):
    """A study in one page; ``methods`` is the paragraph for a paper, ``plan`` what makes the study again."""

    command: ClassVar[str] = "report"
    main: ClassVar[str] = "parts"

    schema: str
    title: str
    fits: list[str]
    parts: list[ReportPart]
    methods: str
    plan: str
    notes: list[str]
    page: Any = field(default=None, metadata=BESIDE, repr=False, compare=False)
