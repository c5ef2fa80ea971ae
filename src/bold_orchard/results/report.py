"""The document of ``orchard report``."""

from __future__ import annotations

from dataclasses import field
from typing import Any, ClassVar

from bold_orchard.frozen import frozen
from bold_orchard.results.base import BESIDE, Part, Result


@frozen
class ReportPart(Part):
    """One section: its heading, and the command whose answer it holds ("" for words of the report itself)."""

    heading: str
    command: str
    fit: str | None


@frozen
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
