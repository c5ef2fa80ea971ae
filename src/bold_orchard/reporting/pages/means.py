"""The page of means, from its document alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.reporting.numbers import degrees, estimated, figure, p_value, percent
from bold_orchard.reporting.page import Left, Page
from bold_orchard.reporting.pages.origin import chance, from_draws
from bold_orchard.reporting.strips import interval
from bold_orchard.results.means import MeansResult

SINGLE = ("holm", "none")  # corrections whose intervals are not simultaneous


PART_SCALES = {"zeros": "on the logit scale", "spread": "on the log scale"}
PART_MEANINGS = {"zeros": "As a probability", "spread": "The size of the spread"}


def means_page(d: MeansResult, digits: int = 4, differences: bool = False, sed: bool = False) -> Page:
    scale = "" if d["link"] == "identity" else f" ({_scale(d)})"
    of = d["outcome"] if not d.get("part") else f"{d['part']} of {d['outcome']}"
    what = f"Slopes of {d['slope']}{scale}" if d["slope"] else f"Adjusted means of {of}{scale}"
    page, parts = Page().title(d["model"]), d.by_term()
    by = f" by {d['term']}" if d["term"] else "" if d["term"] is not None else " by every category and product"
    page.text(f"{what}{by}, from {d['name']}.")
    drawn = from_draws(page, d)
    outcomes = d.by_outcome()
    for own in outcomes if len(outcomes) > 1 else []:
        for part in own.by_term():
            title = f"{own.outcome}" + (f": {part['term']}" if d["term"] is None else "")
            _means_of(page, part, digits, drawn, differences, sed, title)
    for part in parts if len(outcomes) == 1 else []:
        _means_of(
            page,
            part if part.outcome == d.outcome else d.by_outcome()[0],
            digits,
            drawn,
            differences,
            sed,
            part["term"] if len(parts) > 1 else "",
        )
    return page.notes(d["notes"])


def _means_of(page: Page, d: MeansResult, digits: int, drawn: bool, differences: bool, sed: bool, title: str) -> None:
    """The means of one term, then its differences."""
    if d["grades"] and all(m["mean"] is None and m.get("chances") for m in d["means"]):
        _probabilities(page, d, digits, title)
        _conditions(page, d, digits)
        return
    names = list(d["means"][0]["levels"]) or [""]
    level = f"{100 * d['confidence']:g}% interval"
    columns = (
        names[0],
        *(Left(n) for n in names[1:]),
        "slope" if d["slope"] else "mean",
        "SD" if drawn else "SE",
        level,
    )
    rows = [
        (
            *(_levels(m, digits) or ["all rows"]),
            *estimated(m["mean"], m["se"], digits),
            _interval(m["ci"], digits),
            *(() if drawn else (degrees(m["df"]),)),
            *((m["letters"],) if "letters" in m else ()),
        )
        for m in d["means"]
    ]
    lettered = (Left("letters"),) if any("letters" in m for m in d["means"]) else ()
    page.table(title, (*columns, *(() if drawn else ("df",)), *lettered), rows)
    if lettered:
        page.text(
            f"Levels that share a letter do not differ at {100 * (1 - d['confidence']):g}%, all pairs judged together; letters say nothing of how far apart the others are."
        )
    _own_scale(page, d, digits, level)
    _conditions(page, d, digits)
    if differences:
        (_drawn_differences if drawn else _differences)(page, d, digits, level)
    if d.get("curves"):
        _curves(page, d, digits)
    if d.get("trends"):
        trends = [(t["trend"], *estimated(t["estimate"], t["se"], digits), figure(t["statistic"], 3, 1.0),
                   degrees(t["df"]), p_value(t["p"]))
                  for t in d["trends"]]  # fmt: skip
        page.table(
            f"Trends along {', '.join(_levels(m, digits)[0] for m in d['means'] if m['mean'] is not None)}",
            ("trend", "estimate", "SE", "t", "df", "p"),
            trends,
        )
    s, errors = d["sed"], "SDs" if drawn else "Standard errors"
    if sed and s["min"] is not None:
        labels = [", ".join(_levels(m, digits)) for m in d["means"]]
        matrix = [
            (a, *(figure(v, 3) if i != j else "" for j, v in enumerate(s["matrix"][i]))) for i, a in enumerate(labels)
        ]
        page.table(f"{errors} of differences", ("", *labels), matrix)
    if s["min"] is not None:
        page.text(
            f"{errors} of differences: {figure(s['min'], 3)} to {figure(s['max'], 3)}, mean {figure(s['mean'], 3)}."
        )


def _probabilities(page: Page, d: MeansResult, digits: int, title: str) -> None:
    """Of unordered levels the probability of each, for an average unit and averaged over units."""
    level = f"{100 * d['confidence']:g}% interval"
    rows = []
    for m in d["means"]:
        where = ", ".join(_levels(m, digits)) or "all rows"
        for k, c in enumerate(m["chances"]):
            rows.append(
                (
                    where if k == 0 else "",
                    c["grade"],
                    percent(c["chance"]),
                    " to ".join(percent(v) for v in c["ci"]),
                    percent(c["population"]),
                )
            )
    names = ", ".join(d["means"][0]["levels"]) or ""
    page.table(
        title or "The probability of each level",
        (names, Left(d["outcome"]), "average\nunit", level, "averaged\nover units"),
        rows,
    )


def _scale(d: MeansResult) -> str:
    if d.get("part"):
        part = str(d["part"])
        return PART_SCALES.get(part, f"the log odds of {part} against the baseline")
    if d["family"] == "nominal":
        return "probabilities"
    return (
        f"on the latent {d['link']} scale, zero at the middle of the thresholds"
        if d["grades"]
        else f"on the {d['link']} scale"
    )


def _levels(m: dict[str, Any], digits: int) -> list[str]:
    return [v if isinstance(v, str) else figure(v, digits) for v in m["levels"].values()]


def _interval(ci: list[float] | None, digits: int) -> str:
    return f"{figure(ci[0], digits)} to {figure(ci[1], digits)}" if ci else "—"


def _own_scale(page: Page, d: MeansResult, digits: int, level: str) -> None:
    """The outcome's scale: a mean for an average unit and over units; of grades each one's chance and the mean grade."""
    if not any("outcome" in m and not isinstance(m["outcome"], str) for m in d["means"]):
        return
    if d["grades"]:
        rows = [
            (", ".join(_levels(m, digits)), *(percent(c["chance"]) for c in m["chances"] or [])) for m in d["means"]
        ]
        page.table("The chance of each grade, average unit", (d["term"], *d["grades"]), rows)
    own = [
        (", ".join(_levels(m, digits)), figure(m["outcome"], digits), _interval(m["outcome_ci"], digits), figure(m["population"], digits))
        for m in d["means"]
    ]  # fmt: skip
    heading = (
        f"The mean grade (1 = {d['grades'][0]}, {len(d['grades'])} = {d['grades'][-1]})"
        if d["grades"]
        else PART_MEANINGS.get(str(d["part"]), "As the share of these two levels")
        if d.get("part")
        else "On the outcome's own scale"
    )
    page.table(heading, (d["term"], "average\nunit", level, "averaged\nover units"), own)


def _conditions(page: Page, d: MeansResult, digits: int) -> None:
    words = []
    if d["averaged"]:
        words.append(f"Equal weights over the levels of {' and '.join(d['averaged'])}.")
    held = "; ".join(f"{k} = {figure(v, digits)}" for k, v in d["covariates"].items())
    if held:
        words.append(f"Covariates at their means: {held}.")
    if d["typical_units"]:
        means = "; ".join(f"{t['term']} = {figure(t['value'], digits)}" for t in d["typical_units"])
        words.append(f"The unit is an average one ({means}); a column that is held moves the row inside it.")
    if words:
        page.text("\n".join(words))


def _differences(page: Page, d: MeansResult, digits: int, level: str) -> None:
    corrected, sized = d["correction"] != "none", any("d_total" in p for p in d["pairs"])
    rows = [
        (f"{p['a']} vs {p['b']}", *estimated(p["difference"], p["se"], digits),
         _interval(p["ci"], digits), degrees(p["df"]),
         p_value(p["p"]), *((p_value(p["p_adjusted"]),) if corrected else ()),
         *((figure(p["d_total"], 3) if p["d_total"] is not None else "—", figure(p["d_residual"], 3)) if sized else ()))
        for p in d["pairs"]
    ]  # fmt: skip
    columns = (
        "pair",
        "difference",
        "SE",
        level,
        "df",
        "p",
        *((f"{d['correction']}\np",) if corrected else ()),
        *(("in SDs,\ntotal", "in SDs,\nresidual") if sized else ()),
    )
    page.table("Differences" + (f" within each {d['within']}" if d["within"] else ""), columns, rows,
               [interval(p["difference"], p["ci"]) for p in d["pairs"]])  # fmt: skip
    _ratios_and_outcome(page, d, digits, level, "SE")
    kind = "single" if d["correction"] in SINGLE else "simultaneous"
    if corrected:
        page.text(
            f"The last p is corrected for the number of differences ({d['correction']}); the intervals are {kind}."
        )
    else:
        page.text("p-values and intervals are not corrected for the number of differences.")


def _curves(page: Page, d: MeansResult, digits: int) -> None:
    """Where along a number the levels of each pair differ."""
    column, first = d["curves"][0]["column"], d["curves"][0]
    rows = [
        (f"{c['a']} vs {c['b']}", figure(c["difference"][0], digits), figure(c["difference"][-1], digits), _regions(c, digits))
        for c in d["curves"]
    ]  # fmt: skip
    ends = [f"difference\nat {figure(first['x'][i], digits)}" for i in (0, -1)]
    page.table(f"Differences along {column}", ("pair", *ends, Left(f"they differ at {column}")), rows)
    page.text(
        f"Regions where the difference leaves zero out at {100 * (1 - d['confidence']):g}%, all of the line and all pairs judged together "
        f"({figure(first['critical'], 3)} SEs either side)."
    )
    beyond = [c for c in d["curves"] if c["regions"] and _beyond(c)]
    for c in beyond:
        seen = c["seen"]
        told = f"from {figure(seen[0], digits)} to {figure(seen[1], digits)} only" if seen else "nowhere"
        page.text(
            f"{c['a']} vs {c['b']}: rows of both lie {told}; beyond, the region rests on the straightness of the lines."
        )


def _regions(c: dict[str, Any], digits: int) -> str:
    told = []
    for r in c["regions"]:
        low, high = r["low"] <= c["x"][0], r["high"] >= c["x"][-1]
        where = (
            "everywhere"
            if low and high
            else f"below {figure(r['high'], digits)}"
            if low
            else f"above {figure(r['low'], digits)}"
        )
        where = where if low or high else f"{figure(r['low'], digits)} to {figure(r['high'], digits)}"
        told.append(f"{where} ({r['higher']} higher)")
    return "; ".join(told) or "nowhere"


def _beyond(c: dict[str, Any]) -> bool:
    """Whether a region reaches where rows of both are not."""
    return c["seen"] is None or any(r["low"] < c["seen"][0] or r["high"] > c["seen"][1] for r in c["regions"])


def _drawn_differences(page: Page, d: MeansResult, digits: int, level: str) -> None:
    """Differences from draws: no p-values, but chances."""
    rows = [
        (f"{p['a']} vs {p['b']}", *estimated(p["difference"], p["se"], digits),
         _interval(p["ci"], digits), chance(p["chance_above"]))
        for p in d["pairs"]
    ]  # fmt: skip
    page.table("Differences" + (f" within each {d['within']}" if d["within"] else ""), ("pair", "difference", "SD", level, "chance\nabove 0"), rows,
               [interval(p["difference"], p["ci"]) for p in d["pairs"]])  # fmt: skip
    _ratios_and_outcome(page, d, digits, level, "SD")
    page.text(
        "The chance above 0 is the share of the draws in which the first of the pair is larger; each difference stands for itself."
    )


def _ratios_and_outcome(page: Page, d: MeansResult, digits: int, level: str, error: str) -> None:
    """Ratios, and differences on the outcome's own scale, where they are there."""
    if any("ratio" in p for p in d["pairs"]):
        ratios = [
            (f"{p['a']} / {p['b']}", figure(p["ratio"], digits), _interval(p["ratio_ci"], digits)) for p in d["pairs"]
        ]
        page.table("As ratios", ("pair", "ratio", level), ratios)
    if any("outcome_difference" in p for p in d["pairs"]):
        own = [(f"{p['a']} vs {p['b']}", figure(p["outcome_difference"], digits), figure(p["outcome_se"], 3), _interval(p["outcome_ci"], digits))
               for p in d["pairs"]]  # fmt: skip
        page.table(
            "On the outcome's own scale, average unit (single intervals)", ("pair", "difference", error, level), own
        )
