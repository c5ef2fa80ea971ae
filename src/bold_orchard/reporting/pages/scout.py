"""The page of scout."""

from __future__ import annotations

from typing import Any

from bold_orchard.errors import a_or_an
from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import figure, percent, span
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.scout import ScoutResult

WIDEST = 14  # letters of a cell among the first rows


def scout_page(d: ScoutResult, digits: int = 4) -> Page:
    page = Page().title(f"{d['name']}: {count(d['rows'], 'row')}, {count(len(d['columns']), 'column')}")
    rows = []
    for c in d["columns"]:
        rows.append(
            (
                c["column"],
                c["kind"],
                f"{c['missing']:,}" if c["missing"] else "",
                f"{c['distinct']:,}",
                _range(c, digits),
            )
        )
    page.table("Columns", ("column", Left("kind"), "missing", "distinct", Left("values")), rows)
    first = [(c["column"], *(_cell(r[c["column"]]) for r in d["first_rows"])) for c in d["columns"]]
    heads = (Left(f"row {i}") for i in range(1, len(d["first_rows"]) + 1))
    page.table("The first rows", ("column", *heads), first)
    _missing(page, d)
    if d["groupings"]:
        reasons = [(g["column"], f"{g['score']:.2f}", g["reason"]) for g in d["groupings"]]
        page.table("Columns that may group the rows, likeliest first", ("column", "score", Left("why")), reasons)
    chosen = d["units"]
    if chosen:
        inside = []
        for c in d["columns"]:
            inside.append((c["column"], *(c["levels_within"].get(u, "—") for u in chosen)))
        page.table("Inside one level of a group, a column", ("column", *(Left(u) for u in chosen)), inside)
    if d["nesting"]:
        page.text("\n".join(_relation(n) for n in d["nesting"]))
    if d.get("shares"):
        shares = [(s["unit"], percent(s["share"])) for s in d["shares"]]
        outcome = d["shares"][0]["outcome"]
        page.table(f"Share of the variance of {outcome} between the levels of", ("unit", "share"), shares)
    if d.get("cells"):
        by = list(d["cells"][0]["levels"])
        shown = [
            (*c["levels"].values(), f"{c['n']:,}", figure(c["mean"], digits), figure(c["sd"], digits))
            for c in d["cells"]
        ]
        page.table(f"{d['cells'][0]['outcome']} by {' and '.join(by)}", (*map(Left, by), "n", "mean", "SD"), shown)
    if d["outcomes"]:
        listed = [(o["column"], o["family"], o["reason"]) for o in d["outcomes"]]
        page.table("Columns that may be outcomes", ("column", Left("family"), Left("why")), listed)
    if d["times"]:
        page.text(f"Time: {', '.join(d['times'])}.")
    if d["sentences"]:
        page.text("Sentences to start from:\n" + "\n".join(f"    {s}" for s in d["sentences"]))
    return page.notes(d["notes"])


def _missing(page: Page, d: ScoutResult) -> None:
    """Which columns are missing together, and with what that goes."""
    together = d.get("missing_together") or []
    if together:
        rows = [(", ".join(m["missing"]), f"{m['rows']:,}") for m in together]
        page.table("Rows by what they lack", (Left("missing"), "rows"), rows)
    for m in d.get("missing_by") or []:
        low, high = m["sides"]
        page.text(
            f"{m['column']} is missing in {percent(low['share'])} of the rows with {m['by']} {low['side']}, in {percent(high['share'])} with {m['by']} {high['side']}."
        )


def _cell(value: Any) -> str:
    """A cell as it stands in the file, long texts cut."""
    text = "" if value is None else f"{value:g}" if isinstance(value, float) else str(value)
    return text if len(text) <= WIDEST else text[: WIDEST - 1] + "…"


def _range(c: dict[str, Any], digits: int) -> str:
    if "min" in c:
        return f"{span(c['min'], c['max'], digits, c['whole'])}, mean {figure(c['mean'], digits)}" + (
            f", SD {figure(c['sd'], digits)}" if c["sd"] is not None else ""
        )
    levels = c.get("levels", [])
    text = ", ".join(levels[:4])
    return text + (", ..." if c["distinct"] > 4 else "")


def _relation(n: dict[str, str]) -> str:
    words = {
        "nested": "is nested in {p}: each {u} belongs to one {p}.",
        "crossed": "is crossed with {p}: {a} occurs under several levels of {p}.",
        "labels repeat": "has labels that start again in every {p}: write 'each {u} in {p}'.",
    }
    return f"{n['unit']} " + words[n["relation"]].format(u=n["unit"], p=n["parent"], a=a_or_an(n["unit"]))
