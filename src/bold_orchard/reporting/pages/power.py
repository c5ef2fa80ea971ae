"""The page of power, from its document alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.reporting.numbers import figure, fixed
from bold_orchard.reporting.page import Left, Page
from bold_orchard.reporting.strips import bar
from bold_orchard.results.power import PowerResult


def power_page(d: PowerResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    page.text(f"How often would such a study find its effects, at level {d['alpha']:g}? Assumed from {d['name']}.")
    if d["smallest"]:
        page.text(f"The smallest listed design with a power of {d['want']:g}: {size_words(d['smallest'])}.")
    units = list(d["designs"][0]["units"])
    simulated = any(e["runs"] for x in d["designs"] for e in x["effects"])
    uncertain = any("uncertain_low" in e for x in d["designs"] for e in x["effects"])
    level = f"{100 * d['confidence']:g}%\ninterval"
    head = (
        [*units, "rows\neach", "rows", Left("effect"), "value", "power", level]
        if simulated
        else [*units, "rows\neach", "rows", Left("effect"), "value"]
    )
    head += ["power by\nformula", *(["if the pilot\nerrs"] if uncertain else [])]
    rows, shares = [], []
    for x in d["designs"]:
        for e in x["effects"]:
            cells = [str(x["units"][u]) for u in units] + [
                ("" if x["rows"] is None else f"{round(x['rows'], 2):g}"),
                f"{x['total_rows']:,}",
                e["effect"],
                figure(e["value"], digits),
            ]
            if simulated:
                cells += [fixed(e["power"], 3), _range(e["low"], e["high"])]
            cells.append(fixed(e["power_formula"], 3) if e["power_formula"] is not None else "—")
            if uncertain:
                cells.append(_range(e.get("uncertain_low"), e.get("uncertain_high")))
            rows.append(tuple(cells))
            shares.append(bar(e["power"] if e["power"] is not None else e["power_formula"]))
    page.table("Power", tuple(head), rows, shares)
    page.text(f"Degrees of freedom: {d['df_method']}.")
    return page.notes(d["notes"])


def _range(low: Any, high: Any) -> str:
    return "—" if low is None else f"{low:.3f} to {high:.3f}"


def size_words(design: dict[str, Any]) -> str:
    """10 of orchard, 4 rows in each level of the smallest unit."""
    parts = [f"{n:,} of {u}" for u, n in design["units"].items()]
    return ", ".join(parts) + (
        f", {round(design['rows'], 2):g} rows in each level of the smallest unit" if design["rows"] else ""
    )
