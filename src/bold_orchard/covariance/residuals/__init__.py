"""Covariance structures of the residuals of one unit, one file each, and the spread on top of them."""

from __future__ import annotations

from bold_orchard.covariance.residuals.ar1 import AR1
from bold_orchard.covariance.residuals.base import RowCovariance
from bold_orchard.covariance.residuals.exchangeable import ExchangeableRows
from bold_orchard.covariance.residuals.independent import Independent
from bold_orchard.covariance.residuals.unstructured import UnstructuredRows
from bold_orchard.sentence import signatures

__all__ = ["register", "residual_structure_of"]

_known: dict[str, type[RowCovariance]] = {s.name: s for s in (Independent, AR1, ExchangeableRows, UnstructuredRows)}


def residual_structure_of(name: str) -> type[RowCovariance]:
    """The class of a structure as a sentence names it. Raises KeyError for a name that is not there."""
    return _known[name]


def register(structure: type[RowCovariance], example: str | None = None) -> type[RowCovariance]:
    """Make a structure known to sentences by its name, with an example of the column it takes."""
    _known[structure.name] = structure
    signatures.WITHIN_STRUCTURES[structure.name] = example
    return structure
