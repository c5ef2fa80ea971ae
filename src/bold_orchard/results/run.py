"""The document of ``orchard run``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Number, Part, Result


@dataclass(frozen=True)
class RunStep(Part):
    """One step: ``state`` is done, kept, failed, left out or would run; ``code`` the exit code of one that ran."""

    step: str
    command: str
    state: str
    reason: str
    code: int | None
    files: list[str]


@dataclass(frozen=True)
class EstimateChange(Part):
    """A figure of a fit that is another than at the last run; ``in_se`` measures a coefficient's move in its SE before."""

    fit: str
    figure: str
    before: Number
    after: Number
    in_se: Number


@dataclass(frozen=True)
class RunResult(Result):
    """A plan carried out: what was redone and why, and what changed."""

    command: ClassVar[str] = "run"
    main: ClassVar[str] = "steps"

    schema: str
    plan: str
    into: str
    title: str
    steps: list[RunStep]
    changes: list[EstimateChange]
    notes: list[str]
