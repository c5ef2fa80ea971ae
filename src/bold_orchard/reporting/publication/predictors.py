"""Which linear predictor a row of a table belongs to: that of an outcome, of a level, of zeros or of the spread."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from bold_orchard.results.fit import FitResult


@dataclass(frozen=True)
class Line:
    """A coefficient: its ``predictor`` (nothing where there is one only), its term and label without that, and its
    row."""

    predictor: str
    term: str
    label: str
    row: dict[str, Any]


def has_outcomes(f: FitResult) -> bool:
    """Whether a fit has several outcomes."""
    return "observed" in f["rows"]


def predictors_of(f: FitResult) -> list[str]:
    """Names that stand before the terms of a fit with several linear predictors."""
    if has_outcomes(f):
        return list(f["residual"]["parameters"]["occasions"])
    if f["family"] == "nominal":
        return list(f["levels"][1:])
    return [p["part"] for p in f.get("parts") or []]


def outcomes_of(fits: Sequence[FitResult]) -> set[str]:
    """The outcomes of all fits that have several."""
    return {name for f in fits if has_outcomes(f) for name in predictors_of(f)}


def lines_of(f: FitResult, outcomes: set[str]) -> list[Line]:
    """The coefficients of a fit; one of a single outcome that others have among ``outcomes`` stands with theirs."""
    names = sorted(predictors_of(f), key=len, reverse=True)
    alone = f["outcome"] if not names and f["outcome"] in outcomes else ""
    out = []
    for r in f.coefficient_rows:
        mark = next((f"{n}: " for n in names if r["term"].startswith(f"{n}: ")), "")
        name = mark.removesuffix(": ") or alone
        out.append(Line(name, r["term"].removeprefix(mark), r["label"].removeprefix(mark), r))
    return out
