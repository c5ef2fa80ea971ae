"""A free covariance among the occasions of a unit."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import Bands, Layout, RowCovariance

Array = NDArray[Any]
LEAST = 1e-3  # SD of an occasion given those before it, of the first one's: it changes the deviance by less than 1e-6
SHARP = 8.0  # power of the mean by which an edge is rounded
THIN = 0.3  # the same from which the edge is near: products of the inverse lose their digits


class UnstructuredRows(RowCovariance):
    """A free covariance among occasions; ``occasion`` (n,) codes, ``unit_starts`` the first row of each unit.

    R / sigma^2 = L L' with L[0, 0] = 1; phi holds the rows of L below. A diagonal is exp(phi), smoothly at least LEAST, so that the inverse
    keeps its digits where the covariance is singular.
    """

    name = "unstructured"
    takes = "occasions"
    one_variance = False

    @classmethod
    def over(cls, rows: Layout) -> RowCovariance:
        assert rows.time is not None
        return cls(rows.time, rows.starts, list(rows.labels))

    def __init__(self, occasion: Array, unit_starts: Array, labels: list[str]) -> None:
        self.labels, self.occasion, v, n = labels, occasion, len(labels), len(occasion)
        self.places = [(i, j) for i in range(1, v) for j in range(i + 1)]
        self.bounded = np.zeros(len(self.places), dtype=bool)
        self.start = np.array([0.0 if i == j else 0.1 for i, j in self.places])
        sizes = np.diff(np.append(unit_starts, n))
        unit = np.repeat(np.arange(len(sizes)), sizes)
        present = np.zeros((len(sizes), v), dtype=bool)
        present[unit, occasion] = True
        _, first, pattern = np.unique(
            present @ (1 << np.arange(v, dtype=np.int64)), return_index=True, return_inverse=True
        )
        self.patterns = present[first]
        self.counts = np.bincount(pattern.ravel(), minlength=len(self.patterns))
        pattern = pattern.ravel()[unit]
        place = np.arange(n) - unit_starts[unit]
        self.classes, self.sizes, self.entries = [], [], []
        for offset in range(int(sizes.max())):
            have = place >= offset
            rows = np.flatnonzero(have)
            key = (pattern[rows] * v + occasion[rows]) * v + occasion[rows - offset]
            codes, code = np.unique(key, return_inverse=True)
            distinct = np.column_stack([codes // v**2, codes // v % v, codes % v])
            classes = np.full(n, -1)
            classes[have] = code.ravel()
            self.classes.append(classes)
            self.sizes.append(len(distinct))
            self.entries.append(distinct)

    def edges(self, phi: Array) -> list[Array]:
        near = [k for k, (i, j) in enumerate(self.places) if i == j and np.log(LEAST) <= phi[k] < np.log(THIN)]
        return [np.where(np.arange(len(phi)) == k, np.log(LEAST) - 2.0, phi) for k in near]

    def variance(self, phi: Array, sigma2: float) -> float:
        return float(np.mean(np.diag(self.covariance_of_labels(phi, sigma2))))

    def scale(self, phi: Array) -> Array:
        low = self._factor(phi)
        return np.asarray(np.sqrt((low**2).sum(axis=1))[self.occasion])

    def _factor(self, phi: Array) -> Array:
        low = np.zeros((len(self.labels), len(self.labels)))
        low[0, 0] = 1.0
        for (i, j), value in zip(self.places, phi):
            low[i, j] = _at_least(value)[0] if i == j else value
        return low

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        own = np.array([i == j for i, j in self.places])
        return own & (phi[: len(own)] < np.log(LEAST))

    def at(self, phi: Array) -> Bands:
        low = self._factor(phi)
        changes = []
        for (i, j), value in zip(self.places, phi):
            change = np.zeros_like(low)
            change[i, j] = _at_least(value)[1] if i == j else 1.0
            changes.append(change @ low.T + low @ change.T)
        inverses, slopes = (
            np.zeros((len(self.patterns), *low.shape)),
            np.zeros((len(phi), len(self.patterns), *low.shape)),
        )
        log_det, log_slope = 0.0, np.zeros(len(phi))
        for p, seen in enumerate(self.patterns):
            at = np.ix_(seen, seen)
            own = np.linalg.qr(low[seen].T, mode="r")  # own' own = R of these occasions, with the digits of the factor
            back = np.linalg.inv(own)
            inverse = back @ back.T
            inverses[p][at] = inverse
            log_det += self.counts[p] * 2.0 * float(np.log(np.abs(np.diag(own))).sum())
            for a, change in enumerate(changes):
                turned = back.T @ change[at] @ back
                slopes[a, p][at] = -back @ turned @ back.T
                log_slope[a] += self.counts[p] * float(np.trace(turned))
        values = [inverses[d[:, 0], d[:, 1], d[:, 2]] for d in self.entries]
        return Bands(values, [slopes[:, d[:, 0], d[:, 1], d[:, 2]] for d in self.entries], log_det, log_slope)

    def covariance_of_labels(self, phi: Array, sigma2: float) -> Array:
        low = self._factor(phi)
        return np.asarray(sigma2 * low @ low.T)

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return {"occasions": self.labels, "covariance": self.covariance_of_labels(phi, sigma2).tolist()}


def _at_least(phi: float) -> tuple[float, float]:
    """exp(phi) and its slope, but (exp(8 phi) + LEAST^8)^(1/8) where that is near LEAST: the same to the last digit elsewhere."""
    whole = np.logaddexp(SHARP * phi, SHARP * np.log(LEAST))
    value = float(np.exp(whole / SHARP))
    return value, value * float(np.exp(SHARP * phi - whole))
