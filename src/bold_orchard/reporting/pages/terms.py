"""The page of terms, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.numbers import degrees, estimated, figure, fixed, p_value
from bold_orchard.reporting.page import Left, Page
from bold_orchard.reporting.pages.origin import chance, from_draws
from bold_orchard.reporting.strips import bar, interval
from bold_orchard.results.terms import TermsResult

LONG = 20  # letters from which a term may need two lines
KINDS = {
    1: "sequential: each term after those before it",
    2: "partial: each term after every term that does not contain it",
    3: "marginal: each term with all others in, sum-to-zero contrasts",
}


def terms_page(d: TermsResult, digits: int = 4) -> Page:
    if d.get("posterior") is not None:
        return _drawn(d, digits)
    page = (
        Page()
        .title(d["model"])
        .text(f"Tests of the fixed terms of {d['name']}, type {d['type']} ({KINDS[d['type']]}).")
    )
    rows = []
    strata = any("stratum" in t for t in d["tests"])
    for t in (row for test in d["tests"] for row in (test, *test.get("parts", []))):
        name = "chi-squared" if t["statistic"] == "chisq" else t["statistic"] or "—"
        inner = "  " if "parts" not in t and t not in d["tests"] else ""
        rows.append(
            (
                inner + wrappable(t["term"]),
                name,
                figure(t["value"], digits),
                degrees(t["num_df"]),
                degrees(t["den_df"]),
                p_value(t["p"]),
                *((_stratum(t.get("stratum")),) if strata else ()),
            )
        )
    columns = ("term", Left("statistic"), "value", "df", "error df", "p", *((Left("error from"),) if strata else ()))
    page.table("Terms", columns, rows)
    _sizes(page, d)
    if d["contrasts"]:
        level = f"{100 * d['confidence']:g}% interval"
        rows = [
            (c["contrast"], *estimated(c["estimate"], c["se"], digits),
             f"{figure(c['ci'][0], digits)} to {figure(c['ci'][1], digits)}",
             degrees(c["df"]), p_value(c["p"]))
            for c in d["contrasts"]
        ]  # fmt: skip
        page.table("Contrasts", ("contrast", "estimate", "SE", level, "df", "p"), rows,
                   [interval(c["estimate"], c["ci"]) for c in d["contrasts"]])  # fmt: skip
    if d["by"] == "Wald":
        page.text(f"Degrees of freedom: {d['df_method']}.")
    else:
        page.text("Likelihood ratios by maximum likelihood: each model without the term was fitted anew.")
    return page.notes(d["notes"])


def _drawn(d: TermsResult, digits: int) -> Page:
    """Contrasts from draws."""
    page = Page().title(d["model"]).text(f"Contrasts of {d['name']}.")
    from_draws(page, d)
    rows = [
        (c["contrast"], *estimated(c["estimate"], c["se"], digits),
             f"{figure(c['ci'][0], digits)} to {figure(c['ci'][1], digits)}",
         figure(c["against"], digits), chance(c["chance_above"]))
        for c in d["contrasts"]
    ]  # fmt: skip
    level = f"{100 * d['confidence']:g}% interval"
    page.table("Contrasts", ("contrast", "estimate", "SD", level, "against", "chance\nabove that"), rows,
               [interval(c["estimate"], c["ci"]) for c in d["contrasts"]])  # fmt: skip
    return page.notes(d["notes"])


def wrappable(term: str) -> str:
    """A long product with room for a line's end between its parts."""
    return term.replace("*", " * ") if len(term) > LONG else term


def _stratum(stratum: str | None) -> str:
    """orchard; slopes of rain by orchard; rows."""
    unit, between, term = (stratum or "").partition(": ")
    return f"slopes of {term} by {unit}" if between else unit


def _sizes(page: Page, d: TermsResult) -> None:
    """Effect sizes, where they were asked for."""
    rows = [t for t in d["tests"] if "r2_marginal_change" in t]
    if rows:
        cells = [(wrappable(t["term"]), fixed(t["eta_squared_partial"], 3), fixed(t["omega_squared_partial"], 3), fixed(t["r2_marginal_change"], 3))
                 for t in rows]  # fmt: skip
        page.table("Effect sizes", ("term", "partial\neta squared", "partial\nomega squared", "change of\nmarginal R\u00b2"), cells,
                   [bar(t["r2_marginal_change"]) for t in rows])  # fmt: skip
