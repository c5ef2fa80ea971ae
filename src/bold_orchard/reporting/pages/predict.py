"""The page of predict."""

from __future__ import annotations

import math

from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import figure, percent
from bold_orchard.reporting.page import Left, Page
from bold_orchard.reporting.pages.origin import from_draws
from bold_orchard.results.predict import PredictResult

OURS = (
    "row",
    "predicted",
    "se",
    "low",
    "high",
    "predicted_average",
)  # which bear the fit's name beside a column of the same name


def predict_page(d: PredictResult, digits: int = 4) -> Page:
    page = (
        Page().title(d["model"]).text(f"Predictions of {d['name']} for {count(len(d['rows']), 'row')}; the first few:")
    )
    drawn = from_draws(page, d)
    level = f"{100 * d['confidence']:g}% interval"
    if d["grades"] and not any(_told(r["predicted"]) for r in d["rows"][:12]):
        return _of_levels(page, d).notes(d["notes"])
    rows = []
    for r in d["rows"][:12]:
        r |= {k: r[f"{k} of {d['name']}"] for k in OURS if f"{k} of {d['name']}" in r}
        where = ", ".join(f"{u} {r[u]}" for u in d["units"] if u in r)
        if ", " in d["outcome"] and "outcome" in r:
            where = f"{r['outcome']}, {where}" if where else str(r["outcome"])
        if not _told(r["predicted"]):
            rows.append((str(r["row"]), where, "—", "—", "—", "—"))
            continue
        rows.append((str(r["row"]), where, figure(r["predicted"], digits), figure(r["se"], 3),
                     f"{figure(r['low'], digits)} to {figure(r['high'], digits)}", figure(r["predicted_average"], digits)))  # fmt: skip
    page.table("", ("row", Left("where"), "predicted", "SD" if drawn else "SE", level, "average\nonly"), rows)
    page.text(
        "All rows go to a file with --csv FILE. The interval is that of "
        + ("one more observation of each row; " if d["new_observation"] else "a row's mean, not of a new observation; ")
        + (
            "it holds what the draws say."
            if drawn
            else "it is normal."
            if d["df"] == "normal"
            else "its degrees of freedom are residual (rows less fixed terms)."
        )
    )
    return page.notes(d["notes"])


def _told(value: float | None) -> bool:
    return value is not None and not math.isnan(value)


def _of_levels(page: Page, d: PredictResult) -> Page:
    """Probabilities of unordered levels."""
    rows = []
    for r in d["rows"][:12]:
        where = ", ".join(f"{u} {r[u]}" for u in d["units"] if u in r)
        rows.append(
            (
                str(r.get("row", "")),
                where,
                *(percent(r[f"probability[{level}]"]) for level in d["grades"]),
                r["most_probable"],
            )
        )
    page.table("", ("row", Left("where"), *d["grades"], Left("most probable")), rows)
    return page.text("All rows go to a file with --csv FILE, the probability of each level in columns of its own.")
