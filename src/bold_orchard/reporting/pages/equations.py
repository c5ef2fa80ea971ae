"""The page of a model's equations, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.equations import EquationsResult


def equations_page(d: EquationsResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    for level in d["levels"]:
        page.text("The rows" if level["level"] == "rows" else f"Each {level['level']}").formula(
            level["text"], level["latex"]
        )
    page.text("In one").formula(d["combined"]["text"], d["combined"]["latex"])
    page.table("Where", ("symbol", Left("meaning")), [(w["symbol"], w["meaning"]) for w in d["where"]])
    return page.notes(d["notes"])
