"""Covariance structures of the effects of one unit, one file each: theta -> factor T with G = sigma^2 T T'."""

from __future__ import annotations

from bold_orchard.covariance.effects.base import Structure
from bold_orchard.covariance.effects.diagonal import Diagonal
from bold_orchard.covariance.effects.exchangeable import Exchangeable
from bold_orchard.covariance.effects.given import Given
from bold_orchard.covariance.effects.identity import Identity
from bold_orchard.covariance.effects.stacked import Stacked
from bold_orchard.covariance.effects.unstructured import Unstructured
from bold_orchard.sentence import signatures

__all__ = ["Given", "Stacked", "Structure", "Unstructured", "register", "structure_of"]

# "known" brings the covariance between levels; between the terms of its clause all is free
_built_in: tuple[type[Structure], ...] = (Unstructured, Diagonal, Identity, Exchangeable, Given)
_known = {s.name: s for s in _built_in} | {"known": _built_in[0]}


def structure_of(name: str) -> type[Structure]:
    """The class of a structure as a sentence names it. Raises KeyError for a name that is not there."""
    return _known[name]


def register(structure: type[Structure]) -> type[Structure]:
    """Make a structure known to sentences by its name; may stand as a decorator."""
    _known[structure.name] = structure
    signatures.EACH_STRUCTURES.append(structure.name)
    return structure
