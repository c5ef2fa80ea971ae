"""The document of ``orchard equations``."""

from __future__ import annotations

from typing import ClassVar

from bold_orchard.frozen import frozen
from bold_orchard.results.base import Part, Result


@frozen
class LevelEquations(Part):
    """The lines of one level, "rows" or a unit's name; as LaTeX and as Unicode text."""

    level: str
    latex: str
    text: str


@frozen
class CombinedEquation(Part):
    latex: str
    text: str


@frozen
class Symbol(Part):
    """What a symbol stands for; ``latex`` writes it in a formula."""

    symbol: str
    latex: str
    meaning: str


@frozen
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
