"""The document of ``orchard plan``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Result


@dataclass(frozen=True)
class PlanResult(Result):
    """The plan of saved fits, as the text of its file."""

    command: ClassVar[str] = "plan"
    main: ClassVar[str] = "fits"

    schema: str
    title: str
    fits: list[str]
    toml: str
    notes: list[str]
