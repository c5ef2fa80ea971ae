"""The document of ``orchard simulate``; the rows themselves go to a file."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import BESIDE, Number, Part, Result


@dataclass(frozen=True)
class OutcomeSummary(Part):
    """Drawn outcomes beside those of the data."""

    what: str
    mean: Number
    sd: Number
    lowest: Number
    lower_quarter: Number
    median: Number
    upper_quarter: Number
    highest: Number


@dataclass(frozen=True)
class SimulateResult(Result):
    """Outcomes drawn from a fit; ``outcome`` is the column written, ``scale`` what the model and the summary are of."""

    command: ClassVar[str] = "simulate"
    main: ClassVar[str] = "summary"

    schema: str
    name: str
    model: str
    outcome: str
    scale: str
    draws: int
    rows: int
    seed: int
    summary: list[OutcomeSummary]
    notes: list[str]
    drawn: Any = field(default=None, metadata=BESIDE, repr=False, compare=False)

    def table(self, **view: bool) -> Any:
        """The drawn rows, a frame; of a saved answer the summary."""
        return super().table() if self.drawn is None else self.drawn

    def to_frame(self, name: str | None = None) -> Any:
        """The drawn rows, or a list of the document by its key."""
        return self.drawn if self.drawn is not None and name is None else super().to_frame(name)
