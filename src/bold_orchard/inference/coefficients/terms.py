"""Tests of fixed terms: F with chosen denominators, or Wald chi-squared; sequential, partial or marginal."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.design.design import Design
from bold_orchard.design.model_matrix import ModelMatrix, build_part
from bold_orchard.design.transformations import Numeric
from bold_orchard.errors import OrchardError
from bold_orchard.inference.coefficients.contrasts import contrast
from bold_orchard.inference.coefficients.effect_sizes import effect_sizes
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.coefficients.strata import Strata
from bold_orchard.inference.distributions import p_of_chisq
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.results.terms import TermsResult

Array = NDArray[Any]
SCHEMA = "bold-orchard/terms/1"


def terms(
    fit: Fit, kind: int = 3, df_method: str | None = None, chisq: bool = False, force: bool = False, ratio: bool = False,
    contrasts: Sequence[str] = (), confidence: float | None = None, sizes: bool = False,
) -> TermsResult:  # fmt: skip
    """The document of ``orchard terms``; ``kind`` is 1 (sequential), 2 (partial) or 3 (marginal).

    With ``ratio`` each hypothesis is tested by the likelihood of the model without it, fitted anew by maximum likelihood. With ``sizes`` effect sizes stand
    beside the tests.

    Raises OrchardError for a fit that did not converge (unless ``force``) and for a model without terms to test.
    """
    if not fit.converged and not force:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so its tests mean nothing; mend it, or --force")
    method = df_method or fit.settings.df
    chisq = chisq or method == "normal"
    kept = fit.criterion.products.standard.kept
    hypotheses = {1: sequential, 2: partial, 3: marginal}[kind](fit) if kept else []
    if not hypotheses:
        raise OrchardError(f"'{fit.name}' has no fixed term beside the intercept, so there is nothing to test")
    known, level = fit.precision(method), confidence or fit.settings.confidence
    tests = [_test(fit, known, name, rows, kind, ratio, chisq) for name, rows in hypotheses]
    if fit.design.additive and not ratio:
        strata = Strata(fit)
        tests = [t | {"stratum": strata.of(independent(rows))} for t, (_, rows) in zip(tests, hypotheses)]
    if sizes:
        tests = [t | effect_sizes(fit, t["term"], t) for t in tests]
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "type": kind,
        "df_method": method,
        "tests": tests,
        "contrasts": [contrast(fit, text, df_method, level) for text in contrasts],
        "confidence": level,
        "by": "likelihood ratio" if ratio else "Wald",
        "notes": _notes(fit, kind),
    }
    return TermsResult.from_dict(document)


def _test(
    fit: Fit, known: CoefficientInference, name: str, rows: Array, kind: int, ratio: bool, chisq: bool
) -> dict[str, Any]:
    """One term's test, and those of its parts."""

    def test(r: Array) -> dict[str, Any]:
        return likelihood_test(fit, r) if ratio else joint_test(known, r, chisq)

    return {"term": name} | test(rows) | _parts(fit, name, rows, kind, test)


def _parts(fit: Fit, name: str, rows: Array, kind: int, test: Callable[[Array], dict[str, Any]]) -> dict[str, Any]:
    """Of power(x, k) and its products the same test for each power, the lower ones before it (type 1) or all in (2, 3)."""
    part = fit.design.fixed
    own = [d for d, o in zip(part.degrees, part.owner) if str(part.terms[o]) == name]
    if not own or None in own or len(own) != len(rows):
        return {}
    places = {d: [i for i, o in enumerate(own) if o == d] for d in own}
    each = {d: rows[at] for d, at in places.items()}
    if kind == 2:
        x, kept = _columns(fit)
        term, columns = next((t, at) for t, at in _kept_terms(fit.design, kept) if str(part.terms[t]) == name)
        each = {d: _after_others(fit, x, kept, term, [columns[i] for i in at]) for d, at in places.items()}
    return {"parts": [{"term": str(d)} | test(r) for d, r in each.items()]}


def joint_test(known: CoefficientInference, rows: Array, chisq: bool) -> dict[str, Any]:
    """Test rows @ b = 0, rows (q, p'), by F, or by Wald chi-squared."""
    rows = independent(rows)
    q = len(rows)
    if q == 0:
        return dict.fromkeys(("statistic", "value", "num_df", "den_df", "p"))
    away = rows @ known.e.b
    wald = float(away @ np.linalg.solve(rows @ known.covariance @ rows.T, away))
    den, scale = (None, 1.0) if chisq else known.test(rows)
    if den is None:
        name, value, p = "chisq", wald, p_of_chisq(wald, q)
    else:
        name, value = "F", scale * wald / q
        p = float(special.fdtrc(q, den, value))
    return {"statistic": name, "value": number(value), "num_df": q, "den_df": den, "p": number(p)}


def likelihood_test(fit: Fit, rows: Array) -> dict[str, Any]:
    """Likelihood-ratio chi-squared of rows @ b = 0: the larger model against X confined to the null space of the rows."""
    rows = independent(rows)
    if not len(rows):
        return dict.fromkeys(("statistic", "value", "num_df", "den_df", "p"))
    _, _, vt = np.linalg.svd(rows)
    value = max(fit.model.constrained(vt[len(rows) :].T) - fit.model.constrained(np.eye(rows.shape[1])), 0.0)
    return {"statistic": "chisq", "value": number(value), "num_df": len(rows), "den_df": None,
            "p": number(p_of_chisq(value, len(rows)))}  # fmt: skip


