"""The page of carry, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.numbers import figure, fixed
from bold_orchard.reporting.page import Page
from bold_orchard.reporting.pages.fit import average_effects, groups, variation, what_was_fitted
from bold_orchard.results.carry import CarryResult


def carry_page(d: CarryResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    if not d["convergence"]["converged"]:
        page.warning("NOT CONVERGED: too many of the refits failed. Do not use the figures below.")
    for text in d.get("warnings", []):
        page.warning(text)
    page.text(f"{what_was_fitted(d)}\n{groups(d)}".strip())
    page.text(f"Effects come from {d['first']}: {d['first_model']}")
    average_effects(page, d, digits)
    rows = [(c["effect"], fixed(c["reliability"], 3), fixed(c["fraction_missing"], 3)) for c in d["carried"]]
    page.table("Effects carried", ("effect", "reliability", "information\nmissing"), rows)
    if d.get("naive"):
        own = {r["term"]: r for r in d["fixed"]}
        beside = [(r["term"], figure(r["estimate"], digits), figure(r["se"], 3), figure(own[r["term"]]["estimate"], digits),
                   figure(own[r["term"]]["se"], 3)) for r in d["naive"]]  # fmt: skip
        page.table("Taken as known, beside carried", ("term", "as known", "SE", "carried", "SE "), beside)
    variation(page, d, digits)
    return page.notes([n for n in d["notes"] if n not in d.get("warnings", [])])
