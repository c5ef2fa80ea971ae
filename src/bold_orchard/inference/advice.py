"""Words for what happened in the search: boundaries and failures, with the sentence to try next."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from bold_orchard.design.design import Clause, Design
from bold_orchard.estimation.model import FittedModel
from bold_orchard.optimize.protocol import OptimizeResult
from bold_orchard.results.notes import Note
from bold_orchard.sentence.edit import lowered, with_clause, with_line
from bold_orchard.sentence.tree import Term

FACT = "That is a fact of the data, not a failure of the fit"


@dataclass
class Boundary:
    units: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def not_converged(found: OptimizeResult[Any]) -> Note:
    return Note(
        f"The fit did NOT converge after {found.iterations} steps ({found.reason}); do not use these figures. "
        "Try a simpler each clause, or look at the data first (orchard scout).",
        "not converged",
    )


def boundary_notes(model: FittedModel[Any, Any], random: list[dict[str, Any]]) -> Boundary:
    """Which component vanished or which correlation is at +-1, and the sentence without it."""
    design, out = model.design, Boundary()
    for position, (clause, part) in enumerate(zip(design.clauses, random)):
        unit = design.units[clause.unit].name
        gone = [t for t, sd in zip(part["terms"], part["sd"]) if sd == 0]
        flat = not gone and _singular(model, clause)
        if not gone and not flat:
            continue
        if unit not in out.units:
            out.units.append(unit)
        if gone:
            out.notes.append(_vanished(design, position, clause, unit, gone))
        else:
            out.notes.append(_tied(design, position, clause, unit, part))
    rows = design.residual
    if rows.unit is not None and model.criterion.lost(model.evaluation.theta).any():
        out.units += [rows.unit] if rows.unit not in out.units else []
        out.notes.append(_edge_of_rows(design, rows.unit))
    return out


def _edge_of_rows(design: Design, unit: str) -> Note:
    rows = design.residual
    simpler = (
        "independent rows (leave the within clause out)"
        if rows.kind == "exchangeable"
        else f"within {unit}: exchangeable"
    )
    what = (
        f"The covariance of occasions inside {unit} is estimated as singular: some combination of occasions does not vary by itself"
        if rows.labels
        else f"The correlation of rows inside {unit} is estimated at the edge of what it can be"
    )
    return Note(f"{what}. {FACT}. Try: {simpler}", "covariance at its edge")


def _singular(model: FittedModel[Any, Any], clause: Clause) -> bool:
    """Whether the clause's own block of Gamma, on the working scale, has lost a dimension."""
    if clause.given is not None:
        return False
    t = model.evaluation.factors[clause.block][clause.columns]
    values = np.linalg.eigvalsh(t @ t.T)
    return bool(values[0] <= 1e-10 * max(values[-1], 1e-300))


def _vanished(design: Design, position: int, clause: Clause, unit: str, gone: list[str]) -> Note:
    if clause.wiggle:
        return _straight(design, position, unit)
    what = " and ".join(_variance_of(t, unit) for t in gone)
    many = len(gone) > 1
    offer = with_clause(design.sentence, position, _without(clause, gone)).source
    return Note(
        f"{what[0].upper()}{what[1:]} {'are' if many else 'is'} estimated as zero: the rows show no more variation of this "
        f"kind than chance gives. {FACT}. Try: {offer}",
        "variance at zero",
        offer,
    )


def _straight(design: Design, position: int, unit: str) -> Note:
    """A curve whose wiggle vanished."""
    curve = design.sentence.clauses[position].curve
    assert curve is not None
    unit_alone = None if design.units[design.clauses[position].unit].curve else unit
    offer = with_line(design.sentence, curve, unit_alone).source
    what = (
        f"The curve {curve} is a straight line"
        if design.units[design.clauses[position].unit].curve
        else f"The curves {curve} of {unit} are straight lines"
    )
    return Note(
        f"{what}: the rows show no more bend than chance gives. {FACT}. Try: {offer}", "variance at zero", offer
    )


def _without(clause: Clause, gone: list[str]) -> tuple[Term, ...]:
    """The clause's terms less those whose effects vanished, the highest first: a power is lowered, not dropped.

    A level that vanishes beside slopes stays: it is the highest slope that the rows do not bear.
    """
    part = clause.part
    if "intercept" in gone and len(gone) < len(part.names):  # slopes without a level pivot where the covariate is zero
        return _less(clause)
    owners = [o for name, o in zip(part.names, part.owner) if name in gone]
    whole = [t for i, t in enumerate(part.terms) if owners.count(i) == part.owner.count(i)]
    powers = [t for i, t in enumerate(part.terms) if i in owners and lowered((t,), t)]
    if powers:
        return lowered(part.terms, powers[-1])
    if len(whole) == len(part.terms):
        return ()
    return tuple(t for t in part.terms if t not in whole) if whole else _less(clause)


def _variance_of(term: str, unit: str) -> str:
    if term == "intercept":
        return f"the variance between levels of {unit}"
    return f"the variance of the {term} effect across levels of {unit}"


def _tied(design: Design, position: int, clause: Clause, unit: str, part: dict[str, Any]) -> Note:
    pairs = [
        (a, b, part["correlation"][i][j])
        for i, a in enumerate(part["terms"])
        for j, b in enumerate(part["terms"][:i])
        if part["correlation"][i][j] is not None
    ]
    offers = [with_clause(design.sentence, position, _less(clause)).source]
    if clause.structure.kind == "unstructured":
        offers.append(with_clause(design.sentence, position, clause.part.terms, "diagonal").source)
    offer = "  or: ".join(offers)
    tied = [(a, b, r) for a, b, r in pairs if abs(r) > 1 - 1e-6]
    if tied:
        a, b, r = tied[0]
        what = f"The effects {b} and {a} of {unit} are estimated as perfectly correlated ({r:+.0f})"
    else:
        what = f"The effects of {unit} vary in fewer directions than the {len(part['terms'])} terms allow"
    return Note(f"{what}: the rows do not tell them apart. {FACT}. Try: {offer}", "covariance at its edge", offers[0])


def _less(clause: Clause) -> tuple[Term, ...]:
    """The terms without the highest: a power one lower, else the product with most factors, else the last."""
    terms = [t for t in clause.part.terms if not t.is_intercept]
    if not terms:
        return ()
    powers = [t for t in terms if lowered((t,), t)]
    highest = powers[-1] if powers else max(enumerate(terms), key=lambda it: (len(it[1].factors), it[0]))[1]
    return lowered(clause.part.terms, highest)
