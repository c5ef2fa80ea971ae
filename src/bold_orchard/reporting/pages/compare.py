"""The page of compare."""

from __future__ import annotations

from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import degrees, figure, fixed, p_value, percent
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.compare import CompareResult


def compare_page(d: CompareResult, digits: int = 4) -> Page:
    page = Page().title(f"{len(d['models'])} models on the same {count(d['rows'], 'row')}, compared by {d['method']}")
    page.text("\n".join(f"{m['name']}: {m['model']}" for m in d["models"]))
    rows = []
    for m in d["models"]:
        flag = "" if m["converged"] else " NOT CONVERGED"
        flag += " (boundary)" if m["boundary"] else ""
        rows.append((m["name"] + flag, str(m["n_parameters"]), fixed(m["loglik"], 2), fixed(m["aic"], 2), fixed(m["aicc"], 2),
                     fixed(m["bic"], 2), fixed(m["delta_aic"], 2), fixed(m["akaike_weight"], 3)))  # fmt: skip
    columns: tuple[str, ...] = (
        "model",
        "param-\neters",
        "loglik",
        "AIC",
        "AICc",
        "BIC",
        "AIC less\nthe best",
        "weight",
    )
    pooled = all(m["loglik"] is None for m in d["models"])
    page.table("Models", columns[:2] if pooled else columns, [r[:2] if pooled else r for r in rows])
    _ratio_tests(page, d, pooled)
    for t in d["tests"]:
        explained = [
            (v["group"], v["term"], percent(v["proportion"]))
            for v in t["variance_explained"]
            if v["proportion"] is not None
        ]
        if explained:
            page.table(
                f"Variance of {t['smaller']} that {t['larger']} explains",
                ("group", Left("term"), "explained"),
                explained,
            )
    _left_out(page, d)
    return page.notes(d["notes"])


def _ratio_tests(page: Page, d: CompareResult, pooled: bool) -> None:
    """The tests of nested pairs, columns that hold nothing left out."""
    tests = [
        {
            "larger against smaller": f"{t['larger']} against {t['smaller']}",
            "chi-\nsquared": fixed(t["chisq"], 2),
            "df": str(t["df"]),
            "error df": degrees(t.get("den_df")) if pooled else "",
            "p": p_value(t["p"]),
            "p at the\nboundary": p_value(t["p_boundary"]),
            "bootstrap\np": "" if t["p_bootstrap"] is None else p_value(t["p_bootstrap"]),
            "odds\n(Bayes factor)": "" if pooled else evidence(t["bayes_factor"]),
        }
        for t in d["tests"]
        if t["nested"]
    ]
    if tests:
        columns = [c for c in tests[0] if any(t[c] for t in tests)]
        page.table("Likelihood-ratio tests", tuple(columns), [[t[c] for c in columns] for t in tests])


def _left_out(page: Page, d: CompareResult) -> None:
    """Scores of units that were not seen, the best first."""
    made = d.get("leave_out") or []
    if not made:
        return
    best = max(made, key=lambda r: r["log_score"])
    of_best = [v["log_score"] for v in best["levels"]]
    rows = []
    for r in sorted(made, key=lambda r: -r["log_score"]):
        apart = [a - b["log_score"] for a, b in zip(of_best, r["levels"])]
        mean = sum(apart) / len(apart)
        spread = (len(apart) * sum((v - mean) ** 2 for v in apart) / max(len(apart) - 1, 1)) ** 0.5
        behind = "" if r is best else f"{fixed(sum(apart), 2)} (SE {fixed(spread, 2)})"
        rows.append((r["name"], fixed(r["log_score"], 2), fixed(r["se"], 2), behind, figure(r["rmse"], 4)))
    unit, folds = best["unit"], best["folds"]
    what = "Rows" if unit == "rows" else f"Units of {unit}"
    page.table(f"{what} not seen, in {folds:,} folds", ("model", "log score", "SE", "behind the best", "RMSE"), rows)
    how = (
        "Each row was foretold by a fit without it, which knows other rows of its units: the log density of the row. Rows of new units are foretold worse; "
        "--leave-out UNIT tells how much."
        if unit == "rows"
        else f"Each {unit} was foretold by a fit without it: the log density of its rows together, its own effects unknown."
    )
    page.text(f"{how} Larger scores are better.")


def evidence(x: float | None) -> str:
    """A Bayes factor as odds for the model that it favours, the larger or the smaller; very large ones as bounds."""
    if x is None:
        return "> 1,000,000 : 1 larger"
    side, odds = ("larger", x) if x >= 1 else ("smaller", 1 / x if x > 0 else float("inf"))
    return f"{'> 1,000,000' if odds > 1e6 else figure(odds, 3)} : 1 {side}"
