"""The page of a plan that was carried out, and of what it changed."""

from __future__ import annotations

from typing import Any

from bold_orchard.reporting.numbers import figure, fixed
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.run import RunResult


def run_page(d: RunResult, digits: int = 4) -> Page:
    page = Page().title(d["title"])
    rows = [(s["step"], s["command"], s["state"], s["reason"]) for s in d["steps"]]
    page.table(f"Steps of {d['plan']}, into {d['into']}", ("step", Left("command"), Left("what"), Left("why")), rows)
    planned = [(s["step"], ", ".join(s["files"])) for s in d["steps"] if s["state"] == "would run"]
    if planned:
        page.table(f"Files that would be written in {d['into']}", ("step", Left("files")), planned)
    if d["changes"]:
        page.table("What changed since the last run", *change_table(d["changes"], digits))
    return page.notes(d["notes"])


def change_table(changes: list[dict[str, Any]], digits: int) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
    columns = ("fit", Left("figure"), "before", "now", "in SEs")
    return columns, [
        (
            c["fit"],
            c["figure"],
            figure(c["before"], digits),
            figure(c["after"], digits),
            "" if c["in_se"] is None else fixed(c["in_se"], 2),
        )
        for c in changes
    ]
