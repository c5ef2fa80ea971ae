"""Covariance structures of the effects of one unit, one file each: theta -> factor T with G = sigma^2 T T'.

A name leads to its class, loaded when first asked for.
"""

from __future__ import annotations

import importlib

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.sentence import signatures

# name -> module and class; "known" brings the covariance between levels, between the terms of its clause all is free
HOMES = {
    "unstructured": "unstructured.Unstructured",
    "diagonal": "diagonal.Diagonal",
    "identity": "identity.Identity",
    "exchangeable": "exchangeable.Exchangeable",
    "given": "given.Given",
    "known": "unstructured.Unstructured",
}
_known: dict[str, type[Structure]] = {}


def structure_of(name: str) -> type[Structure]:
    """The class of a structure as a sentence names it. Raises KeyError for a name that is not there."""
    if name not in _known:
        module, _, kind = HOMES[name].partition(".")
        _known[name] = getattr(importlib.import_module(f"bold_orchard.covariance.effects.{module}"), kind)
    return _known[name]


def register(structure: type[Structure]) -> type[Structure]:
    """Make a structure known to sentences by its name; may stand as a decorator."""
    _known[structure.name] = structure
    signatures.EACH_STRUCTURES.append(structure.name)
    return structure
