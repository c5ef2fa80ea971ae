"""The estimates of the demo's harvest beside what the data were made with."""

from __future__ import annotations

from bold_orchard.api import open_fit
from bold_orchard.demo.generate import HARVEST
from bold_orchard.reporting.numbers import figure
from bold_orchard.reporting.page import Page

TRUTHS = {
    "centre(rain)": "rain", "pruning[light]": "light", "pruning[hard]": "hard", "soil[loam]": "loam", "soil[sand]": "sand",
    "sd(orchard: intercept)": "orchard_sd", "sd(orchard: centre(rain))": "slope_sd",
    "correlation(orchard: intercept, centre(rain))": "correlation", "sd(tree in orchard: intercept)": "tree_sd",
    "sd(residual)": "residual_sd",
}  # fmt: skip


def beside_truths(name: str) -> Page:
    """A page that holds the parameters of the fit ``name`` beside the truths, with the number of intervals that hold them."""
    found = {r["parameter"]: r for r in open_fit(name).intervals("wald").to_dict()["parameters"]}
    rows, held = [], 0
    for parameter, key in TRUTHS.items():
        r, truth = found[parameter], HARVEST[key]
        held += r["low"] <= truth <= r["high"]
        rows.append(
            (parameter, figure(truth, 3), figure(r["estimate"], 3), f"{figure(r['low'], 3)} to {figure(r['high'], 3)}")
        )
    page = Page().text("The data are simulated, so the truth is known:")
    page.table("", ("parameter", "truth", "estimate", "95% interval"), rows)
    return page.text(f"{held} of {len(rows)} intervals hold the truth; of 95% intervals one in twenty misses it.")
