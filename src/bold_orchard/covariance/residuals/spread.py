"""Residual SDs that depend on columns, on top of another structure."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import Bands, RowCovariance
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
MOST_DISTINCT = 40  # distinct rows of the spread up to which entries are shared between rows


class Spread(RowCovariance):
    """Residual SD times exp(x' beta) for each row, on top of another structure; ``x`` (n, s)."""

    def __init__(self, inner: RowCovariance, x: Array) -> None:
        self.inner = inner
        self.one_variance, self.one_correlation = inner.one_variance, inner.one_correlation
        s = x.shape[1]
        self.bounded = np.concatenate([inner.bounded, np.zeros(s, dtype=bool)])
        self.start = np.concatenate([inner.start, np.zeros(s)])
        self.rows, self.total = x, 2.0 * x.sum(axis=0)
        distinct, code = np.unique(x, axis=0, return_inverse=True)
        code = code.ravel()
        if len(distinct) > MOST_DISTINCT:
            distinct, code = x, np.arange(len(x))
        self.classes, self.sizes, self.base, self.x = [], [], [], []
        for offset, classes in enumerate(inner.classes):
            have = classes >= 0
            rows = np.flatnonzero(have)
            key = np.column_stack([classes[rows], code[rows], code[rows - offset]])
            kinds, index = np.unique(key, axis=0, return_inverse=True)
            own = np.full(len(x), -1)
            own[rows] = index.ravel()
            self.classes.append(own)
            self.sizes.append(len(kinds))
            self.base.append(kinds[:, 0])
            self.x.append(distinct[kinds[:, 1]] + distinct[kinds[:, 2]])

    def at(self, phi: Array) -> Bands:
        m = len(self.inner.start)
        bands, beta = self.inner.at(phi[:m]), phi[m:]
        values, slopes = [], []
        for inner, d_inner, base, x in zip(bands.values, bands.slopes, self.base, self.x):
            scale = np.exp(-x @ beta)
            value = inner[base] * scale
            values.append(value)
            slopes.append(np.concatenate([d_inner[:, base] * scale, -x.T * value]))
        log_det = bands.log_det + float(self.total @ beta)
        return Bands(values, slopes, log_det, np.concatenate([bands.log_det_slope, self.total]))

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        m = len(self.inner.start)
        return np.append(self.inner.lost(phi[:m]), np.zeros(len(phi) - m, dtype=bool))

    def edges(self, phi: Array) -> list[Array]:
        m = len(self.inner.start)
        return [np.append(inner, phi[m:]) for inner in self.inner.edges(phi[:m])]

    def variance(self, phi: Array, sigma2: float) -> float:
        return self.inner.variance(phi[: len(self.inner.start)], sigma2)

    def covariance_of_labels(self, phi: Array, sigma2: float) -> Array:
        return self.inner.covariance_of_labels(phi[: len(self.inner.start)], sigma2)

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        return self.inner.own

    def reported(self, phi: Array) -> tuple[Array, Array, float, Array]:
        values, slopes, jacobian, bend = self.inner.reported(phi[: len(self.inner.start)])
        rest = np.zeros(len(phi) - len(self.inner.start))
        return values, np.column_stack([slopes, np.zeros((len(slopes), len(rest)))]), jacobian, np.append(bend, rest)

    def scale(self, phi: Array) -> Array:
        m = len(self.inner.start)
        return np.asarray(self.inner.scale(phi[:m]) * np.exp(self.rows @ phi[m:]))

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return self.inner.parameters(phi[: len(self.inner.start)], sigma2)
