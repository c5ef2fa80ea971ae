"""The pages of terms and means, from their documents alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.text.numbers import degrees, figure, p_value
from bold_orchard.text.page import Page

KINDS = {
    1: "sequential: each term after those before it",
    2: "partial: each term after every term that does not contain it",
    3: "marginal: each term with all others in, sum-to-zero contrasts",
}


def terms_page(d: dict[str, Any], digits: int = 4) -> Page:
    page = (
        Page()
        .title(d["model"])
        .text(f"Tests of the fixed terms of {d['name']}, type {d['type']} ({KINDS[d['type']]}).")
    )
    rows = []
    for t in d["tests"]:
        name = "chi-squared" if t["statistic"] == "chisq" else t["statistic"] or "—"
        rows.append(
            (t["term"], name, figure(t["value"], digits), degrees(t["num_df"]), degrees(t["den_df"]), p_value(t["p"]))
        )
    page.table("Terms", ("term", "<statistic", "value", "df", "error df", "p"), rows)
    if d["contrasts"]:
        level = f"{100 * d['confidence']:g}% interval"
        rows = [
            (c["contrast"], figure(c["estimate"], digits), figure(c["se"], 3), f"{figure(c['ci'][0], digits)} to {figure(c['ci'][1], digits)}",
             degrees(c["df"]), p_value(c["p"]))
            for c in d["contrasts"]
        ]  # fmt: skip
        page.table("Contrasts", ("contrast", "estimate", "SE", level, "df", "p"), rows)
    if d["by"] == "Wald":
        page.text(f"Degrees of freedom: {d['df_method']}.")
    else:
        page.text("Likelihood ratios by maximum likelihood: each model without the term was fitted anew.")
    return page.notes(d["notes"])


def means_page(d: dict[str, Any], digits: int = 4) -> Page:
    scale = "" if d["link"] == "identity" else f" ({d['link']} scale)"
    what = f"Slopes of {d['slope']}{scale}" if d["slope"] else f"Adjusted means of {d['outcome']}{scale}"
    page = Page().title(d["model"]).text(f"{what} by {d['term']}, from {d['name']}.")
    level = f"{100 * d['confidence']:g}% interval"
    names = list(d["means"][0]["levels"])
    rows = []
    for m in d["means"]:
        labels = [v if isinstance(v, str) else figure(v, digits) for v in m["levels"].values()]
        rows.append((*labels, figure(m["mean"], digits), figure(m["se"], 3),
                     f"{figure(m['ci'][0], digits)} to {figure(m['ci'][1], digits)}", degrees(m["df"])))  # fmt: skip
    columns = (names[0], *(f"<{n}" for n in names[1:]), "slope" if d["slope"] else "mean", "SE", level, "df")
    page.table("", columns, rows)
    if any("outcome" in m for m in d["means"]):
        own = [
            (", ".join(str(v) for v in m["levels"].values()), figure(m["outcome"], digits),
             f"{figure(m['outcome_ci'][0], digits)} to {figure(m['outcome_ci'][1], digits)}", figure(m["population"], digits))
            for m in d["means"]
        ]  # fmt: skip
        page.table("On the outcome's own scale", (d["term"], "average\nunit", level, "averaged\nover units"), own)
    held = "; ".join(f"{k} = {figure(v, digits)}" for k, v in d["covariates"].items())
    page.text("Other categories count equally" + (f"; covariates at their means: {held}." if held else "."))
    if d["print_pairs"]:
        pairs = [
            (f"{p['a']} - {p['b']}", figure(p["difference"], digits), figure(p["se"], 3),
             f"{figure(p['ci'][0], digits)} to {figure(p['ci'][1], digits)}", degrees(p["df"]), p_value(p["p_adjusted"]))
            for p in d["pairs"]
        ]  # fmt: skip
        page.table("Differences", ("pair", "difference", "SE", level, "df", "adjusted p"), pairs)
        simultaneous = d["adjust"] in ("tukey", "sidak", "bonferroni")
        page.text(
            f"Adjusted for the number of pairs by: {d['adjust']}; the intervals are {'simultaneous' if simultaneous else 'single'}."
        )
    s = d["sed"]
    if s["min"] is not None:
        page.text(
            f"Standard errors of differences: {figure(s['min'], 3)} to {figure(s['max'], 3)}, mean {figure(s['mean'], 3)}."
        )
    return page.notes(d["notes"])
