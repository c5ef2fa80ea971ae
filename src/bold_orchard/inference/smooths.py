"""What is told of each curve of a fit: its effective degrees of freedom, the SD of its wiggle, and whether it is a curve at all."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from bold_orchard.design.design import Clause, Design
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.estimate import estimate
from bold_orchard.estimation.model import FittedModel
from bold_orchard.inference.distributions import half_and_half
from bold_orchard.results.fit import Smooth

ROUNDING = 1e-6  # of a deviance, below which a wiggle at zero is not told from none


def smooths(model: FittedModel[Any, Any]) -> list[Smooth]:
    """One entry a curve, in the order of the clauses."""
    out = []
    for position, (clause, each) in enumerate(zip(model.design.clauses, model.design.sentence.clauses)):
        if not clause.wiggle:
            continue
        assert each.curve is not None
        unit = model.design.units[clause.unit]
        g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns]
        sd = float(np.sqrt(max(g[0, 0], 0.0)))
        levels = len(clause.part.names) // _functions(model.design, clause)
        name = str(each.curve) if unit.curve else f"{each.curve} of {unit.name}"
        out.append(
            Smooth(
                name, _functions(model.design, clause) + 2, effective(model, position, levels), sd, _p(model, position)
            )
        )
    return out


def _functions(design: Design, clause: Clause) -> int:
    """Wiggle functions of one curve; with ``by`` there is a set for each level."""
    owners = [n.rsplit("[", 1)[0] for n in clause.part.names]
    return owners.count(owners[0])


def effective(model: FittedModel[Any, Any], position: int, levels: int) -> float:
    """The trace of the smoother of line and wiggle: for penalised coefficients 1 less their prediction error over their variance (Ruppert, Wand &
    Carroll 2003, section 8.3). Of units' own curves over all units, their lines being penalised too."""
    design = model.design
    clause = design.clauses[position]
    errors, g = model.effects[clause.block][1], model.evaluation.covariance(clause.block)
    wiggle = range(clause.columns.start, clause.columns.stop)
    total = 0.0
    if g[wiggle[0], wiggle[0]] > 0:
        total = float(np.sum(1.0 - np.einsum("jaa->ja", errors)[:, clause.columns] / g[wiggle[0], wiggle[0]]))
    if design.units[clause.unit].curve:
        return total + levels
    own = design.sentence.clauses[position].curve
    for other in design.clauses:
        places = [i for i, t in enumerate(other.part.terms) if t.factors and t.factors[0] == own]
        if other.block == clause.block and places and not other.wiggle:
            at = other.columns
            back = errors[:, at, at] @ np.linalg.pinv(g[at, at], hermitian=True)
            k = other.part.owner.index(places[0])
            shown = g[at, at][k, k] > 0
            total += float(np.sum(1.0 - back[:, k, k])) if shown else 0.0
    return total


def _p(model: FittedModel[Any, Any], position: int) -> float | None:
    """Of the ratio of likelihoods against the straight line, the wiggle's variance at its boundary."""
    ratio = against_line(model, position)
    return None if ratio is None else half_and_half(ratio, 1)


def against_line(model: FittedModel[Any, Any], position: int) -> float | None:
    """By how much the deviance falls from the line to the curve; None where that cannot be fitted."""
    try:
        line = estimate(without_clause(model.design, position), model.options)
    except OrchardError:
        return None
    if not (line.converged and model.converged):
        return None
    ratio = float(line.evaluation.deviance - model.evaluation.deviance)
    return ratio if ratio > ROUNDING else 0.0


def without_clause(design: Design, position: int) -> Design:
    """The design without one clause, and without its block where nothing else is in it."""
    gone = design.clauses[position]
    clauses = [c for i, c in enumerate(design.clauses) if i != position]
    if not any(c.block == gone.block for c in clauses):
        blocks = tuple(b for f, b in enumerate(design.blocks) if f != gone.block)
        clauses = [replace(c, block=c.block - (c.block > gone.block)) for c in clauses]
    else:
        blocks = design.blocks
        width = gone.columns.stop - gone.columns.start
        clauses = [
            replace(c, columns=slice(c.columns.start - width, c.columns.stop - width))
            if c.block == gone.block and c.columns.start > gone.columns.start
            else c
            for c in clauses
        ]
    units = [u for i, u in enumerate(design.units) if any(c.unit == i for c in clauses)]
    numbers = {u.name: i for i, u in enumerate(units)}
    clauses = [replace(c, unit=numbers[design.units[c.unit].name]) for c in clauses]
    return replace(design, clauses=tuple(clauses), blocks=blocks, units=tuple(units))
