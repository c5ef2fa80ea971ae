"""The document of ``orchard certify``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import Number, Part, Result


@dataclass(frozen=True)
class CertifiedFigure(Part):
    """One figure of a reference problem: how many decimal digits agree with the exact answer, and how many must."""

    problem: str
    source: str
    quantity: str
    exact: Number
    computed: Number
    digits: float
    needed: float
    passed: bool


@dataclass(frozen=True)
class CertifyResult(Result):
    """Reference problems with exact answers, solved on this machine."""

    command: ClassVar[str] = "certify"
    main: ClassVar[str] = "checks"

    schema: str
    version: str
    passed: bool
    linear_algebra: bool
    checks: list[CertifiedFigure]
    versions: dict[str, str]
    seconds: float
    notes: list[str]
