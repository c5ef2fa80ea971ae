"""What a study is to find: a term, a coefficient, a contrast, or the SD of units' effects, with the value it is assumed to have."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.build import build_design
from bold_orchard.design.design import Design
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.assumed import Assumed, changed
from bold_orchard.inference.coefficients.contrasts import combination
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.edit import with_clause

Array = NDArray[Any]


@dataclass(frozen=True)
class Wanted:
    """One effect: ``text`` as it is told, ``value`` assumed (None: as it is, of several coefficients).

    ``term`` is tested as the table of terms does; else ``rows`` (1, p') over the kept coefficients; else ``smaller``, the design
    without the units' effect whose SD it is.
    """

    text: str
    value: float | None
    term: str | None = None
    rows: Array | None = None
    smaller: Design | None = None


def read_effects(fit: Fit, assumed: Assumed, texts: Sequence[str]) -> tuple[list[Wanted], Assumed]:
    """The effects named, "TERM = VALUE" or a term alone, and the parameters with these values; all terms where none is named.

    Raises OrchardError for an effect the model lacks and for values that contradict each other.
    """
    terms = _columns_of_terms(fit)
    texts = list(texts) or list(terms)
    if not texts:
        raise OrchardError(
            f"'{fit.name}' has no fixed term beside the intercept; name an SD: --effect \"sd(UNIT: intercept)\""
        )
    out: list[Wanted] = []
    aims: list[tuple[Array, float]] = []
    sds: dict[str, float] = {}
    for text in texts:
        name, value = _split(text)
        if re.match(r"(sd|correlation)\s*\(", name):
            made = _of_variation(fit, assumed, name, value)
            sds |= {} if value is None else {made.text: value}
        else:
            made = _of_fixed(fit, assumed, terms, name, value)
            row = made.rows if made.rows is not None else _only(fit, terms[str(made.term)])
            if value is not None:
                aims.append((np.asarray(row)[0], value))
        out.append(made)
    if sds:
        assumed = changed(assumed, fit.design, sds)
    return out, _aimed(fit, assumed, aims)


def _split(text: str) -> tuple[str, float | None]:
    name, sign, value = text.rpartition("=")
    if not sign:
        return text.strip(), None
    try:
        made = float(value)
    except ValueError:
        made = float("nan")
    if not np.isfinite(made):
        raise UsageError(
            f"the value of an effect is a number: --effect \"{name.strip()} = 0.5\", not '{value.strip()}'"
        )
    return name.strip(), made


def _columns_of_terms(fit: Fit) -> dict[str, list[int]]:
    """Terms but the intercept, with their places among the kept coefficients."""
    part, kept = fit.design.fixed, fit.model.kept
    out: dict[str, list[int]] = {str(t): [] for t in part.terms if t.alone.factors}
    for place, column in enumerate(kept):
        term = part.terms[part.owner[column]]
        if term.alone.factors:
            out[str(term)].append(place)
    return {t: at for t, at in out.items() if at}


def _only(fit: Fit, places: list[int]) -> Array:
    return np.eye(len(fit.model.kept))[places[:1]]


def _of_fixed(fit: Fit, assumed: Assumed, terms: dict[str, list[int]], name: str, value: float | None) -> Wanted:
    same = {re.sub(r"\s", "", t): t for t in terms}
    term, b = same.get(re.sub(r"\s", "", name)), assumed.b[fit.model.kept]
    if term is not None:
        places = terms[term]
        if len(places) == 1:
            return Wanted(term, float(b[places[0]]) if value is None else value, term)
        if value is not None:
            names = [fit.design.fixed.names[fit.model.kept[i]] for i in places]
            raise UsageError(f"{term} has {len(places)} coefficients, so one value does not tell them; write --effect \"{names[0]} = {value:g}\""
                             f" (or {', '.join(names[1:3])}), or --effect \"{term}\" for its test at the estimates")  # fmt: skip
        return Wanted(term, None, term)
    row, constant = combination(fit, name)
    if constant:
        raise UsageError(f"an effect is a sum of coefficients or levels without a number of its own: '{name}'")
    return Wanted(name, float(row @ b) if value is None else value, rows=row[None, :])


def _of_variation(fit: Fit, assumed: Assumed, text: str, value: float | None) -> Wanted:
    sds = [p for own in fit.catalogue.clauses for p in own.sds]
    try:
        parameter = fit.catalogue.find(text, sds, f"the fit {fit.name!r}")
    except OrchardError:
        there = ", ".join(p.label for p in sds) or "none"
        raise OrchardError(f"'{text}' is no effect that can be tested for; the SDs of this model: {there}") from None
    name = parameter.label
    if value is not None and not value > 0:
        raise UsageError(f"{name} = {value:g} is nothing to find; give an SD above zero")
    assert parameter.clause is not None
    clause, column = fit.design.clauses[parameter.clause], parameter.places[0]
    owner = clause.part.owner[column]
    if clause.part.owner.count(owner) > 1:
        raise OrchardError(
            f"{clause.part.terms[owner]} of {fit.design.units[clause.unit].name} has several SDs, which vanish together only"
        )
    each = fit.design.sentence.clauses[parameter.clause]
    left = tuple(t for i, t in enumerate(each.terms) if i != owner)
    sentence = with_clause(fit.design.sentence, parameter.clause, left)
    smaller = replace(build_design(sentence, fit.design.table, fit.settings.options), memory=fit.design.memory)
    place = clause.columns.start + column
    estimate = float(np.sqrt(assumed.covariances[clause.block][place, place]))
    return Wanted(name, estimate if value is None else value, smaller=smaller)


def _aimed(fit: Fit, assumed: Assumed, aims: list[tuple[Array, float]]) -> Assumed:
    """The coefficients moved as little as possible so that every combination has its value."""
    if not aims:
        return assumed
    rows, values = np.array([r for r, _ in aims]), np.array([v for _, v in aims])
    b, kept = assumed.b.copy(), fit.model.kept
    b[kept] += np.linalg.pinv(rows) @ (values - rows @ b[kept])
    if not np.allclose(rows @ b[kept], values, rtol=1e-8, atol=1e-10):
        raise UsageError("the values of the effects contradict each other; leave one out")
    return replace(assumed, b=b)
