"""The page of a plan: its text."""

from __future__ import annotations

from bold_orchard.reporting.page import Page
from bold_orchard.results.plan import PlanResult


def plan_page(d: PlanResult, digits: int = 4) -> Page:
    return Page().title(d["title"]).code(d["toml"].rstrip("\n")).notes(d["notes"])
