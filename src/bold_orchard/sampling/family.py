"""The posterior of outcomes that are not gaussian on their own scale."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.inference.fit import Fit
from bold_orchard.sampling.full import FullTarget
from bold_orchard.sampling.priors import Priors
from bold_orchard.sampling.scales import density_on_scale
from bold_orchard.sampling.whitening import ByElimination, Whitening

Array = NDArray[Any]


class FamilyTarget(FullTarget):
    """Outcomes of a family that is not gaussian on its own scale."""

    def __init__(self, fit: Fit, priors: Priors) -> None:
        super().__init__(fit, priors)
        assert isinstance(fit.model, GeneralizedModel)
        self.rows, self.family = self.c.rows, self.c.family
        self.x = self.rows.x
        self.own_size = self.family.n_extra
        self.means = np.array([self.design.fixed.values[k].mean() for k in fit.model.kept])

    def own_start(self) -> Array:
        return np.clip(self.e.theta[self.c.extra], -12.0, 12.0)

    def own_prior(self, own: Array, b: Array) -> tuple[float, Array, Array]:
        slope, d_b, value = np.zeros(len(own)), np.zeros(len(b)), 0.0
        if self.design.graded:
            cuts = self.family.thresholds(own) + float(self.means @ b)
            turn = self.family.thresholds_slope(own)
            for j, law in enumerate(self.priors.thresholds):
                more, d = law.density(float(cuts[j]))
                value += more
                slope += d * turn[j]
                d_b += d * self.means
            value += float(own[1:].sum())  # the Jacobian of thresholds in the logarithms of their steps
            slope[1:] += 1.0
            return value, slope, d_b
        for law, mine in zip(self.priors.own.values(), self.family.own):
            more, slope[mine.place] = density_on_scale(law, mine.back, float(own[mine.place]))
            value += more
        return value, slope, d_b

    def rows_density(self, b_work: Array, own: Array, effects: list[Array]) -> tuple[float, Array, Array, list[Array]]:
        eta = self.rows.times_x(b_work) if self.p else self.rows.zeros()
        if self.c.offset is not None:
            eta = eta + self.c.offset
        if effects:
            eta = eta + self.rows.spread(dict(enumerate(effects)))
        value = float(self.family.value(eta, own).sum())
        first = np.asarray(self.family.slopes(eta, own)[0]) + np.zeros(np.shape(eta))
        d_own = np.array([float(v.sum()) for v, _, _ in self.family.extras(eta, own)])
        pulled = self.rows.pull(first) if effects else {}
        return value, self.rows.into_x(first), d_own, [pulled[f] for f in range(len(effects))]

    def whitened(self) -> Whitening:
        """From Laplace's mode and the linear model there."""
        mode, n = self.e.mode, len(self.units)
        drifts = [self.e._drift(i) for i in range(self.p)]
        fitted = self.e.factors
        drift = [fitted[f] @ np.array([d[f] for d in drifts]).reshape(self.p, *mode.v[f].shape) for f in range(n)]
        still = [fitted[f] @ mode.v[f] for f in range(n)]
        lows = self.start_lows()
        sizes = [np.diag(low).copy() for low in lows]
        at = np.asarray(self.e.theta[: self.p])
        return ByElimination(still, drift, at, mode.products, self._factors(lows), sizes)

    def own_values(self, own: Array) -> list[float]:
        return [float(o.back(float(own[o.place]))) for o in self.family.own]

    def thresholds(self, z: Array) -> Array:
        """As they are reported, of columns that are not centred."""
        b = self.to_user @ z[: self.p]
        return np.asarray(self.family.thresholds(z[self.own]) + float(self.means @ b))
