"""The page of check, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.numbers import figure, fixed, p_value
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.check import CheckResult

SHOWN = 5  # entries listed; the rest are in the JSON
NAMES = {"conditional": "rows", "quantile": "rows", "marginal": "rows, marginal", "within-group": "rows, within"}


def check_page(d: CheckResult, digits: int = 4) -> Page:
    page = Page().title(d["model"]).text(f"Residuals of {d['name']} at every level.")
    rows = []
    for entry in sorted(d["levels"], key=lambda e: e["level"] != "rows"):
        name = f"{NAMES[entry['residuals']]} {entry.get('unit', '')}" if entry["level"] == "rows" else ""
        test = entry["shapiro"] or {"w": None, "p": None}
        rows.append((name.strip() or f"{entry['level']}: {entry['term']}", f"{entry['n']:,}", figure(entry["sd"], digits), fixed(entry["skewness"], 2),
                     fixed(entry["kurtosis"], 2), fixed(test["w"], 4), p_value(test["p"]), str(len(entry["outliers"])) if entry["residuals"] not in
                     ("marginal", "within-group") else ""))  # fmt: skip
    page.table("Shape", ("level", "n", "SD", "skewness", "kurtosis", "Shapiro-\nWilk W", "p", "beyond\n3 SD"), rows)
    kind = "conditional: what is left after the groups' own effects"
    if d["levels"][0]["residuals"] == "quantile":
        kind = "randomised quantile residuals: normal where the model holds, whatever the family"
    page.text(f"Skewness and kurtosis are 0 for a normal sample. Row residuals are {kind}.")
    _observed(page, d)
    _tests(page, d)
    if d["collinearity"]:
        inflated = [
            (c["term"], figure(c["vif"], 3) if c["vif"] is not None else "—", str(c["df"])) for c in d["collinearity"]
        ]
        page.table("Collinearity", ("term", "generalized\nVIF", "columns"), inflated)
    _influence(page, d, digits)
    far = d["levels"][0]["outliers"]
    if far:
        listed = [(str(o["row"]), ", ".join(f"{k} {v}" for k, v in o["units"].items()), figure(o["residual"], digits),
                   fixed(o["standardised"], 2)) for o in far[:SHOWN]]  # fmt: skip
        page.table("Rows farthest from their fitted value", ("row", Left("where"), "residual", "in SDs"), listed)
    _closing(page, d)
    return page.notes(d["notes"])


def _tests(page: Page, d: CheckResult) -> None:
    """Patterns beyond shape: spread, curvature, autocorrelation."""
    rows = []
    for s in d["spreads"]:
        rows.append((f"spread by {s['unit']} ({s['test']})", f"F {figure(s['value'], 3)} on {s['num_df']:,} and {s['den_df']:,} df", p_value(s["p"])))  # fmt: skip
    if d["spread_by_fitted"]:
        s = d["spread_by_fitted"]
        rows.append((f"spread along fitted ({s['test']})", f"rank correlation {fixed(s['value'], 2)}", p_value(s["p"])))
    for c in d["curvature"]:
        if c["p"] is not None:
            rows.append((f"curvature in {c['predictor']}", f"t {fixed(c['statistic'], 2)} on {c['df']:,.0f} df", p_value(c["p"])))  # fmt: skip
    if d["left_out"]:
        f = d["left_out"]
        rows.append(("a unit left out (analysis of variance)", f"F {figure(f['value'], 3)} on {f['num_df']:,} and {f['den_df']:,} df", p_value(f["p"])))  # fmt: skip
    for f in d["lacking"]:
        rows.append((f"rows of one {f['unit']} alike ({f['test']})", f"F {figure(f['value'], 3)} on {f['num_df']:,} and {f['den_df']:,} df", p_value(f["p"])))  # fmt: skip
    serial = d["autocorrelation"]
    if serial and serial["lags"]:
        seen = ", ".join(f"{x['gap']:g}: {fixed(x['correlation'], 2)}" for x in serial["lags"][:4])
        rows.append((f"autocorrelation in {serial['unit']}", f"by gap in {serial['time']} {seen}", p_value(serial["p"])))  # fmt: skip
    for c in d.get("proportional_odds") or []:
        if c["p"] is not None:
            rows.append((f"{c['term']} alike at every boundary", f"chi-squared {fixed(c['chisq'], 2)} on {c['df']} df", p_value(c["p"])))  # fmt: skip
    for t in d.get("parts") or []:
        if t["p"] is not None:
            rows.append((f"{t['part']} along {t['term']}", f"chi-squared {fixed(t['statistic'], 2)} on {t['df']} df", p_value(t["p"])))  # fmt: skip
    if rows:
        page.table("Patterns", ("what", Left("figure"), "p"), rows)


def _influence(page: Page, d: CheckResult, digits: int) -> None:
    """The levels that move the fixed effects most, for each unit."""
    for group, own in d.most_influential(SHOWN):
        rows = []
        for r in own:
            change = {k: v for k, v in r["change"].items() if v is not None}
            term = max(change, key=lambda k: abs(change[k]) / (r["se"][k] or 1.0), default=None)
            moved = (
                "—"
                if term is None
                else f"{term} {change[term]:+.3g} ({abs(change[term]) / (r['se'][term] or 1.0):.2f} SE)"
            )
            rows.append((r["level"], f"{r['rows']:,}", figure(r["cooks_distance"], 2), figure(r["cooks_distance_components"], 2), moved))  # fmt: skip
        page.table(
            f"Without one {group}: what moves the estimates most",
            (group, "rows", "Cook's\ndistance", "of the\ncomponents", Left("largest change")),
            rows,
        )


def _closing(page: Page, d: CheckResult) -> None:
    """One paragraph of what is fine, the doubts in full, and what to try."""
    fine: dict[str, list[str]] = {}
    for f in d["findings"]:
        if not f["speaks"]:
            fine.setdefault(f["check"], []).append(f["where"])
    if fine:
        doubted = {f["check"] for f in d["findings"] if f["speaks"]}
        listed = [c if len(set(w)) == 1 and c not in doubted else f"{c} ({', '.join(w)})" for c, w in fine.items()]
        page.text("What looks fine: " + "; ".join(listed) + ".")
    closing = d["closing"]
    for heading, key in (("What does not", "doubtful"), ("What to try", "try")):
        if closing[key]:
            page.list(heading, closing[key])
    if not closing["doubtful"]:
        page.text("Nothing here speaks against the model; the figures are still the better judge (--figure).")


def _observed(page: Page, d: CheckResult) -> None:
    """Predicted against observed, for a 0/1 outcome."""
    found = d.get("predicted_against_observed")
    if found is None:
        return
    t = found["table"]
    rows = [(f"observed {t[i]['observed']}", f"{t[i]['rows']:,}", f"{t[i + 1]['rows']:,}") for i in (0, 2)]
    page.table(
        "Predicted (at a chance of one half) against observed, rows", ("", t[0]["predicted"], t[1]["predicted"]), rows
    )
    tenths = [
        (f"{x['from']:.3f} to {x['to']:.3f}", f"{x['rows']:,}", f"{x['predicted']:.3f}", f"{x['observed']:.3f}")
        for x in found["tenths"]
    ]
    page.table("By tenths of the predicted chance", ("chance", "rows", "predicted", "observed"), tenths)
