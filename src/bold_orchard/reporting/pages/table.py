"""The page of a publication table, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.page import Page
from bold_orchard.results.table import TableResult


def table_page(d: TableResult, digits: int = 4) -> Page:
    page = Page()
    for note in d["notes"]:
        page.warning(note)
    rows: list[tuple[str, ...]] = []
    block = None
    for r in d["rows"]:
        if r["block"] != block:
            block = r["block"]
            rows.append((block[:1].upper() + block[1:], *("" for _ in d["columns"])))
        rows.append((f"  {r['label']}", *r["cells"]))
    page.table(d["caption"], ("", *d["columns"]), rows, whole_names=True)
    return page.list("Footnotes", d["footnotes"])
