"""The page of a scan, from its document alone."""

from __future__ import annotations

from bold_orchard.errors import counted
from bold_orchard.reporting.numbers import degrees, estimated, p_value
from bold_orchard.reporting.page import Page
from bold_orchard.results.scan import ScanResult

SHOWN = 20  # rows printed; all are in the CSV and the JSON
FAILURES = 5
NAMES = {"bh": "false discovery rate (Benjamini & Hochberg)", "holm": "Holm", "none": "not adjusted"}


def scan_page(d: ScanResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    what = f"{counted(d['outcomes'], 'level')} of {d['by']}" if d["by"] else counted(d["outcomes"], "outcome")
    page.text(f"Fitted to {what}; {d['failed']:,} could not be fitted.")
    known = [r for r in d["rows"] if r["term"] not in (None, "intercept") and r["p_adjusted"] is not None]
    known = known or [r for r in d["rows"] if r["term"] is not None and r["p_adjusted"] is not None]
    best = sorted(known, key=lambda r: (r["p_adjusted"], r["p"]))[:SHOWN]
    rows = [(r["outcome"], r["term"], *estimated(r["estimate"], r["se"], digits), degrees(r["df"]),
             p_value(r["p"]), p_value(r["p_adjusted"]))
            for r in best]  # fmt: skip
    if rows:
        title = "All" if len(known) <= SHOWN else f"The {SHOWN} with the smallest p"
        page.table(title, (d["by"] or "outcome", "term", "estimate", "SE", "df", "p", "adjusted\np"), rows)
        counts = {
            t: sum(r["p_adjusted"] <= 0.05 for r in known if r["term"] == t)
            for t in dict.fromkeys(r["term"] for r in known)
        }
        said = "; ".join(f"{t} in {n:,} of {sum(r['term'] == t for r in known):,}" for t, n in counts.items())
        page.text(
            f"Adjusted p at most 0.05: {said}. Adjusted over the {what}, each term by itself: {NAMES[d['correction']]}."
        )
    failed = [r for r in d["rows"] if r["term"] is None]
    if failed:
        page.list("Not fitted", [f"{r['outcome']}: {r['why']}" for r in failed[:FAILURES]])
    return page.notes(d["notes"])
