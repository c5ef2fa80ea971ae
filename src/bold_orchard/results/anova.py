"""The document of ``orchard anova``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import BESIDE, Number, Part, Result, Row


@dataclass(frozen=True)
class ExpectedPart(Part):
    """One part of an expected mean square: a source's variance, ``residual``, or ``fixed: SOURCE``."""

    component: str
    coefficient: Number


@dataclass(frozen=True)
class ErrorPart(Part):
    """A mean square that is part of an error."""

    source: str
    weight: Number


@dataclass(frozen=True)
class SourceRow(Part):
    """One line: its sum of squares, what its mean square is expected to be, and its test against its own error."""

    source: str
    kind: str
    df: int
    ss: Number
    ms: Number
    expected: list[ExpectedPart]
    error: list[ErrorPart]
    error_ms: Number
    error_df: Number
    f: Number
    p: Number
    eta_squared_partial: Number
    omega_squared_partial: Number


@dataclass(frozen=True)
class MomentComponent(Part):
    """A variance by equating mean squares to their expectations; ``reml`` is the fit's own estimate."""

    component: str
    estimate: Number
    negative: bool
    reml: Number


@dataclass(frozen=True)
class EqualSpread(Part):
    """The spread of the residuals in the cells of the fixed factors."""

    test: str
    value: Number
    num_df: int
    den_df: int
    p: Number


@dataclass(frozen=True)
class NormalResiduals(Part):
    w: Number
    p: Number


@dataclass(frozen=True)
class AnovaResult(Result):
    """The classical analysis of variance of a sentence of categories."""

    command: ClassVar[str] = "anova"
    main: ClassVar[str] = "rows"

    schema: str
    name: str
    model: str
    outcome: str
    type: int
    restricted: bool
    balanced: bool
    rows: list[SourceRow]
    components: list[MomentComponent]
    equal_spread: EqualSpread | None
    normality: NormalResiduals | None
    notes: list[str]
    picture: Any = field(default=None, metadata=BESIDE, repr=False, compare=False)

    def table(self, **view: bool) -> list[Row]:
        """The lines, expectations and errors written out."""
        return [
            {k: v for k, v in r.items() if k not in ("expected", "error")}
            | {
                "expected": written(r["expected"], "component", "coefficient"),
                "error": written(r["error"], "source", "weight"),
            }
            for r in self["rows"]
        ]


def written(parts: list[dict[str, Any]], name: str, number: str) -> str:
    """residual + 5 variety in site + 15 site."""
    out = []
    for p in parts:
        c = p[number]
        out.append(p[name] if c == 1 else f"{round(c, 4):g} {p[name]}")
    return " + ".join(out).replace("+ -", "- ")
