"""The page of a classical analysis of variance, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.numbers import degrees, figure, fixed, p_value
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.anova import AnovaResult, written


def anova_page(d: AnovaResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    even = "balanced" if d["balanced"] else "unbalanced"
    page.text(
        f"Analysis of variance of {d['outcome']}, from {d['name']}: sums of squares of type {d['type']}, {even} data."
    )
    rows = []
    for r in d["rows"]:
        error = written(r["error"], "source", "weight")
        rows.append((r["source"], r["kind"] if r["kind"] != "residual" else "", str(r["df"]), figure(r["ss"], digits), figure(r["ms"], digits),
                     figure(r["f"], digits) if r["f"] is not None else "", p_value(r["p"]) if r["p"] is not None else "", error,
                     degrees(r["error_df"]) if r["error_df"] is not None else ""))  # fmt: skip
    page.table(
        "Lines",
        ("source", Left("kind"), "df", "sum of\nsquares", "mean\nsquare", "F", "p", Left("error"), "error\ndf"),
        rows,
    )
    page.table("What each mean square is expected to be", ("source", Left("expected mean square")),
               [(r["source"], written(r["expected"], "component", "coefficient")) for r in d["rows"]])  # fmt: skip
    sizes = [
        (r["source"], fixed(r["eta_squared_partial"], 3), fixed(r["omega_squared_partial"], 3))
        for r in d["rows"]
        if r["eta_squared_partial"] is not None
    ]
    if sizes:
        page.table("Effect sizes", ("source", "partial\neta squared", "partial\nomega squared"), sizes)
    page.table("Variance components", ("component", "by moments", "by REML"),
               [(c["component"], figure(c["estimate"], digits), figure(c["reml"], digits)) for c in d["components"]])  # fmt: skip
    said = []
    if d["equal_spread"]:
        s = d["equal_spread"]
        p = p_value(s["p"])
        said.append(
            f"Equal spread in the cells ({s['test']}): F {figure(s['value'], 3)} on {s['num_df']} and {s['den_df']} df, p {p if p.startswith('<') else '= ' + p}."
        )
    if d["normality"]:
        p = p_value(d["normality"]["p"])
        said.append(
            f"Normal residuals (Shapiro-Wilk): W {fixed(d['normality']['w'], 4)}, p {p if p.startswith('<') else '= ' + p}."
        )
    if said:
        page.text("\n".join(said))
    return page.notes(d["notes"])
