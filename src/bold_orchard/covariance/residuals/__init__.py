"""Covariance structures of the residuals of one unit, one file each, and the spread on top of them.

A name leads to its class, loaded when first asked for.
"""

from __future__ import annotations

import importlib

from bold_orchard.covariance.residuals.base import RowCovariance
from bold_orchard.sentence import signatures

# name -> module and class
HOMES = {
    "independent": "independent.Independent",
    "ar1": "ar1.AR1",
    "exponential": "exponential.Exponential",
    "exchangeable": "exchangeable.ExchangeableRows",
    "toeplitz": "toeplitz.Toeplitz",
    "unstructured": "unstructured.UnstructuredRows",
}
_known: dict[str, type[RowCovariance]] = {}


def residual_structure_of(name: str) -> type[RowCovariance]:
    """The class of a structure as a sentence names it. Raises KeyError for a name that is not there."""
    if name not in _known:
        module, _, kind = HOMES[name].partition(".")
        _known[name] = getattr(importlib.import_module(f"bold_orchard.covariance.residuals.{module}"), kind)
    return _known[name]


def register(structure: type[RowCovariance], example: str | None = None) -> type[RowCovariance]:
    """Make a structure known to sentences by its name, with an example of the column it takes."""
    _known[structure.name] = structure
    signatures.WITHIN_STRUCTURES[structure.name] = example
    return structure
