"""The page of components."""

from __future__ import annotations

import math
from typing import Any

from bold_orchard.reporting.numbers import estimated, figure, fixed, p_value, percent
from bold_orchard.reporting.page import Left, Page
from bold_orchard.reporting.pages.fit import spread_words
from bold_orchard.reporting.pages.origin import from_draws
from bold_orchard.reporting.strips import bar
from bold_orchard.results.components import ComponentsResult

HOW = {"posterior": "under the priors"}


def _tests(page: Page, tests: Any) -> None:
    rows = [
        (
            t["group"],
            t["term"],
            fixed(t["chisq"], 2),
            "" if t["df"] is None else str(t["df"]),
            p_value(t["p"]),
            p_value(t["p_boundary"]),
        )
        for t in tests
    ]
    page.table(
        "Each against the model without it (likelihood ratio)",
        ("group", Left("term"), "chi-\nsquared", "df", "p", "p at the\nboundary"),
        rows,
    )


def _heterogeneity(page: Page, rows: Any) -> None:
    one = rows[0]
    page.table(
        "How far the groups differ beyond their known errors",
        ("group", "I²"),
        [(r["group"], percent(r["i2"])) for r in rows],
        [bar(r["i2"]) for r in rows],
    ).text(
        "I² is the group's part of the variance at the typical error variance. "
        f"Q = {fixed(one['q'], 2)} on {one['q_df']} df, p {p_value(one['q_p'])}: without any differences between groups Q would be about its df."
    )


def components_page(d: ComponentsResult, digits: int = 4) -> Page:
    page = (
        Page()
        .title(d["model"])
        .text(f"Variance components of {d['name']}, {HOW.get(d['method'], 'by ' + d['method'])}.")
    )
    drawn = from_draws(page, d)
    rows = []
    for c in d["components"]:
        term = {"covariance": f"{c['term']} with {c['term2']}", "residual": "variance"}.get(c["kind"], c["term"])
        interval = f"{figure(c['ci'][0], 3)} to {figure(c['ci'][1], 3)}" if c["ci"] else "—"
        interval += " (edge)" if c["boundary"] and c["kind"] == "variance" and c["estimate"] == 0 else ""
        second = {"covariance": f"r {figure(c['correlation'], 2)}", "parameter": ""}.get(
            c["kind"], figure(c["sd"], digits)
        )
        share = "" if c["kind"] == "parameter" else percent(c["share"])
        rows.append((c["group"], term, *estimated(c["estimate"], c["se"], digits), interval, second, share))
    level = f"{100 * d['confidence']:g}% interval"
    page.table("Components", ("group", Left("term"), "estimate", "SD of\ndraws" if drawn else "SE", level, "SD", "share"), rows,
               [bar(c["share"]) for c in d["components"]])  # fmt: skip
    how = {
        "wald": "of variances are on the log scale",
        "profile": "are by profile likelihood",
        "posterior": "are of the draws",
    }[d["interval"]]
    if d.get("tests"):
        _tests(page, d["tests"])
    latent = d["latent_variance"]
    beside = "" if latent is None else f", {figure(latent, 3)} of it the family's own on the linear scale"
    if d["icc"] and all(i["value"] is None for i in d["icc"]):
        return page.text(
            "The tails are so heavy that the outcome has no variance, so nothing has a share of it: read the SDs. "
            f"Intervals {how}."
        ).notes(d["notes"])
    page.text(
        f"Shares are of the variance of a row, on average over the rows used{beside}; correlated effects of one unit have one. Intervals {how}."
    )
    if d.get("heterogeneity"):
        _heterogeneity(page, d["heterogeneity"])
    _in_words(page, d["components"])
    changes = [abs(c["change"]) / c["se"] for c in d["components"] if c["change"] is not None and c["se"]]
    if changes:
        page.text(f"One more step of the search would move no component by more than {max(changes):.0e} of its SE.")
    page.table(
        "How alike two rows of one group are (ICC)",
        ("group", "correlation of\ntwo rows (ICC)", *((level,) if drawn else ()), "own share of\nthe variance"),
        [
            (
                f"{i['group']} ({i['outcome']})" if "outcome" in i else i["group"],
                fixed(i["value"], 3),
                *((_ends(i["ci"]),) if drawn else ()),
                percent(i["share"]),
            )
            for i in d["icc"]
        ],
        [bar(i["share"]) for i in d["icc"]],
    )
    by_level = [
        (i["group"], f"{r['column']} = {r['level']}", fixed(r["value"], 3), percent(r["share"]))
        for i in d["icc"]
        for r in i.get("by_level", [])
    ]
    if by_level:
        page.table("The same by what variances depend on", ("group", Left("rows"), "ICC", "own share"), by_level)
    above = [
        i["group"]
        for i in d["icc"]
        if i["value"] is not None and i["share"] is not None and i["value"] > i["share"] + 1e-12
    ]
    if above:
        page.text(
            f"Two rows of one level of {' or '.join(above)} also share the levels above it, so their correlation counts these in."
        )
    r2 = d["r2"]
    if r2["marginal"] is None and r2["conditional"] is None:
        return page.notes(d["notes"])
    page.text(
        f"The average effects explain {percent(r2['marginal'])} of the variance (marginal R²{_between(r2, 'marginal')}); with the groups' own "
        f"effects {percent(r2['conditional'])} (conditional R²{_between(r2, 'conditional')})."
    )
    if d["reduction"] is not None:
        less = [(r["group"], r["term"], percent(r["proportion"])) for r in d["reduction"]]
        page.table(f"How much less variance than in {d['against']}", ("group", Left("term"), "reduction"), less)
        if any(r["proportion"] is not None and r["proportion"] < 0 for r in d["reduction"]):
            page.text(
                "A negative reduction is a variance that grew: taking account of one level can uncover more of another."
            )
    return page.notes(d["notes"])


def _ends(ci: list[float | None]) -> str:
    return f"{fixed(ci[0], 3)} to {fixed(ci[1], 3)}"


def _between(r2: dict[str, Any], which: str) -> str:
    """, 12% to 34%; of the likelihood nothing."""
    ends = r2.get(f"{which}_ci")
    return "" if ends is None else f", {percent(ends[0])} to {percent(ends[1])}"


def _in_words(page: Page, rows: list[dict[str, Any]]) -> None:
    """Each correlation of effects as a sentence."""
    said = []
    for c in rows:
        r = c["correlation"]
        if c["kind"] != "covariance" or r is None:
            continue
        strength = (
            "hardly" if abs(r) < 0.1 else "weakly" if abs(r) < 0.3 else "moderately" if abs(r) < 0.6 else "strongly"
        )
        way = "tend to go up together" if r > 0 else "tend to go opposite ways"
        if "spread" in (c["term"], c["term2"]):
            variance = next(
                v["estimate"]
                for v in rows
                if v["kind"] == "variance" and (v["group"], v["term"]) == (c["group"], "spread")
            )
            other = next(t for t in (c["term"], c["term2"]) if t != "spread")
            said.append(spread_words(c["group"], other, r, math.sqrt(variance)))
            continue
        said.append(f"Across {c['group']}s the effects {c['term']} and {c['term2']} {way}, {strength} (r = {r:.2f}).")
    if said:
        page.text("\n".join(said))
