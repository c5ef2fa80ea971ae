"""How a model is estimated: the method, and how long and how closely the optimum is sought."""

from __future__ import annotations

from dataclasses import dataclass

BROKE = (
    "the search broke down: the likelihood cannot be followed away from its start; look at the size of offsets and covariates (orchard scout), "
    "or try a simpler sentence"
)


@dataclass(frozen=True)
class SearchOptions:
    """``method`` is reml or ml (of gaussian models), ``points`` the quadrature points of others: a number or "auto".

    ``tolerance`` bounds the decrease of the deviance that is still expected at the end, ``max_steps`` the steps.
    """

    method: str = "reml"
    tolerance: float = 1e-10
    max_steps: int = 100
    points: int | str = 1
