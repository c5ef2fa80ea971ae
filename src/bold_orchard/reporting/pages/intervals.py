"""The page of intervals, from its document alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.reporting.numbers import figure
from bold_orchard.reporting.page import Page
from bold_orchard.reporting.strips import interval
from bold_orchard.results.intervals import IntervalsResult

SIGNED = ("fixed", "correlation", "rho", "spread")  # kinds of parameters that may be negative
KINDS = {
    "wald": "Wald intervals: estimate and standard error; SDs on the log scale, correlations on Fisher's z",
    "profile": "Profile-likelihood intervals: every value at which the deviance rises by less than its quantile",
    "bootstrap": "Parametric bootstrap: the middle of the estimates from simulated outcomes",
}


def intervals_page(d: IntervalsResult, digits: int = 4) -> Page:
    page = Page().title(d["model"]).text(f"{KINDS[d['method']]}. From {d['name']}, by {d['criterion']}.")
    level = f"{100 * d['confidence']:g}%"
    for heading in ("Fixed effects", "Variation between groups", "Residuals"):
        own = [r for r in d["parameters"] if _heading(r) == heading]
        rows = [
            (r["parameter"], figure(r["estimate"], digits), figure(r["low"], digits), figure(r["high"], digits))
            for r in own
        ]
        strips = [interval(r["estimate"], (r["low"], r["high"]), r["kind"] in SIGNED) for r in own]
        if rows:
            page.table(heading, ("parameter", "estimate", f"{level} from", "to"), rows, strips)
    if any(r["kind"] == "sd" and r["low"] == 0 for r in d["parameters"]):
        page.text("An interval that starts at 0 does not rule out that this variation is absent.")
    return page.notes(d["notes"])


def _heading(row: dict[str, Any]) -> str:
    if row["kind"] == "fixed":
        return "Fixed effects"
    return "Residuals" if row["group"] == "residual" else "Variation between groups"
