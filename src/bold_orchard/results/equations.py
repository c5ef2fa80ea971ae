"""The document of ``orchard equations``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Part, Result


@dataclass(frozen=True)
class LevelEquations(Part):
    """The lines of one level, "rows" or a unit's name; as LaTeX and as Unicode text."""

    level: str
    latex: str
    text: str


@dataclass(frozen=True)
class CombinedEquation(Part):
    latex: str
    text: str


@dataclass(frozen=True)
class Symbol(Part):
    """What a symbol stands for; ``latex`` writes it in a formula."""

    symbol: str
    latex: str
    meaning: str


@dataclass(frozen=True)
class EquationsResult(Result):
    """A model level by level and in one line, every symbol explained."""

    command: ClassVar[str] = "equations"
    main: ClassVar[str] = "where"

    schema: str
    name: str
    model: str
    estimates: bool
    levels: list[LevelEquations]
    combined: CombinedEquation
    where: list[Symbol]
    notes: list[str]