def independent(rows: Array) -> Array:
    """A basis of the row space, (rank, p')."""
    if not len(rows):
        return rows
    size = np.linalg.norm(rows, axis=1, keepdims=True)
    _, s, vt = np.linalg.svd(rows / np.where(size > 0, size, 1.0), full_matrices=False)
    return vt[s > 1e-9 * max(s[0], 1e-300)] if s[0] > 1e-9 else rows[:0]


def _kept_terms(design: Design, kept: list[int]) -> list[tuple[int, list[int]]]:
    """(term, positions among the kept coefficients) for every term but the intercept."""
    owner = [design.fixed.owner[c] for c in kept]
    out = []
    for index, term in enumerate(design.fixed.terms):
        if not term.is_intercept:
            out.append((index, [i for i, o in enumerate(owner) if o == index]))
    return out


def _columns(fit: Fit) -> tuple[Array, list[int]]:
    """X of the kept columns; those of grades centred, since thresholds stand for the intercept."""
    kept = fit.evaluation.criterion.products.standard.kept
    x = np.column_stack([fit.design.fixed.values[c] * fit.design.root_counts() for c in kept])
    return (x - x.mean(axis=0) if fit.design.graded else x), kept


def sequential(fit: Fit) -> list[tuple[str, Array]]:
    """Type 1: each term after those before it; rows of the triangular factor of X'X."""
    x, kept = _columns(fit)
    r = np.linalg.qr(x / np.linalg.norm(x, axis=0), mode="r") * np.linalg.norm(x, axis=0)
    return [(str(fit.design.fixed.terms[t]), r[at]) for t, at in _kept_terms(fit.design, kept)]


def partial(fit: Fit) -> list[tuple[str, Array]]:
    """Type 2: each term after every term that does not contain it."""
    x, kept = _columns(fit)
    all_terms = fit.design.fixed.terms
    return [(str(all_terms[t]), _after_others(fit, x, kept, t, at)) for t, at in _kept_terms(fit.design, kept)]


def _after_others(fit: Fit, x: Array, kept: list[int], term: int, at: list[int]) -> Array:
    """Rows of the columns ``at`` of a term after all columns of terms that do not contain it, and its own other ones."""
    all_terms = fit.design.fixed.terms
    owner = [fit.design.fixed.owner[c] for c in kept]
    above = {i for i, u in enumerate(all_terms) if all_terms[term].key < u.key}
    first = [i for i, o in enumerate(owner) if i not in at and o not in above]
    order = [*first, *at, *(i for i, o in enumerate(owner) if o in above)]
    norms = np.linalg.norm(x[:, order], axis=0)
    r = np.linalg.qr(x[:, order] / norms, mode="r") * norms
    rows = np.zeros((len(at), len(order)))
    rows[:, order] = r[len(first) : len(first) + len(at)]
    return rows


def marginal(fit: Fit) -> list[tuple[str, Array]]:
    """Type 3: each term with all others in, under sum-to-zero contrasts whatever coding was fitted."""
    design = fit.design
    root = design.root_counts()
    x = np.column_stack([design.fixed.values[c] * root for c in fit.evaluation.criterion.products.standard.kept])
    sums = _sum_coded(design)
    z = np.column_stack([v * root for v in sums.values])
    norms = np.linalg.norm(z, axis=0)
    to_sums = (
        np.linalg.lstsq(z / np.where(norms > 0, norms, 1.0), x, rcond=1e-10)[0]
        / np.where(norms > 0, norms, 1.0)[:, None]
    )
    out = []
    for index, term in enumerate(sums.terms):
        if not term.is_intercept:
            out.append((str(term), to_sums[[i for i, o in enumerate(sums.owner) if o == index]]))
    return out


def _sum_coded(design: Design) -> ModelMatrix:
    maker = design.maker()
    plain = tuple(t for t in design.fixed.terms if not t.is_intercept)
    made = build_part(plain, design.sentence.intercept, maker, sums=True)
    if design.counts is None:
        return made
    own = dict(zip(design.fixed.names, design.fixed.values))  # products of numbers are known as they were summed
    numbers = [all(isinstance(maker.make(f), Numeric) for f in made.terms[o].factors) for o in made.owner]
    return replace(
        made, values=tuple(own.get(n, v) if number else v for n, v, number in zip(made.names, made.values, numbers))
    )


def _notes(fit: Fit, kind: int) -> list[str]:
    products = any(len(t.factors) > 1 for t in fit.design.fixed.terms)
    notes = []
    if kind == 3 and products:
        notes.append(
            "Type 3 tests a main effect averaged over the levels it interacts with (and at zero of covariates); where a "
            "product matters, look at orchard means before you speak of main effects."
        )
    if kind == 1:
        notes.append("Type 1 tests depend on the order of the terms in the sentence.")
    return notes
