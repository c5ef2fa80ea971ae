"""The document of ``orchard explain``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Part, Result


@dataclass(frozen=True)
class Explanation(Part):
    """One plain sentence ``about`` the fixed part, the random part, the residual or the fit; its ``term`` and ``group``, where it has one."""

    about: str
    term: str | None
    group: str | None
    text: str


@dataclass(frozen=True)
class ExplainResult(Result):
    """A fit in plain sentences, one for each coefficient and component."""

    command: ClassVar[str] = "explain"
    main: ClassVar[str] = "sentences"

    schema: str
    name: str
    model: str
    outcome: str
    confidence: float
    sentences: list[Explanation]
    notes: list[str]
