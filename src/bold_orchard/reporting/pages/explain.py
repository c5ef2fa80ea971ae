"""The page of a fit in plain sentences, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.page import Page
from bold_orchard.results.explain import ExplainResult

HEADINGS = {"fit": "The model", "fixed": "On average", "random": "Between groups", "residual": "Inside groups"}


def explain_page(d: ExplainResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    for about, heading in HEADINGS.items():
        texts = [s["text"] for s in d["sentences"] if s["about"] == about]
        if texts:
            page.title(heading, 2)
            for text in texts:
                page.text(text)
    return page.notes(d["notes"])
