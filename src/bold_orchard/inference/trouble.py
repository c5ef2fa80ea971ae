"""What makes a fit unusable although its search ended: nothing told apart, an outcome split, effects without end."""

from __future__ import annotations

from dataclasses import dataclass
from functools import singledispatch

import numpy as np

from bold_orchard.design import validation
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.inference.separation import separated
from bold_orchard.inference.variances.identified import flat_components
from bold_orchard.results.notes import Note

HUGE = 12.0  # SD on the linear scale beyond which chances inside a unit are all but 0 or 1


@dataclass(frozen=True)
class Trouble:
    """``notes`` say why the figures must not be used, ``remarks`` what else stands above the tables."""

    notes: tuple[str, ...] = ()
    identified: bool = True
    remarks: tuple[str, ...] = ()


@singledispatch
def trouble_of(model: object) -> Trouble:
    """Everything that is wrong with a fit beside its search."""
    return Trouble()


@trouble_of.register
def _(model: GaussianModel) -> Trouble:
    found = model.found
    flat = flat_components(model.design, found) if len(found.hessian) or not len(found.point.theta) else None
    return Trouble() if flat is None else Trouble((Note(flat, "not identified"),), identified=False)


@trouble_of.register
def _(model: GeneralizedModel) -> Trouble:
    design, c, e = model.design, model.criterion, model.evaluation
    apart, single = separated(design, c, e), validation.told_by_one_row(design)
    named: dict[str, list[str | None]] = {
        "separation": [apart],
        "runs away": list(_run_away(model)),
        "not identified": [single],
    }
    notes = [Note(text, code) for code, texts in named.items() for text in texts if text]
    remarks = []
    if c.lost(e.theta).any():
        remarks.append(
            Note(
                "theta has run away: the counts vary no more than a Poisson law allows, so it cannot be estimated. "
                "Use --family poisson.",
                "dispersion at its limit",
                "--family poisson",
            )
        )
    return Trouble(tuple(notes), single is None, tuple(remarks))


def _run_away(model: GeneralizedModel) -> list[str]:
    """Effects so large that the outcome hardly varies inside a unit."""
    design, out = model.design, []
    if not model.family.chances:
        return []
    for clause in design.clauses:
        unit = design.units[clause.unit].name
        g = model.evaluation.covariance(clause.block)[clause.columns, clause.columns]
        for values, term, sd in zip(clause.part.values, clause.part.names, np.sqrt(np.maximum(np.diag(g), 0.0))):
            if sd * float(np.sqrt(np.mean(values**2))) > HUGE:
                out.append(
                    f"The {term} effects of {unit} run away (SD {sd:.3g} on the {design.link} scale): the outcome hardly varies "
                    f"inside one {unit}, so its size has no upper end. Leave the clause out, or model the {unit} itself."
                )
    return out
