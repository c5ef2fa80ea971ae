"""Covariance structures of the effects of one unit: theta -> factor T with G = sigma^2 T T'."""

from bold_orchard.covariance.effects.structures import (
    STRUCTURES,
    Diagonal,
    Exchangeable,
    Given,
    Identity,
    Stacked,
    Structure,
    Unstructured,
)

__all__ = ["STRUCTURES", "Diagonal", "Exchangeable", "Given", "Identity", "Stacked", "Structure", "Unstructured"]
