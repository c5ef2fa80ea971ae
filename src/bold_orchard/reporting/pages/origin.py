"""Words of answers that were made from draws of a posterior."""

from __future__ import annotations

from typing import Any

from bold_orchard.errors import counted
from bold_orchard.reporting.numbers import percent
from bold_orchard.reporting.page import Page


def from_draws(page: Page, d: Any) -> bool:
    """Say where the figures come from, where they come from draws; whether they do."""
    origin = d.get("posterior")
    if origin is None:
        return False
    page.text(
        f"From {origin['draws']:,} draws of the posterior in {counted(origin['chains'], 'chain')} ({origin['file']}): means and SDs of the draws, and "
        f"intervals that hold {100 * d['confidence']:g}% of them."
    )
    return True


def chance(value: float | None) -> str:
    """A posterior chance in per cent, never quite none or all."""
    if value is None:
        return "\u2014"
    return "< 0.1%" if value < 0.001 else "> 99.9%" if value > 0.999 else percent(value)
