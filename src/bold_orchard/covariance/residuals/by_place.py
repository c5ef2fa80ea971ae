"""Correlations that depend on where two rows of a unit stand: any function of their distance."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import Bands, RowCovariance
from bold_orchard.errors import OrchardError

Array = NDArray[Any]
MOST_IN_UNIT = 2_000  # rows of a unit: its correlations are inverted as one matrix


class ByPlace(RowCovariance):
    """Rows at ``places`` (n, d), units beginning at ``starts``. Units whose rows stand alike share one inverse.

    A subclass says ``distances`` of two places and ``correlations`` at a distance.
    """

    def __init__(self, places: Array, starts: NDArray[np.intp], unit: str) -> None:
        n = len(places)
        ends = np.append(starts[1:], n)
        sizes = ends - starts
        if sizes.max() > MOST_IN_UNIT:
            raise OrchardError(
                f"{self.name} inverts the correlations of all rows of one {unit} together, and the largest has {sizes.max():,} "
                f"rows; {MOST_IN_UNIT:,} are the most: name a finer unit"
            )
        self.groups: list[tuple[int, NDArray[np.intp], Array]] = []
        pattern = np.empty(len(starts), dtype=np.intp)
        for size in np.unique(sizes):
            mine = np.flatnonzero(sizes == size)
            rows = starts[mine][:, None] + np.arange(size)
            relative = (places[rows] - places[starts[mine]][:, None, :]).reshape(len(mine), -1)
            distinct, code, counts = np.unique(relative, axis=0, return_inverse=True, return_counts=True)
            pattern[mine] = code.ravel()
            self.groups.append((int(size), counts, self.distances(distinct.reshape(len(distinct), size, -1))))
        position = np.arange(n) - np.repeat(starts, sizes)
        self.classes, self.sizes = [], []
        for offset in range(int(sizes.max())):
            classes, base = np.full(n, -1), 0
            for size, counts, _ in self.groups:
                if size <= offset:
                    continue
                rows = np.flatnonzero((np.repeat(sizes, sizes) == size) & (position >= offset))
                unit_of = np.repeat(np.arange(len(starts)), sizes)[rows]
                classes[rows] = base + pattern[unit_of] * (size - offset) + position[rows] - offset
                base += len(counts) * (size - offset)
            self.classes.append(classes)
            self.sizes.append(base)

    def distances(self, places: Array) -> Array:
        """Of any two rows of each pattern, (patterns, size, size), from their places (patterns, size, d)."""
        return np.asarray(np.sqrt(((places[:, :, None, :] - places[:, None, :, :]) ** 2).sum(axis=-1)))

    def correlations(self, phi: Array, apart: Array) -> tuple[Array, Array]:
        """Correlations at distances (patterns, size, size), and their slopes (n_phi, patterns, size, size)."""
        raise NotImplementedError

    def at(self, phi: Array) -> Bands:
        values: list[list[Array]] = [[] for _ in self.classes]
        slopes: list[list[Array]] = [[] for _ in self.classes]
        log_det, log_slope = 0.0, np.zeros(len(phi))
        for size, counts, apart in self.groups:
            r, changes = self.correlations(phi, apart)
            inverse = np.linalg.inv(r)
            moved = inverse @ changes @ inverse
            log_det += float(counts @ np.linalg.slogdet(r)[1])
            log_slope += np.einsum("pij,apji->ap", inverse, changes) @ counts
            for offset in range(size):
                values[offset].append(np.diagonal(inverse, -offset, 1, 2).ravel())
                slopes[offset].append(-np.diagonal(moved, -offset, 2, 3).reshape(len(phi), -1))
        return Bands(
            [np.concatenate(v) for v in values], [np.concatenate(s, axis=1) for s in slopes], log_det, log_slope
        )
