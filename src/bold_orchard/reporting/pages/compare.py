"""The page of compare."""

from __future__ import annotations

from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import figure, fixed, p_value, percent
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
            "odds\n(Bayes factor)",
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
                ("group", Left("term"), "explained"),
                explained,
            )
    _left_out(page, d)
    return page.notes(d["notes"])


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
    page.table(
        f"Units of {unit} not seen, in {folds:,} folds", ("model", "log score", "SE", "behind the best", "RMSE"), rows
    )
    page.text(
        f"Each {unit} was foretold by a fit without it: the log density of its rows together, its own effects unknown. Larger scores are better."
    )


def evidence(x: float | None) -> str:
    """A Bayes factor as odds for the model that it favours, the larger or the smaller; very large ones as bounds."""
    if x is None:
        return "> 1,000,000 : 1 larger"
    side, odds = ("larger", x) if x >= 1 else ("smaller", 1 / x if x > 0 else float("inf"))
    return f"{'> 1,000,000' if odds > 1e6 else figure(odds, 3)} : 1 {side}"
