"""The page of a fit, from its document alone."""

from __future__ import annotations

import math
from typing import Any

from bold_orchard.errors import a_or_an
from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import degrees, figure, fixed, p_value, percent, root
from bold_orchard.reporting.page import Left, Page
from bold_orchard.reporting.strips import interval
from bold_orchard.results.fit import FitResult
from bold_orchard.results.parts import within

EVEN = 0.05  # SD of a log SD below which two thirds of the units scatter within 5 % of the typical one
MANY_TERMS = 4  # terms of a clause from which correlations are read in a matrix, not in sentences
KNOWN = "known"  # structure of errors whose SDs the data give

OWN = {"dispersion": "Dispersion", "zero_chance": "Chance of a zero", "tail_df": "Degrees of freedom of the tails"}


def fit_page(d: FitResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    if not d["convergence"].get("identified", True):
        page.warning("NOT IDENTIFIED: the rows cannot tell what is asked. Do not use the figures named here.")
    elif not d["convergence"]["converged"]:
        page.warning("NOT CONVERGED: the figures below are where the search stopped, not estimates. Do not use them.")
    for text in d.get("warnings", []):
        page.warning(text)
    page.text(f"{what_was_fitted(d)}\n{groups(d)}".strip())
    average_effects(page, d, digits)
    _parts(page, d, digits)
    variation(page, d, digits)
    _likelihood(page, d, digits)
    return page.notes([n for n in d["notes"] if n not in d.get("warnings", [])])


def what_was_fitted(d: FitResult) -> str:
    rows = d["rows"]
    how = {"REML": "by REML", "ML": "by maximum likelihood", "Laplace": "by maximum likelihood (Laplace)"}.get(
        d["method"], f"by maximum likelihood ({d.get('points')} quadrature points)"
    )
    identity = (d["family"], d["link"]) == ("gaussian", "identity")
    kind = (
        "linear (gaussian)" if identity else f"{d['family']} ({d['link']})" if d["link"] != "identity" else d["family"]
    )
    saved = d.source
    text = f"{a_or_an(kind)[0].upper()}{a_or_an(kind)[1:]} model {how}" + (
        f" of {saved}" if saved and saved != "-" else ""
    )
    text += f", on {rows['used']:,} of {count(rows['read'], 'row')}"
    if rows["dropped"]:
        text += " (left out: " + ", ".join(f"{x['rows']:,} without {x['column']}" for x in rows["dropped"]) + ")"
    return text + "."


def groups(d: FitResult) -> str:
    lines = []
    for g in d["groups"]:
        sizes = f"{g['smallest']:,}" if g["smallest"] == g["largest"] else f"{g['smallest']:,} to {g['largest']:,}"
        lines.append(f"{g['group']}: {count(g['levels'], 'level')} of {sizes} rows.")
    residual = d["residual"] or {}
    if residual.get("levels") and residual["unit"] not in [g["group"] for g in d["groups"]]:
        lines.append(
            f"{residual['unit']}: {count(residual['levels'], 'level')}, inside which residuals are correlated."
        )
    return "\n".join(lines)


def average_effects(page: Page, d: FitResult, digits: int) -> None:
    level = f"{100 * d['confidence']:g}% interval"
    rows = []
    dfs = {r["df"] for r in d["fixed"] if r["estimate"] is not None}
    shared = len(dfs) == 1
    for r in d["fixed"]:
        ci = r["ci"]
        ends = f"{figure(ci[0], digits)} to {figure(ci[1], digits)}" if ci else "—"
        rows.append((r["label"], figure(r["estimate"], digits, r["se"]), figure(r["se"], digits), ends,
                     figure(r["statistic"], 3, 1.0), *(() if shared else (degrees(r["df"]),)),
                     p_value(r["p"])))  # fmt: skip
    sign = "z" if d["df_method"] == "normal" or dfs == {None} else "t"
    strips = [interval(r["estimate"], r["ci"]) for r in d["fixed"]]
    page.table(
        "Average effects", ("term", "estimate", "SE", level, sign, *(() if shared else ("df",)), "p"), rows, strips
    )
    if any("ratio" in r for r in d["fixed"]):
        ratios = [(r["label"], figure(r["ratio"], digits), f"{figure(r['ratio_ci'][0], digits)} to {figure(r['ratio_ci'][1], digits)}")
                  for r in d["fixed"] if r.get("ratio") is not None]  # fmt: skip
        page.table(f"As {d['ratio_kind']}s", ("term", d["ratio_kind"], level), ratios)
    if d.get("average_effects"):
        own = [
            (e["term"], figure(e["unit_specific"], digits), figure(e["population"], digits))
            for e in d["average_effects"]
        ]
        page.table(
            f"Average change of the mean of {d['outcome']}", ("term", "average unit", "averaged over units"), own
        )
    words = []
    cut = d["rows"].get("censored")
    if cut:
        told = [
            f"{cut[k]:,} at or {where} the {limit} limit"
            for k, where, limit in (("below", "below", "lower"), ("above", "above", "upper"))
            if cut[k]
        ]
        words.append(
            f"Of the rows {' and '.join(told) or 'none'} are known to lie there only; figures are of the outcome itself."
        )
    if d["intercept_at"]:
        plain = d["link"] == "identity"
        what = (
            ("Intercepts are the means" if "observed" in d["rows"] else "The intercept is the mean")
            if plain
            else f"The intercept is the {d['link']} of the {d.eta_of}"
        )
        what = "The thresholds hold" if d["family"] == "ordinal" else what
        if d["family"] == "nominal":
            what = f"Each intercept is the log odds of its level against {d['levels'][0]}"
        groups = list(dict.fromkeys(part["group"] for part in d["random"]))
        unit = "" if plain or not groups else f" for an average {' and '.join(groups)}"
        words.append(f"{what}{unit} at " + "; ".join(d["intercept_at"]) + ".")
    words += [f"{t['term']} is {t['meaning']}." for t in d.get("transformations", [])]
    what = d["outcome"] if d["link"] == "identity" else f"the {d['link']} of the {d.eta_of}"
    for x, unit, inner, between in parts_of({r["term"]: r["estimate"] for r in d["fixed"]}):
        words.append(
            f"Between rows of one {unit} that differ by 1 in {x}, {what} differs by {figure(inner, 4)} on average; between levels of {unit} "
            f"whose means of {x} differ by 1, by {figure(between, 4)}."
        )
    words.append(_df_words(d["df_method"], next(iter(dfs)) if shared else None, dfs == {None}))
    page.text("\n".join(words))


PART_WORDS = {
    "zeros": ("Zeros", "the logit of the probability of a zero of its own", "the odds of such a zero"),
    "spread": ("Spread", "the logarithm of the spread", "the spread"),
}


def _parts(page: Page, d: FitResult, digits: int) -> None:
    """Coefficients of what else depends on columns."""
    level, words = f"{100 * d['confidence']:g}% interval", []
    for part in d["parts"] if d.get("parts") else []:
        title, scale, what = PART_WORDS[part["part"]]
        if part["part"] == "zeros" and d["family"].startswith("hurdle"):
            scale, what = "the logit of the probability of a zero", "the odds of a zero"
        if part["part"] == "spread":
            scale = f"the logarithm of {SPREADS.get(d['family'], 'the residual SD')}"
        rows = []
        for r in part["fixed"]:
            ends = f"{figure(r['ci'][0], digits)} to {figure(r['ci'][1], digits)}" if r["ci"] else "—"
            factor = None if r["estimate"] is None or r["term"] == "intercept" else math.exp(min(r["estimate"], 700.0))
            times = "" if factor is None else figure(factor, 3)
            rows.append(
                (
                    r["label"],
                    figure(r["estimate"], digits, r["se"]),
                    figure(r["se"], digits),
                    ends,
                    times,
                    figure(r["statistic"], 3, 1.0),
                    p_value(r["p"]),
                )
            )
        strips = [interval(r["estimate"], r["ci"]) for r in part["fixed"]]
        page.table(
            f"{title} ({part['link']} scale)", ("term", "estimate", "SE", level, "factor", "z", "p"), rows, strips
        )
        words.append(
            f"{title}: the estimates are differences in {scale}; the factor is by what 1 more multiplies {what}."
        )
    if words:
        page.text("\n".join(words))


SPREADS = {
    "gamma": "the dispersion, the squared coefficient of variation",
    "negative-binomial": "1/theta, the variance beyond Poisson's over the squared mean",
    "zero-inflated-negative-binomial": "1/theta, the variance beyond Poisson's over the squared mean",
    "hurdle-negative-binomial": "1/theta, the variance beyond Poisson's over the squared mean",
    "beta": "1/phi, the inverse of the precision",
    "beta-binomial": "1/phi, the inverse of the precision",
    "student": "the scale",
    "lognormal": "the SD of the logarithm",
}


def parts_of(estimates: dict[str, float | None]) -> list[tuple[str, str, float, float]]:
    """Columns of which the parts within and between levels of a unit stand there, and the column itself does not: column, unit, both."""
    out = []
    for term, inner in estimates.items():
        part = within(term)
        if part is not None and part[0] not in estimates:
            between = estimates.get(f"mean({part[0]}, {part[1]})")
            if inner is not None and between is not None:
                out.append((*part, inner, between))
    return out


def _df_words(method: str, df: float | None, normal: bool) -> str:
    if method == "barnard-rubin":
        return "Degrees of freedom by Barnard and Rubin: those of complete data, less what the draws leave unknown."
    if method == "normal":
        return "p-values and intervals are from the normal distribution (z)."
    shared = f", {degrees(df)} for every term" if df is not None else ""
    if method.startswith("robust"):
        by = (
            "tests by the normal distribution"
            if normal
            else "degrees of freedom by Satterthwaite, of each term its own"
        )
        return f"Errors are {method}, which hold where the variances and correlations are not as the model says; {by}."
    return f"Degrees of freedom: {method}{shared}."


def variation(page: Page, d: FitResult, digits: int) -> None:
    parts, res = d["random"], d["residual"]
    own = res["variance"] if res and "variance" in res else None
    mean = d.get("mean_residual_variance", own)
    known = res is not None and res.get("structure") == KNOWN
    several_predictors = bool(d.get("parts")) or d["family"] == "nominal"
    curves = {s["smooth"] for s in d.get("smooths") or []}
    if known:
        own = mean
    between = [x or 0 for x, part in zip(d["mean_random_variance"], parts) if part["group"] not in curves]
    total = sum(between) + mean if own is not None and mean is not None else None
    rows: list[tuple[str, ...]] = []
    for part, at_mean in zip(parts, d["mean_random_variance"]):
        share = percent(at_mean / total) if total and at_mean is not None and part["group"] not in curves else ""
        for i, (term, sd) in enumerate(zip(part["terms"], part["sd"])):
            alone = share if len(part["terms"]) == 1 else ""
            rows.append((part["group"], term, figure(sd, digits), figure(part["covariance"][i][i], digits), alone))
        if len(part["terms"]) > 1 and at_mean is not None and not several_predictors:
            rows.append((part["group"], "all, mean over rows", "", figure(at_mean, digits), share))
    several = "observed" in d["rows"]
    if several and res:
        rows = _rows_of_outcomes(rows, res, digits)
    elif own is not None:
        rows.append(
            (
                "known errors" if known else "residual",
                "mean over rows" if known else "",
                figure(root(own) if known else res["sd"], digits),
                figure(own, digits),
                percent(mean / total if total and mean is not None else None),
            )
        )
    columns: tuple[str, ...] = ("group", Left("term"), "SD", "variance", "share")
    if several or own is None:
        rows, columns = [r[:4] for r in rows], columns[:4]
    if rows:
        page.table(
            "Variance components"
            if own is not None or d["link"] == "identity"
            else f"Variance components (on the {d['link']} scale)",
            columns,
            rows,
        )
    _smooths(page, d)
    for part in parts:
        _correlations(page, part)
    words = [w for part in parts for w in (*correlation_words(part), *_vary_words(part))]
    words += residual_words(res, digits, several) if own is not None else []
    if res and "variance" not in res:
        for name, value in res.items():
            meaning = d.own_meanings.get(name, "")
            words.append(f"{OWN.get(name, name)} ({meaning}): {figure(value, digits)}.")
    words += _shared_and_explained(d)
    if words:
        page.text("\n".join(words))


def _shared_and_explained(d: FitResult) -> list[str]:
    """How alike two rows of one level are, and what the average effects and units explain."""
    out = []
    alike = [
        f"{c['group']}{' (' + c['outcome'] + ')' if c.get('outcome') else ''} {fixed(c['value'], 3)}"
        for c in d.get("icc") or []
        if c["value"] is not None
    ]
    if alike:
        out.append(f"Correlation of two rows of one level (ICC): {', '.join(alike)}.")
    r2 = d.get("r2") or {}
    if r2.get("marginal") is not None:
        units = f", {percent(r2['conditional'])} with the effects of units" if d["groups"] else ""
        out.append(f"Explained (R²): {percent(r2['marginal'])} by the average effects{units}.")
    return out


def _vary_words(part: dict[str, Any]) -> list[str]:
    """What the SDs of a clause's effects depend on."""
    out = []
    for row in part.get("vary", []):
        factor = None if row["estimate"] is None else math.exp(min(row["estimate"], 700.0))
        out.append(
            f"SD of the effects of {part['group']}, {row['label']}: times {figure(factor, 3)} (log {figure(row['estimate'], 3)}, SE "
            f"{figure(row['se'], 2)}); the SDs above are those at zero and the baseline."
        )
    return out


def _rows_of_outcomes(rows: list[tuple[str, ...]], res: dict[str, Any], digits: int) -> list[tuple[str, ...]]:
    """Variances of several outcomes, which have no shares of one another."""
    matrix, names = res["parameters"]["covariance"], res["parameters"]["occasions"]
    own = [
        ("residual", o, figure(root(matrix[i][i]), digits), figure(matrix[i][i], digits)) for i, o in enumerate(names)
    ]
    return [*(r[:4] for r in rows if r[1] != "all, mean over rows"), *own]


def _across_outcomes(parameters: dict[str, Any]) -> list[str]:
    """How the errors of several outcomes hang together inside a row, in words."""
    names, matrix, out = parameters["occasions"], parameters["covariance"], []
    for i, one in enumerate(names):
        for j in range(i):
            r = matrix[i][j] / math.sqrt(matrix[i][i] * matrix[j][j]) if matrix[i][i] > 0 and matrix[j][j] > 0 else 0.0
            way = "are hardly related" if abs(r) < 0.1 else "go up together" if r > 0 else "go opposite ways"
            out.append(f"The errors of {names[j]} and {one} in one row {way} (r = {r:+.2f}).")
    return out


def _smooths(page: Page, d: FitResult) -> None:
    made = d.get("smooths")
    if not made:
        return
    rows = [(s["smooth"], str(s["basis"]), fixed(s["edf"], 2), figure(s["sd"], 3), p_value(s["p"])) for s in made]
    page.table("Curves", ("curve", "functions", "effective\ndf", "SD of the\nwiggle", "p against\na line"), rows)
    straight = [s["smooth"] for s in made if s["sd"] == 0]
    page.text(
        "Effective df count line and wiggle (1: a straight line); p is that of the wiggle's variance at its boundary, zero."
        + (f" {' and '.join(straight)}: no bend, a straight line." if straight else "")
    )


def residual_words(res: dict[str, Any], digits: int, several: bool = False) -> list[str]:
    """How residuals of one unit, or of ``several`` outcomes of one row, hang together, and what their SD depends on."""
    out, parameters = [], res["parameters"]
    if res["structure"] == KNOWN:
        out.append("The SD of each row's error is known, so no residual variance is estimated.")
    if "by" in parameters:
        for row in parameters["levels"]:
            inside = residual_words(res | {"parameters": row["parameters"]}, digits)
            out.append(
                f"{parameters['by']} {row['level']}: residual SD {figure(root(row['variance']), digits)}. "
                + " ".join(inside)
            )
    if "rho" in parameters:
        rho = figure(parameters["rho"], 3)
        what = (
            f"rho = {rho} at a distance of one, rho^gap beyond"
            if res["structure"] == "ar1"
            else f"rho = {rho} for all pairs"
        )
        out.append(f"Residuals of one {res['unit']} are correlated ({res['structure']}): {what}.")
    if "range" in parameters:
        range_ = parameters["range"]
        fading = f"exp(-distance / {figure(range_, 3)})" if range_ else "not at all, the range is at zero"
        out.append(f"Residuals of one {res['unit']} are correlated (exponential): {fading}.")
    if "correlations" in parameters:
        r = ", ".join(figure(v, 3) for v in parameters["correlations"])
        out.append(f"Residuals of one {res['unit']} are correlated (toeplitz): {r} at 1, 2, ... occasions apart.")
    if several:
        out += _across_outcomes(parameters)
    elif "occasions" in parameters:
        out.append(f"Residuals of one {res['unit']} have a covariance of their own for every pair of occasions; SDs: "
                   + ", ".join(f"{o} {figure(root(parameters['covariance'][i][i]), digits)}"
                               for i, o in enumerate(parameters["occasions"])) + ".")  # fmt: skip
    for row in parameters.get("spread", []):
        factor = None if row["estimate"] is None else math.exp(min(row["estimate"], 700.0))
        out.append(
            f"Residual SD, {row['label']}: times {figure(factor, 3)} (log {figure(row['estimate'], 3)}, SE {figure(row['se'], 2)})."
        )
    for x, unit, *both in parts_of({r["term"]: r["estimate"] for r in parameters.get("spread", [])}):
        one, other = (figure(math.exp(min(v, 700.0)), 3) for v in both)
        out.append(
            f"Rows of one {unit} with 1 more {x} have {one} times the residual SD; levels of {unit} whose mean of {x} is 1 higher {other} times."
        )
    if "spread" in parameters:
        out.append("The residual SD and variance above are those of the baseline.")
    return out


def _correlations(page: Page, part: dict[str, Any]) -> None:
    """Many correlations as a small matrix."""
    terms = part["terms"]
    if len(terms) < MANY_TERMS or part["structure"] in ("diagonal", "identity"):
        return
    numbers = [str(i + 1) for i in range(len(terms))]
    rows = [
        (f"{i + 1} {t}", *("" if j >= i else "—" if r is None else f"{r:+.2f}" for j, r in enumerate(row[:-1])))
        for i, (t, row) in enumerate(zip(terms, part["correlation"]))
    ]
    page.table(f"Correlations of the effects of {part['group']}", ("", *numbers[:-1]), rows)


def correlation_words(part: dict[str, Any]) -> list[str]:
    """Each correlation as a sentence; of many terms none, since they stand in a matrix."""
    out: list[str] = []
    terms = part["terms"]
    if len(terms) >= MANY_TERMS:
        return out
    for i in range(len(terms)):
        for j in range(i):
            r = part["correlation"][i][j]
            if r is None or (r == 0 and part["structure"] in ("diagonal", "identity")):
                continue
            unit = a_or_an(part["group"])
            if "spread" in (terms[j], terms[i]):
                out.append(
                    spread_words(
                        part["group"],
                        next(t for t in (terms[j], terms[i]) if t != "spread"),
                        r,
                        part["sd"][terms.index("spread")],
                    )
                )
                continue
            a, b = _effect(terms[j]), _effect(terms[i])
            if "zeros" in (terms[j], terms[i]):
                other = next((t for t in (terms[j], terms[i]) if t != "zeros"), "zeros")
                out.append(_zeros_words(unit, _effect(other), r))
                continue
            if abs(r) < 0.1:
                out.append(f"{unit[0].upper()}{unit[1:]}'s {a} and its {b} are all but unrelated (r = {r:+.2f}).")
            else:
                strength = "nearly always" if abs(r) > 0.9 else "mostly" if abs(r) > 0.5 else "somewhat more often"
                way = "higher" if r > 0 else "lower"
                out.append(f"Where {unit}'s {a} is higher, its {b} is {strength} {way} (r = {r:+.2f}).")
    return out


def _zeros_words(unit: str, effect: str, r: float) -> str:
    """How the probability of zeros goes with another effect of a unit."""
    if abs(r) < 0.1:
        return f"{unit[0].upper()}{unit[1:]}'s {effect} and how often it has zeros of its own are all but unrelated (r = {r:+.2f})."
    strength = "nearly always " if abs(r) > 0.9 else "mostly " if abs(r) > 0.5 else ""
    return f"Where {unit}'s {effect} is higher, zeros of its own are {strength}{'more' if r > 0 else 'less'} frequent (r = {r:+.2f})."


def spread_words(group: str, term: str, r: float, sd: float) -> str:
    """How the spread of a unit, whose log has this SD, goes with another of its effects."""
    if sd < EVEN:
        return f"{group[0].upper()}{group[1:]}s hardly differ in how much they scatter."
    what = "a higher intercept" if term == "intercept" else f"a larger {term} effect"
    if abs(r) < 0.1:
        return f"How much {a_or_an(group)} scatters is all but unrelated to its {'intercept' if term == 'intercept' else term + ' effect'} (r = {r:+.2f})."
    strength = "nearly always " if abs(r) > 0.9 else "mostly " if abs(r) > 0.5 else ""
    return f"{group[0].upper()}{group[1:]}s with {what} {strength}scatter {'more' if r > 0 else 'less'} (r = {r:+.2f})."


def _effect(term: str) -> str:
    return term if term == "intercept" or term.endswith(": intercept") else f"{term} effect"


def _likelihood(page: Page, d: FitResult, digits: int) -> None:
    f = d["fit"]
    if f["loglik"] is None and d.get("imputation"):
        page.text(_converged(d))
        return
    name = "restricted log-likelihood" if d["method"] == "REML" else "log-likelihood"
    figures = f"{name} {fixed(f['loglik'], 3)}, deviance {fixed(f['deviance'], 2)}, "
    figures += f"AIC {fixed(f['aic'], 2)}, BIC {fixed(f['bic'], 2)}, {count(f['n_parameters'], 'parameter')}"
    page.text(f"Likelihood: {figures}.\n{_converged(d)}")


def _converged(d: FitResult) -> str:
    c = d["convergence"]
    if not c["converged"]:
        return f"NOT {'CONVERGED' if c.get('identified', True) else 'IDENTIFIED'}: see above."
    where = ", on the boundary: see above" if c["boundary"] else ""
    how = (
        f"after {count(c['iterations'], 'step')} of the search"
        if c["iterations"]
        else "found at once, without a search"
    )
    return f"Converged: {how}{where}."
