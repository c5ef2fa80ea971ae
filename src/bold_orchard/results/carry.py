"""The document of ``orchard carry``: that of a fit, and what was carried."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from bold_orchard.results.base import ABSENT, Absent, Number, Part
from bold_orchard.results.fit import FitResult


@dataclass(frozen=True, kw_only=True)
class CarriedEffect(Part):
    """An effect of the first model: how surely it is known, and what of the information on its coefficient is missing."""

    effect: str
    reliability: Number
    fraction_missing: Number


@dataclass(frozen=True, kw_only=True)
class NaiveRow(Part):
    """A coefficient with the effects taken as known."""

    term: str
    estimate: Number
    se: Number


@dataclass(frozen=True, kw_only=True)
class CarryResult(FitResult):
    """The second model; its coefficients are put together over draws of the first one's effects."""

    command: ClassVar[str] = "carry"

    first: str
    first_model: str
    imputations: int
    seed: int
    carried: list[CarriedEffect]
    naive: list[NaiveRow] | Absent = ABSENT
