"""Effects whose SD depends on what their level is: level j's columns of Z times exp(w_j' alpha), which touches no row.

With Z = Z_0 S every product of Z_0 is made once and scaled level by level, and the gradient in alpha comes from the adjoints of
the scaled products: a change of log s scales each product by as much.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.elimination import Backward
from bold_orchard.crossproducts.stages import CrossProducts

Array = NDArray[Any]


@dataclass(frozen=True)
class VaryingPart:
    """One clause: its ``columns`` among the effects of ``unit``, and ``w`` (m, levels) in the user's numbering of levels.

    ``sd`` (m,) are the SDs of ``w`` over the levels, in which alpha is measured, ``shift`` (m,) their means: there the criterion's
    own covariance stands, so that an optimum is sought on even ground.
    """

    unit: int
    columns: slice
    w: Array
    sd: Array
    shift: Array

    def log_scales(self, alpha: Array) -> Array:
        """log s of every level, (levels,)."""
        return np.asarray((alpha / self.sd) @ (self.w - self.shift[:, None]))


@dataclass(frozen=True)
class Varying:
    """All clauses whose SDs vary; alpha (m,) runs over their columns."""

    parts: tuple[VaryingPart, ...]

    @property
    def size(self) -> int:
        return sum(len(p.sd) for p in self.parts)

    def slices(self) -> list[slice]:
        """Where each part's alpha stand."""
        ends = np.cumsum([0, *(len(p.sd) for p in self.parts)])
        return [slice(int(a), int(b)) for a, b in itertools.pairwise(ends)]

    def to_zero(self, alpha: Array, unit: int, size: int) -> Array:
        """By what SDs at w = 0 exceed those of the criterion, which stand at the means of w, (size,)."""
        log = np.zeros(size)
        for part, at in zip(self.parts, self.slices()):
            if part.unit == unit:
                log[part.columns] = -float(alpha[at] / part.sd @ part.shift)
        return np.exp(log)

    def scales(self, alpha: Array, unit: int, size: int, levels: int) -> Array:
        """s of every effect of a unit, (size, levels), user's numbering."""
        log: Array = np.zeros((size, levels))
        for part, at in zip(self.parts, self.slices()):
            if part.unit == unit:
                log[part.columns] = part.log_scales(alpha[at])
        return np.exp(log)

    def at(self, products: CrossProducts, alpha: Array) -> CrossProducts:
        """The products of the scaled columns."""
        stage_scales, tail_scales = self._all(products, alpha)
        wide = np.append(tail_scales, np.ones(len(products.dense) - len(tail_scales)))
        stages = []
        for i, s in enumerate(products.stages):
            own = stage_scales[s.unit]
            right = s.right * own[:, None] * self._across(products, i, stage_scales, tail_scales)
            stages.append(replace(s, c=s.c * own[:, None] * own, right=right))
        return replace(products, stages=stages, dense=products.dense * np.outer(wide, wide))

    def unscaled(self, products: CrossProducts, alpha: Array, back: Backward) -> Backward:
        """Adjoints of the products of Z_0 from those of the scaled ones."""
        stage_scales, tail_scales = self._all(products, alpha)
        wide = np.append(tail_scales, np.ones(len(products.dense) - len(tail_scales)))
        inverse, rights = dict(back.inverse), {}
        for i, s in enumerate(products.stages):
            own = stage_scales[s.unit]
            inverse[s.unit] = back.inverse[s.unit] * own[:, None] * own
            rights[i] = back.rights[i] * own[:, None] * self._across(products, i, stage_scales, tail_scales)
        return Backward(back.slope, inverse, rights, back.dense * np.outer(wide, wide))

    def slope(self, scaled: CrossProducts, back: Backward) -> Array:
        """d f / d alpha, (m,), from the adjoints of the scaled products."""
        moved = {u: np.zeros((unit.size, unit.levels)) for u, unit in enumerate(scaled.units)}
        q = scaled.q
        tail = 2.0 * np.einsum("ij,ij->i", back.dense[:q], scaled.dense[:q]) if q else np.zeros(0)
        for i, s in enumerate(scaled.stages):
            pulled = 2.0 * back.rights[i] * s.right
            own = 2.0 * np.einsum("abj,abj->aj", back.inverse[s.unit], s.c) + pulled.sum(axis=1)
            moved[s.unit][:, s.order] += own
            for g, columns in s.slices.items():
                parent = scaled.stages[g]
                moved[parent.unit][:, parent.order] += s.up(g, pulled[:, columns].sum(axis=0))
            first = s.right.shape[1] - len(scaled.dense)
            tail = tail + pulled[:, first : first + q].sum(axis=(0, 2))
        for t in scaled.tails:
            moved[t.unit] += tail[t.columns].reshape(t.size, t.levels)
        out = [(p.w - p.shift[:, None]) / p.sd[:, None] @ moved[p.unit][p.columns].sum(axis=0) for p in self.parts]
        return np.concatenate(out)

    def _all(self, products: CrossProducts, alpha: Array) -> tuple[dict[int, Array], Array]:
        """Scales of the chain's units in stage order (k, J), and of the tail's columns (q,)."""
        scales = {u: self.scales(alpha, u, unit.size, unit.levels) for u, unit in enumerate(products.units)}
        stages = {s.unit: scales[s.unit][:, s.order] for s in products.stages}
        tail = np.concatenate([np.zeros(0), *(scales[t.unit].ravel() for t in products.tails)])
        return stages, tail

    @staticmethod
    def _across(products: CrossProducts, i: int, stage_scales: dict[int, Array], tail_scales: Array) -> Array:
        """Scales of the columns of a stage's right-hand side, (r, J) or (1, r, J)."""
        s = products.stages[i]
        out = np.ones((s.right.shape[1], s.levels))
        for g, columns in s.slices.items():
            out[columns] = s.down(g, stage_scales[products.stages[g].unit])
        first = s.right.shape[1] - len(products.dense)
        out[first : first + len(tail_scales)] = tail_scales[:, None]
        return out
