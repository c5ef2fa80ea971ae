"""The page of simulate, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.numbers import figure
from bold_orchard.reporting.page import Page
from bold_orchard.results.simulate import SimulateResult


def simulate_page(d: SimulateResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    many = "One outcome" if d["draws"] == 1 else f"{d['draws']:,} outcomes"
    page.text(f"{many} of {d['rows']:,} rows drawn from {d['name']} (seed {d['seed']}).")
    keys = ("mean", "sd", "lowest", "lower_quarter", "median", "upper_quarter", "highest")
    rows = [(r["what"], *(figure(r[k], digits) for k in keys)) for r in d["summary"]]
    page.table(
        d["scale"],
        ("outcomes", "mean", "SD", "lowest", "lower\nquarter", "median", "upper\nquarter", "highest"),
        rows,
    )
    return page.notes(d["notes"])
