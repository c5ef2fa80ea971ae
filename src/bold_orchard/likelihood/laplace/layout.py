"""Where the parameters of a generalized model stand: working coefficients, theta of all units, the family's own."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.weighted import Weighted
from bold_orchard.families.base import Family
from bold_orchard.likelihood.outer import OuterLayout

Array = NDArray[Any]
Effects = dict[int, Array]


@dataclass(frozen=True)
class Layout(OuterLayout):
    """Rows, family and ``offset`` (n,) in the order of ``rows``; where each parameter stands and what it does to eta."""

    rows: Weighted
    family: Family
    offset: Array | None = None
    profiled: ClassVar[bool] = False

    @property
    def n_own(self) -> int:
        return self.family.n_extra

    @cached_property
    def scale(self) -> Array:
        """What is large of each parameter, (m,): of coefficients and SDs a large step of eta."""
        return np.append(np.full(self.theta.stop, self.family.unit()), np.ones(self.family.n_extra))

    def lost(self, parameters: Array) -> NDArray[np.bool_]:
        """Parameters run to a limit where nothing depends on them any more."""
        out = np.zeros(len(parameters), dtype=bool)
        out[self.extra] = self.family.lost(parameters[self.extra])
        return out

    def grown(self, alpha: Array, f: int) -> Array:
        """SDs of effects depend on nothing here, (k,) of ones."""
        return np.ones(self.products.units[f].size)

    def signs(self, parameters: Array) -> Array:
        signs = np.ones(len(parameters))
        for structure, at in zip(self.structures, self.slices):
            signs[at] = structure.signs(parameters[at])
        return signs

    def factors(self, parameters: Array) -> list[Array]:
        return [s.factor(parameters[at]) for s, at in zip(self.structures, self.slices)]

    def linear(self, parameters: Array) -> Array:
        """X b + offset, (n,)."""
        fixed = self.rows.times_x(parameters[: self.p]) if self.p else self.rows.zeros()
        return np.asarray(fixed if self.offset is None else fixed + self.offset)

    # -- what the derivatives of a row do; several linear predictors have them as matrices

    def blank(self, eta: Array) -> list[Array]:
        """Places for l and its three derivatives of every row."""
        return list(np.empty((4, len(eta))))

    def bend(self, second: Array, direction: Array) -> Array:
        """Second derivatives times a direction of the linear predictor."""
        return np.asarray(second * direction)

    def turn(self, third: Array, products: Array) -> Array:
        """Third derivatives times products of two predictors."""
        return np.asarray(third * products)

    def positive(self, weight: Array) -> bool:
        """Whether the weights of all rows are positive (definite)."""
        return bool(weight.min() > 0)

    def mended(self, weight: Array, family: Family, eta: Array, extra: Array) -> Array:
        """Expected weights where the observed are not positive."""
        return np.where(weight > 0, weight, family.expected(eta, extra))

    def moved(self, factors: list[Array], v: Effects) -> Effects:
        """u = T v in the user's numbering, known covariances between levels included."""
        out = {}
        for f, factor in enumerate(factors):
            mix = self.rows.units[f].relationship_factor
            out[f] = factor @ v[f] if mix is None else (factor @ v[f]) @ mix.T
        return out

    def unscored(self, products: CrossProducts, factors: list[Array], kept: Effects) -> Effects:
        """T' (z - C K z) per unit in the user's numbering of levels."""
        out = {}
        for s in products.stages:
            out[s.unit] = self.rows.by_user(s, factors[s.unit].T @ kept[s.unit])
        for t in products.tails:
            out[t.unit] = factors[t.unit].T @ kept[t.unit]
        return out
