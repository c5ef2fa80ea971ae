"""What makes a fit unusable although its search ended: nothing told apart, an outcome split, effects without end."""

from __future__ import annotations

from functools import singledispatch

from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.frozen import Frozen, frozen
from bold_orchard.inference.variances.identified import flat_components
from bold_orchard.results.notes import Note


@frozen
class Trouble(Frozen):
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
