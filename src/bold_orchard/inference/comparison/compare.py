"""Comparing fits by likelihood: ratio tests, information criteria, and what they rest on."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from itertools import pairwise
from typing import Any

import numpy as np

from bold_orchard.errors import OrchardError
from bold_orchard.inference.comparison.boundary_law import simulated_p
from bold_orchard.inference.comparison.explained import differing, scale_of, variance_explained
from bold_orchard.inference.comparison.nested import Relation, relation, same_columns
from bold_orchard.inference.comparison.scales import common_column, log_jacobian
from bold_orchard.inference.distributions import half_and_half, p_of_chisq
from bold_orchard.inference.fit import Fit, by_ml, fit
from bold_orchard.inference.intervals.bootstrap import bootstrap_p
from bold_orchard.inference.prediction.compared import compared_lines
from bold_orchard.inference.summary import number
from bold_orchard.progress import Progress, silent
from bold_orchard.results.compare import CompareResult

SCHEMA = "bold-orchard/compare/1"
TIE = 1e-7  # of a deviance: two searches for one maximum agree to this


def compare(
    fits: Sequence[Fit], force: bool = False, common_rows: bool = False, samples: int = 0, seed: int = 0,
    progress: Progress | None = None, against: str | None = None,
) -> CompareResult:  # fmt: skip
    """The answer of ``orchard compare``: fits ordered by size, tests of consecutive pairs, or of all pairs with ``against``.

    Fits of one column on several scales (y, log(y)) are compared on the column's own. REML fits whose fixed parts differ are refitted by ML; with ``common_rows`` fits of different rows are refitted on the
    rows they share; ``samples`` above 0 adds a bootstrap p to every test. Raises OrchardError for different outcomes or
    rows, and for fits that did not converge unless ``force``.
    """
    notes: list[str] = []
    comparable(fits, force)
    scales = len({f.design.outcome for f in fits}) > 1
    column = common_column(fits) if scales else ""
    if common_rows:
        fits = _on_common_rows(fits, notes)
    for other in fits[1:]:
        same_rows(fits[0], other, column)
    ordered = sorted(fits, key=lambda f: f.result["fit"]["n_parameters"])
    method, refitted, reason = _common_method(ordered)
    compared = [by_ml(f, method.lower()) if f.name in refitted else f for f in ordered]
    shift = {f.name: log_jacobian(f, column) if scales else 0.0 for f in compared}
    if method == "REML":
        shift = _on_common_columns(compared, notes)
    models = [_figures(f, shift[f.name]) for f in compared]
    _relative(models)
    if refitted:
        notes.append(f"{', '.join(refitted)}: refitted by ML for this comparison, because {reason}.")
    tests, bic = [], {m["name"]: m["bic"] for m in models}
    pairs = list(pairwise(compared)) if against is None else _pairs_with(compared, against)
    deviance = {m["name"]: m["deviance"] for m in models}
    moved = [f for f in compared if scales and shift[f.name]]
    notes += [
        f"{f.name} explains {f.design.outcome}: its log-likelihood is told on the scale of {column}, by adding the sum of "
        f"log |d {f.design.outcome} / d {column}| (the Jacobian), {shift[f.name]:.4f}."
        for f in moved
    ]
    for place, (small, large) in enumerate(pairs):
        test, words = _test(small, large, seed, bic, deviance)
        if samples and test["nested"]:
            _bootstrap(test, words, small, large, samples, seed, place * samples, len(pairs) * samples, progress)
        tests.append(test)
        notes += words
    notes += [*_disagreement(models), *_by_signs(compared)]
    document = {
        "schema": SCHEMA,
        "method": method,
        "refitted": refitted,
        "outcome": column or fits[0].design.outcome,
        "rows": fits[0].design.n_rows,
        "models": models,
        "tests": tests,
        "notes": notes,
    }
    return CompareResult.from_dict(document).with_keys(lines=None if scales else compared_lines(compared))


def _on_common_columns(fits: Sequence[Fit], notes: list[str]) -> dict[str, float]:
    """What each restricted log-likelihood gains when the columns of X are those of the first fit, which span the same space.

    The criterion holds log|X'V^-1X|, which changes with the units of the columns by log|X'X|.
    """
    first, out = fits[0], {f.name: 0.0 for f in fits}
    other = [f for f in fits[1:] if not same_columns(first.design, f.design)]
    if not other:
        return out
    own = {f.name: f.model.column_space.log_determinant for f in (first, *other)}
    for f in other:
        out[f.name] = 0.5 * (own[f.name] - own[first.name])
    notes.append(
        f"{', '.join(f.name for f in other)}: the same fixed part as in {first.name} in other columns; restricted log-likelihoods, which "
        f"depend on the columns' units, are all stated for those of {first.name}."
    )
    return out


def _bootstrap(
    test: dict[str, Any], words: list[str], small: Fit, large: Fit, samples: int, seed: int, done: int, total: int,
    progress: Progress | None,
) -> None:  # fmt: skip
    """Add the bootstrap p to a test."""
    report = progress or silent
    p, counted = bootstrap_p(small, large, samples, seed, lambda d, _: report(done + d, total))
    test["p_bootstrap"] = number(p)
    lost = f"; {samples - counted:,} refits did not converge and were left out" if counted < samples else ""
    words.append(
        f"{large.name} against {small.name}: {counted:,} outcomes simulated from {small.name} (seed {seed}){lost}; "
        "the bootstrap p rests on no large-sample law, so believe it where the p-values differ."
    )


def _by_signs(fits: list[Fit]) -> list[str]:
    """Monte-Carlo errors of log-likelihoods that random signs estimate."""
    errors = [m["loglik"] for f in fits if (m := f.result.document.get("monte_carlo"))]
    if not errors:
        return []
    most = 2.0 * float(np.sqrt(2.0)) * max(errors)
    return [
        f"Log-likelihoods of crossings as large as these carry a Monte-Carlo error, at most {max(errors):.1g}: one of {most:.1g} at most in "
        "chi-squared and in differences of AIC and BIC."
    ]


def _on_common_rows(fits: Sequence[Fit], notes: list[str]) -> list[Fit]:
    """Refit on the rows that all fits used; the data must be the same file."""
    rows = reduce(np.intersect1d, [f.own_table.row_numbers for f in fits])
    if not len(rows):
        raise OrchardError(f"{' and '.join(f.name for f in fits)} have no row in common")
    out = []
    for f in fits:
        table = f.own_table
        if len(table) > len(rows):
            kept = np.isin(table.row_numbers, rows)
            again = fit(f.design.sentence.of_rows, table.take(kept), f.settings, f.name)
            if not again.converged:
                raise OrchardError(f"'{f.name}' did not converge on the {len(rows):,} rows in common")
            notes.append(f"{f.name}: refitted on the {len(rows):,} rows that all fits share, of its {len(table):,}.")
            f = again
        out.append(f)
    return out


def same_question(fits: Sequence[Fit], force: bool) -> None:
    """Raise OrchardError unless the fits explain one outcome, each once, and converged (or ``force``)."""
    comparable(fits, force)
    other = next((f for f in fits if f.design.outcome != fits[0].design.outcome), None)
    if other is not None:
        raise OrchardError(
            f"'{fits[0].name}' explains {fits[0].design.outcome} and '{other.name}' {other.design.outcome}; "
            "variances of different outcomes cannot be compared"
        )


def comparable(fits: Sequence[Fit], force: bool) -> None:
    """Raise OrchardError unless the fits stand there once each, converged (or ``force``) and are of one measure."""
    if len(fits) < 2:
        raise OrchardError("compare needs two fits or more: orchard compare m1 m2")
    names = [f.name for f in fits]
    for i, name in enumerate(names):
        if name in names[:i]:
            raise OrchardError(f"'{name}' stands twice in the comparison; name each fit once")
    first = fits[0]
    for other in fits:
        if not other.converged and not force:
            raise OrchardError(
                f"the fit '{other.name}' did not converge, so its likelihood means nothing; mend it, or --force"
            )
        if _counted(other) != _counted(first):
            raise OrchardError(
                f"the likelihood of '{first.name}' is of {_counted(first)} and that of '{other.name}' of {_counted(other)}, so they cannot be compared"
            )
        if other.design.outcomes != first.design.outcomes and set(other.design.outcomes) == set(first.design.outcomes):
            raise OrchardError(
                f"'{first.name}' and '{other.name}' name the same outcomes in another order; write them in one order and fit again"
            )


def _counted(fit: Fit) -> str:
    """What the likelihood is a probability of: families of one kind share their constants."""
    return fit.model.family.measure


def same_rows(a: Fit, b: Fit, column: str = "") -> None:
    """Raise OrchardError, naming the rows, unless two fits used the same rows, outcome (or ``column`` of it) and weights."""
    if a.design.counts is not None and b.design.counts is not None:
        _same_sums(a, b)
        return
    a, b = a.of_table, b.of_table
    one, two = a.design.table.row_numbers, b.design.table.row_numbers
    if len(one) == len(two) and np.array_equal(one, two):
        y, z = (f.design.table.numbers(column) if column else f.design.outcome_values for f in (a, b))
        if not np.allclose(y, z, rtol=1e-9, atol=0):
            raise OrchardError(f"'{a.name}' and '{b.name}' were fitted to different data; fit both to the same file")
        w, v = (None if f.design.known_errors else f.design.weights for f in (a, b))
        if (w is None) != (v is None) or (w is not None and v is not None and not np.array_equal(w, v)):
            raise OrchardError(f"'{a.name}' and '{b.name}' use different weights; their likelihoods cannot be compared")
        return
    only = np.setdiff1d(one, two), np.setdiff1d(two, one)
    parts = [f"{len(r):,} only in '{f.name}' (row {', '.join(map(str, r[:3]))}{', ...' if len(r) > 3 else ''})"
             for r, f in zip(only, (a, b)) if len(r)]  # fmt: skip
    raise OrchardError(
        f"'{a.name}' used {len(one):,} rows and '{b.name}' {len(two):,}: {'; '.join(parts)}. Likelihoods compare on "
        "the same rows only: add --common-rows to refit on those they share, or fill the covariate that loses rows"
    )


def _same_sums(a: Fit, b: Fit) -> None:
    """The same of fits whose rows were summed: rows read and used, and the mean and square of the outcome."""
    one, two = ((f.design.rows["read"], f.design.rows["used"]) for f in (a, b))
    here, there = ([f.design.mean_of(y), f.design.mean_of(y**2)] for f in (a, b) for y in [f.design.outcome_values])
    if one != two or not np.allclose(here, there, rtol=1e-9, atol=0):
        raise OrchardError(
            f"'{a.name}' used {one[1]:,} of {one[0]:,} rows and '{b.name}' {two[1]:,} of {two[0]:,}, or other outcomes; fit both to the same rows"
        )


def _pairs_with(fits: Sequence[Fit], name: str) -> list[tuple[Fit, Fit]]:
    """Every other fit with the one named, the smaller first."""
    at = next((i for i, f in enumerate(fits) if f.name == name), None)
    if at is None:
        raise OrchardError(f"--against {name}: that fit is not in the comparison")
    return [(f, fits[at]) if i < at else (fits[at], f) for i, f in enumerate(fits) if i != at]


def _common_method(fits: Sequence[Fit]) -> tuple[str, list[str], str]:
    methods = {f.result["method"] for f in fits}
    if not all(f.design.additive for f in fits):
        gaussian = [f.name for f in fits if f.result["method"] == "REML"]
        others = sorted(methods - {"REML", "ML"})
        return " and ".join(others), gaussian, "only full likelihoods of different families compare"
    if len({f.design.outcome for f in fits}) > 1:
        reml = [f.name for f in fits if f.result["method"] == "REML"]
        return "ML", reml, "REML likelihoods of an outcome on two scales do not compare"
    fixed_differ = not all(relation(a.design, b.design).same_fixed for a, b in pairwise(fits))
    if methods == {"REML"} and not fixed_differ:
        return "REML", [], ""
    reason = "REML likelihoods of models with different fixed parts do not compare"
    if not fixed_differ:
        reason = "REML and ML likelihoods do not compare"
    return "ML", [f.name for f in fits if f.result["method"] == "REML"], reason


def _figures(fit: Fit, shift: float) -> dict[str, Any]:
    """Figures of one model; ``shift`` is added to its log-likelihood."""
    figures = {k: v if v is None or k == "n_parameters" else v + (shift if k == "loglik" else -2.0 * shift)
               for k, v in fit.result["fit"].items()}  # fmt: skip
    k, n = figures["n_parameters"], fit.design.n_rows
    room = n - k - 1
    return {
        "name": fit.name,
        "model": fit.result["model"],
        "n_parameters": k,
        "loglik": figures["loglik"],
        "deviance": figures["deviance"],
        "aic": figures["aic"],
        "aicc": number(figures["aic"] + 2 * k * (k + 1) / room) if room > 0 else None,
        "bic": figures["bic"],
        "converged": fit.converged,
        "boundary": fit.result["convergence"]["boundary"],
    }


def _relative(models: list[dict[str, Any]]) -> None:
    aic = np.array([m["aic"] for m in models])
    bic = np.array([m["bic"] for m in models])
    weight = np.exp(-0.5 * (aic - aic.min()))
    for i, m in enumerate(models):
        m["delta_aic"] = number(aic[i] - aic.min())
        m["delta_bic"] = number(bic[i] - bic.min())
        m["akaike_weight"] = number(weight[i] / weight.sum())


def _test(
    small: Fit, large: Fit, seed: int, bic: dict[str, float], deviance: dict[str, float]
) -> tuple[dict[str, Any], list[str]]:
    """One pair; ``bic`` and ``deviance`` by name, as compared."""
    chisq = deviance[small.name] - deviance[large.name]
    link = relation(small.design, large.design)
    apart = small.design.outcome != large.design.outcome
    df = large.result["fit"]["n_parameters"] - small.result["fit"]["n_parameters"]
    notes = [] if apart else differing(small, large)
    evidence = 0.5 * (bic[small.name] - bic[large.name])
    test: dict[str, Any] = {
        "smaller": small.name,
        "larger": large.name,
        "nested": link.nested and df > 0 and not apart,
        "chisq": None,
        "df": None,
        "p": None,
        "p_boundary": None,
        "p_bootstrap": None,
        "bayes_factor": number(np.exp(evidence)) if evidence < 700 else None,
        "variance_explained": [] if apart else variance_explained(small, large),
    }
    if not test["nested"]:
        words = f"{small.name} is not a special case of {large.name}, so no ratio test applies; use AIC or BIC."
        tie = df == 0 and abs(chisq) < TIE * (1.0 + abs(deviance[small.name]))
        if tie and link.same_fixed and (apart or link.nested):
            words = f"{small.name} and {large.name} are the same model in other words."
        elif apart:
            words = f"{small.name} and {large.name} explain the outcome on two scales, so no ratio test applies; use AIC or BIC."
        elif df == 0 and link.nested:
            words = (
                f"{small.name} and {large.name} have equally many parameters, so no ratio test applies; use AIC or BIC."
            )
        return test, [words, *notes]
    test |= {"chisq": number(max(chisq, 0.0)), "df": df, "p": number(p_of_chisq(chisq, df))}
    bounds = _boundary(test, small, large, chisq, link, seed) if link.extra_effects else []
    return test, bounds + notes + _order_note(small, large, chisq)


def _boundary(test: dict[str, Any], small: Fit, large: Fit, chisq: float, link: Relation, seed: int) -> list[str]:
    """Add the p-value of a test with variances at zero; returns what to say about it."""
    df, what = (
        test["df"],
        "a variance" if scale_of(small) == scale_of(large) else "variation beyond the simpler family's",
    )
    if link.extra_effects == 1:
        test["p_boundary"] = number(half_and_half(chisq, df))
        return [
            f"{large.name} against {small.name} tests {what} at its boundary, zero: read p_boundary, the half-and-half "
            f"mixture of chi-squared with {df - 1} and {df} df; the plain p is too large."
        ]
    p = simulated_p(small, large, chisq, df, seed)
    if p is None:
        return [
            f"{large.name} against {small.name} tests {link.extra_effects} variances at zero at once, and their joint law is "
            "out of reach here: the plain p is too large. Add --bootstrap 1000, or one random effect at a time."
        ]
    test["p_boundary"] = number(p)
    return [
        f"{large.name} against {small.name} tests {link.extra_effects} variances at zero at once: read p_boundary, from the "
        f"mixture of chi-squared laws simulated for this design (seed {seed}); the plain p is too large."
    ]


def _order_note(small: Fit, large: Fit, chisq: float) -> list[str]:
    if chisq < -1e-6:
        return [f"The larger model {large.name} fits worse than {small.name}, which cannot be: one search failed."]
    return []


def _disagreement(models: list[dict[str, Any]]) -> list[str]:
    best_aic, best_bic = _best(models, "aic"), _best(models, "bic")
    if best_aic == best_bic:
        return [f"AIC and BIC both prefer {_alike(best_aic)}."]
    return [
        f"AIC prefers {_alike(best_aic)}, BIC {_alike(best_bic)}: AIC rewards prediction of new rows, BIC asks for strong evidence "
        "before it admits a parameter."
    ]


def _best(models: list[dict[str, Any]], key: str) -> list[str]:
    """The models with the least criterion; more than one where they tie."""
    least = min(m[key] for m in models)
    return [m["name"] for m in models if m[key] - least < TIE * (1.0 + abs(least))]


def _alike(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{' and '.join(names)} alike"
