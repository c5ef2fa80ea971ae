"""The pages of compare, components, scout and predict, from their documents alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.errors import a_or_an
from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import figure, fixed, p_value, percent, span
from bold_orchard.reporting.page import Page


def compare_page(d: dict[str, Any], digits: int = 4) -> Page:
    page = Page().title(f"{len(d['models'])} models on the same {count(d['rows'], 'row')}, compared by {d['method']}")
    page.text("\n".join(f"{m['name']}: {m['model']}" for m in d["models"]))
    rows = []
    for m in d["models"]:
        flag = "" if m["converged"] else " NOT CONVERGED"
        flag += " (boundary)" if m["boundary"] else ""
        rows.append((m["name"] + flag, str(m["n_parameters"]), fixed(m["loglik"], 2), fixed(m["aic"], 2), fixed(m["aicc"], 2),
                     fixed(m["bic"], 2), fixed(m["delta_aic"], 2), fixed(m["akaike_weight"], 3)))  # fmt: skip
    page.table(
        "Models",
        ("model", "param-\neters", "loglik", "AIC", "AICc", "BIC", "AIC less\nthe best", "weight"),
        rows,
    )
    tests: list[list[str]] = []
    for t in d["tests"]:
        if t["nested"]:
            tests.append([f"{t['larger']} against {t['smaller']}", fixed(t["chisq"], 2), str(t["df"]), p_value(t["p"]),
                          p_value(t["p_boundary"]), p_value(t["p_bootstrap"]), evidence(t["bayes_factor"])])  # fmt: skip
    if tests:
        columns: tuple[str, ...] = (
            "larger against smaller",
            "chi-\nsquared",
            "df",
            "p",
            "p at the\nboundary",
            "bootstrap\np",
            "Bayes\nfactor",
        )
        if not any(t["p_bootstrap"] is not None for t in d["tests"]):
            columns, tests = columns[:5] + columns[6:], [row[:5] + row[6:] for row in tests]
        page.table("Likelihood-ratio tests", columns, tests)
    for t in d["tests"]:
        explained = [
            (v["group"], v["term"], percent(v["proportion"]))
            for v in t["variance_explained"]
            if v["proportion"] is not None
        ]
        if explained:
            page.table(
                f"Variance of {t['smaller']} that {t['larger']} explains",
                ("group", "<term", "explained"),
                explained,
            )
    return page.notes(d["notes"])


def evidence(x: float | None) -> str:
    """A Bayes factor with three digits; very large and very small ones as bounds."""
    if x is None or x > 1e6:
        return "> 1,000,000"
    return "< 0.000001" if x < 1e-6 else figure(x, 3)


def components_page(d: dict[str, Any], digits: int = 4) -> Page:
    page = Page().title(d["model"]).text(f"Variance components of {d['name']}, by {d['method']}.")
    rows = []
    for c in d["components"]:
        term = {"covariance": f"{c['term']} with {c['term2']}", "residual": "variance"}.get(c["kind"], c["term"])
        interval = f"{figure(c['ci'][0], 3)} to {figure(c['ci'][1], 3)}" if c["ci"] else "—"
        interval += " (edge)" if c["boundary"] and c["kind"] == "variance" and c["estimate"] == 0 else ""
        second = {"covariance": f"r {figure(c['correlation'], 2)}", "parameter": ""}.get(
            c["kind"], figure(c["sd"], digits)
        )
        share = "" if c["kind"] == "parameter" else percent(c["share"])
        rows.append((c["group"], term, figure(c["estimate"], digits), figure(c["se"], 3), interval, second, share))
    level = f"{100 * d['confidence']:g}% interval"
    page.table("Components", ("group", "<term", "estimate", "SE", level, "SD", "share"), rows)
    how = {"wald": "of variances are on the log scale", "profile": "are by profile likelihood"}[d["interval"]]
    latent = d["latent_variance"]
    beside = "" if latent is None else f", {figure(latent, 3)} of it the family's own on the linear scale"
    page.text(f"Shares are of the total variance at the mean of the covariates{beside}. Intervals {how}.")
    _in_words(page, d["components"])
    changes = [abs(c["change"]) / c["se"] for c in d["components"] if c["change"] is not None and c["se"]]
    if changes:
        page.text(f"One more step of the search would move no component by more than {max(changes):.0e} of its SE.")
    page.table(
        "How alike two rows of one group are (ICC)",
        ("group", "correlation of\ntwo rows (ICC)", "own share of\nthe variance"),
        [(i["group"], fixed(i["value"], 3), percent(i["share"])) for i in d["icc"]],
    )
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
    page.text(
        f"The average effects explain {percent(r2['marginal'])} of the variance (marginal R²); with the groups' own effects "
        f"{percent(r2['conditional'])} (conditional R²)."
    )
    if d["reduction"] is not None:
        less = [(r["group"], r["term"], percent(r["proportion"])) for r in d["reduction"]]
        page.table(f"How much less variance than in {d['against']}", ("group", "<term", "reduction"), less)
        if any(r["proportion"] is not None and r["proportion"] < 0 for r in d["reduction"]):
            page.text(
                "A negative reduction is a variance that grew: taking account of one level can uncover more of another."
            )
    return page.notes(d["notes"])


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
        said.append(f"Across {c['group']}s the effects {c['term']} and {c['term2']} {way}, {strength} (r = {r:.2f}).")
    if said:
        page.text("\n".join(said))


def scout_page(d: dict[str, Any], digits: int = 4) -> Page:
    page = Page().title(f"{d['name']}: {count(d['rows'], 'row')}, {count(len(d['columns']), 'column')}")
    rows = []
    for c in d["columns"]:
        rows.append(
            (
                c["column"],
                c["kind"],
                f"{c['missing']:,}" if c["missing"] else "",
                f"{c['distinct']:,}",
                _range(c, digits),
            )
        )
    page.table("Columns", ("column", "<kind", "missing", "distinct", "<values"), rows)
    if d["groupings"]:
        reasons = [(g["column"], f"{g['score']:.2f}", g["reason"]) for g in d["groupings"]]
        page.table("Columns that may group the rows, likeliest first", ("column", "score", "<why"), reasons)
    chosen = d["units"]
    if chosen:
        inside = []
        for c in d["columns"]:
            inside.append((c["column"], *(c["levels_within"].get(u, "—") for u in chosen)))
        page.table("Inside one level of a group, a column", ("column", *(f"<{u}" for u in chosen)), inside)
    if d["nesting"]:
        page.text("\n".join(_relation(n) for n in d["nesting"]))
    if d["sentences"]:
        page.text("Sentences to start from:\n" + "\n".join(f"    {s}" for s in d["sentences"]))
    return page.notes(d["notes"])


def _range(c: dict[str, Any], digits: int) -> str:
    if "min" in c:
        return f"{span(c['min'], c['max'], digits, c['whole'])}, mean {figure(c['mean'], digits)}"
    levels = c.get("levels", [])
    text = ", ".join(levels[:4])
    return text + (", ..." if c["distinct"] > 4 else "")


def _relation(n: dict[str, str]) -> str:
    words = {
        "nested": "is nested in {p}: each {u} belongs to one {p}.",
        "crossed": "is crossed with {p}: {a} occurs under several levels of {p}.",
        "labels repeat": "has labels that start again in every {p}: write 'each {u} in {p}'.",
    }
    return f"{n['unit']} " + words[n["relation"]].format(u=n["unit"], p=n["parent"], a=a_or_an(n["unit"]))


def predict_page(d: dict[str, Any], digits: int = 4) -> Page:
    page = (
        Page().title(d["model"]).text(f"Predictions of {d['name']} for {count(len(d['rows']), 'row')}; the first few:")
    )
    level = f"{100 * d['confidence']:g}% interval"
    rows = []
    for r in d["rows"][:12]:
        where = ", ".join(f"{u} {r[u]}" for u in d["units"] if u in r)
        if r["predicted"] != r["predicted"]:
            rows.append((str(r["row"]), where, "—", "—", "—", "—"))
            continue
        rows.append((str(r["row"]), where, figure(r["predicted"], digits), figure(r["se"], 3),
                     f"{figure(r['low'], digits)} to {figure(r['high'], digits)}", figure(r["predicted_average"], digits)))  # fmt: skip
    page.table("", ("row", "<where", "predicted", "SE", level, "average\nonly"), rows)
    page.text(
        "All rows go to a file with --csv FILE. The interval is that of "
        + ("one more observation of each row; " if d["new_observation"] else "a row's mean, not of a new observation; ")
        + ("it is normal." if d["df"] == "normal" else "its degrees of freedom are residual (rows less fixed terms).")
    )
    return page.notes(d["notes"])
