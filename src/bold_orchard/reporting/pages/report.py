"""The page of a report: made with it, or of a saved answer its words alone."""

from __future__ import annotations

from bold_orchard.reporting.page import Page
from bold_orchard.results.report import ReportResult


def report_page(d: ReportResult, digits: int = 4) -> Page:
    if d.page is not None:
        made: Page = d.page
        return made
    page = Page().title(d["title"])
    page.list("Parts", [p["heading"] for p in d["parts"]])
    return page.title("Methods", 2).text(d["methods"]).title("The plan", 2).code(d["plan"])
