"""The page of draw, from its document alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.errors import counted as count
from bold_orchard.errors import date_of
from bold_orchard.reporting.numbers import figure, percent
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.draw import DrawResult

SHOWN = 6  # lines listed; all are in the picture and the CSV


def draw_page(d: DrawResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    where = f" in {d['figure']}" if d["figure"] else ""
    name = ", ".join(d["names"])
    if d["kind"] in ("lines", "panels"):
        shown = count(len(d["lines"]), "line")
        of = "" if len(d["lines"]) == d["levels"] else f" of {d['levels']:,} levels"
        page.text(f"{shown}{of} of {d['unit']} along {d['along']} and the average line of {name}{where}.")
        if d.get("held"):
            beyond = "beyond that they" if "as each level has it" in d["held"] else "they"
            page.text(f"All lines stand at {d['held']}; {beyond} differ by the units' effects alone.")
        page.table("", ("level", "at the lowest", "at the highest"), _ends(d, digits))
    elif d["kind"] == "against":
        page.text(f"Observed against predicted {d['outcome']} of {name}, {count(len(d['rows']), 'row')}{where}.")
        r = d["correlation"]
        page.text(
            f"Correlation {figure(r['predicted'], digits)} with the units' own effects, {figure(r['predicted_average'], digits)} by the average effects alone."
        )
    elif d["kind"] == "imputed":
        _imputed(page, d, name + where, digits)
    elif d["kind"] == "effects":
        what = "Slope along" if d.get("slope") else "Effect of"
        page.text(f"{what} {', '.join(dict.fromkeys(e['predictor'] for e in d['effects']))} on {d['outcome']} in {name}{where}, the other predictors held: "
                  "numbers at their means, categories with equal weights.")  # fmt: skip
        page.table(
            "",
            ("predictor", Left("from"), "estimate", Left("to"), "estimate"),
            [_effect(e, digits) for e in d["effects"]],
        )
    else:
        page.text(f"Coefficients of {name} with {100 * d['confidence']:g}% intervals{where}.")
        rows = [(c["label"], c["fit"], figure(c["estimate"], digits), f"{figure(c['low'], digits)} to {figure(c['high'], digits)}")
                for c in d["coefficients"]]  # fmt: skip
        page.table("", ("term", Left("fit"), "estimate", "interval"), rows)
    return page.notes(d["notes"])


def _imputed(page: Page, d: DrawResult, name: str, digits: int) -> None:
    """Numbers by mean and SD, categories by the shares of their levels."""
    page.text(f"Values drawn for the gaps of {name}, beside what was observed.")
    numbers = [v for v in d["imputed"] if not v["levels"]]
    keys = ("observed_mean", "drawn_mean", "observed_sd", "drawn_sd")
    if numbers:
        page.table(
            "Numbers",
            ("column", Left("kind"), "missing", "mean\nobserved", "mean\ndrawn", "SD\nobserved", "SD\ndrawn"),
            [(v["column"], v["kind"], f"{v['missing']:,}", *(figure(v[k], digits) for k in keys)) for v in numbers],
        )
    shares = [
        (v["column"] if i == 0 else "", f"{v['missing']:,}" if i == 0 else "", level, percent(a), percent(b))
        for v in d["imputed"]
        for i, (level, a, b) in enumerate(zip(v["levels"], v["observed_shares"], v["drawn_shares"]))
    ]
    if shares:
        page.table("Categories", ("column", "missing", Left("level"), "observed", "drawn"), shares)
    page.text(
        "Drawn and observed values differ where gaps go with other columns or with the outcome; values that no row could have are a sign of a wrong "
        "scale."
    )


def _ends(d: DrawResult, digits: int) -> list[tuple[str, str, str]]:
    """The average line and the first few levels, at both ends of their own range."""
    lines = [{"level": "average", **d["average"]}, *d["lines"]]
    rows = [(line["level"], *(_at(d, line["x"][k], line["y"][k], digits) for k in (0, -1))) for line in lines[: SHOWN + 1]]  # fmt: skip
    return rows + ([("...", "", "")] if len(lines) > len(rows) else [])


def _at(d: DrawResult, x: float, y: float, digits: int) -> str:
    return f"{figure(y, digits)} at {_place(d, x)}"


def _place(axis: Any, x: float) -> str:
    """Where on an axis of names, of dates or of numbers."""
    if axis["ticks"]:
        return str(axis["ticks"][int(x)])
    return date_of(x) if axis.get("dates") else figure(x, 3)


def _effect(e: dict[str, Any], digits: int) -> tuple[str, str, str, str, str]:
    name = e["predictor"] if e["level"] is None else f"{e['predictor']}, {e['by']} {e['level']}"
    ends = [_place(e, e["x"][k]) for k in (0, -1)]
    return name, ends[0], figure(e["estimate"][0], digits), ends[1], figure(e["estimate"][-1], digits)
