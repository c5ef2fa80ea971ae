"""How sure the mean of an outcome is on its own scale: by the delta method over all parameters, those of the family too."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.inference.coefficients.curves import with_curves
from bold_orchard.inference.coefficients.maximum_likelihood import MaximumLikelihood, thresholds
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.response_scale import outcome_mean, outcome_slope, threshold_slopes

Array = NDArray[Any]
STEP = 1e-5  # of one of the family's own parameters, which live on scales of order one


class OutcomeErrors:
    """The mean outcome at linear predictors eta = x b + z u of a generalized fit, its standard error and interval."""

    def __init__(self, fit: Fit) -> None:
        self.fit = fit
        known: Any = fit.known
        assert isinstance(known, MaximumLikelihood)
        self.known = known

    @cached_property
    def _joint(self) -> tuple[int, Array]:
        """How many own parameters there are, thresholds of grades as reported, and the covariance of (own, b)."""
        if self.fit.design.graded:
            cuts, joint = thresholds(self.known)
            return len(cuts), joint
        c, covariance = self.fit.criterion, self.known.parameter_covariance
        turn = np.zeros((c.family.n_extra + c.p, len(covariance)))
        turn[: c.family.n_extra, c.extra] = np.eye(c.family.n_extra)
        turn[c.family.n_extra :, : c.p] = self.known.to_user
        return c.family.n_extra, turn @ covariance @ turn.T

    def _own_slopes(self, eta: Array) -> Array:
        """d mean / d own parameters, (n, m)."""
        if self.fit.design.graded:
            return threshold_slopes(self.fit, eta)
        family, extra = self.fit.model.family, self.fit.model.extra
        steps = STEP * np.eye(len(extra))
        made = [(family.mean(eta, extra + h) - family.mean(eta, extra - h)) / (2.0 * STEP) for h in steps]
        return np.array(made).reshape(len(extra), len(eta)).T

    def gradient(self, eta: Array, x: Array) -> Array:
        """Slopes of the mean in (own parameters, b), (n, m + p'), for units' effects held."""
        return np.hstack([self._own_slopes(eta), outcome_slope(self.fit, eta)[:, None] * x])

    def covariance(self) -> Array:
        """Of (own parameters, b)."""
        return self._joint[1]

    def interval(
        self, eta: Array, x: Array, confidence: float, variance: Array | None = None
    ) -> tuple[Array, Array, Array, Array]:
        """Mean, standard error and ends, each (n,); ``variance`` (n,) is that of eta where units' effects are in it."""
        if x.shape[1] > len(self.fit.model.kept):  # a curve's wiggle among it
            if variance is None:
                known = with_curves(self.fit, self.known)
                variance = np.einsum("np,pq,nq->n", x, known.covariance, x)
            x = x[:, : len(self.fit.model.kept)]
        m, joint = self._joint
        mean, slope, own = outcome_mean(self.fit, eta), outcome_slope(self.fit, eta), self._own_slopes(eta)
        if variance is None:
            variance = np.einsum("np,pq,nq->n", x, joint[m:, m:], x)
        across = np.einsum("np,pm,nm->n", x, joint[m:, :m], own)
        total = slope**2 * variance + 2.0 * slope * across + np.einsum("nm,mk,nk->n", own, joint[:m, :m], own)
        se, z = np.sqrt(np.maximum(total, 0.0)), quantile_t(confidence, None)
        if self.fit.design.graded:
            return mean, se, *between(mean, se, z, 1.0, float(len(self.fit.design.levels)))
        if not own.any():  # the link's own scale, on which the estimates are nearest to normal
            width = z * np.sqrt(np.maximum(variance, 0.0))
            ends = [outcome_mean(self.fit, eta - width), outcome_mean(self.fit, eta + width)]
            return mean, se, np.minimum(*ends), np.maximum(*ends)
        factor = np.exp(np.minimum(z * se / mean, 700.0))
        return mean, se, mean / factor, mean * factor


def between(values: Array, se: Array, z: float, low: float, high: float) -> tuple[Array, Array]:
    """Ends between ``low`` and ``high``, symmetric on the logit of the place between them."""
    share = (values - low) / (high - low)
    with np.errstate(all="ignore"):
        step = z * se / ((high - low) * share * (1.0 - share))
        at = np.log(share / (1.0 - share))
        ends = [low + (high - low) / (1.0 + np.exp(-at - side * step)) for side in (-1.0, 1.0)]
    inside = (share > 0.0) & (share < 1.0)
    return np.where(inside, ends[0], values), np.where(inside, ends[1], values)
