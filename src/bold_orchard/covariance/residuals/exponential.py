"""Correlation that fades with distance: exp(-distance / range), in time or over the ground."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.ar1 import AR1
from bold_orchard.covariance.residuals.base import Layout, RowCovariance
from bold_orchard.covariance.residuals.by_place import ByPlace
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
START = -0.7  # log of the range over the median distance
GONE = 40.0  # ranges in the smallest distance from which no correlation has a digit left
WIDE = 1e6  # median distances in the range from which the rows of a unit are as good as equal
NEAR = 1.5  # of phi to an edge, from which the edge itself is tried


def _fading(own: tuple[str, ...], places: tuple[tuple[str, str], ...]) -> str:
    one, other = (", ".join(names) for names in zip(*places))
    apart = f"|{one} - {other}|" if len(places) == 1 else f"|({one}) - ({other})|"
    return f"\\exp(-{apart} / {own[0]})"


class _Range:
    """phi is the logarithm of the range over ``typical``, the median of the distances."""

    def __init__(self, distances: Array) -> None:
        apart = distances[distances > 0]
        apart = apart if len(apart) else np.ones(1)  # of rows that stand alone nothing depends on it
        self.typical = float(np.median(apart))
        self.edges = (float(np.log(apart.min() / self.typical / GONE)), float(np.log(WIDE)))

    def __call__(self, phi: float) -> float:
        return 0.0 if phi <= self.edges[0] else self.typical * float(np.exp(min(phi, self.edges[1])))

    def correlations(self, phi: float, apart: Array) -> tuple[Array, Array]:
        """exp(-distance / range) and its slope in phi."""
        steps = apart / (self.typical * np.exp(np.clip(phi, *self.edges)))
        r = np.exp(-steps)
        return r, steps * r

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        meaning = "distance at which the correlation of two residuals of one unit has fallen to 1/e"
        return (
            OwnParameter(
                "range", meaning, self, symbol=r"\theta", edges=self.edges, ends=(0.0, float("inf")), size=self.typical
            ),
        )

    def candidates(self, phi: Array) -> list[Array]:
        """phi put at the edge near by, where there is one."""
        return [np.append(edge, phi[1:]) for edge in self.edges if len(phi) and 0.0 < abs(phi[0] - edge) < NEAR]

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        outside = (phi <= self.edges[0]) | (phi >= self.edges[1])
        return (np.arange(len(phi)) == 0) & outside


class Exponential(ByPlace):
    """Of places in several columns; along one column it is ``ExponentialInTime``, whose inverse has three bands."""

    name = "exponential"
    takes = "places"
    own_names = ("range",)
    formula = staticmethod(_fading)

    @classmethod
    def over(cls, rows: Layout) -> RowCovariance:
        assert rows.time is not None
        return ExponentialInTime.over(rows) if rows.time.ndim == 1 else cls(rows.time, rows.starts, rows.unit)

    def __init__(self, places: Array, starts: NDArray[np.intp], unit: str) -> None:
        self.bounded, self.start = np.zeros(1, dtype=bool), np.array([START])
        super().__init__(places, starts, unit)
        self.range = _Range(np.concatenate([apart.ravel() for _, _, apart in self.groups]))

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        return self.range.own

    def correlations(self, phi: Array, apart: Array) -> tuple[Array, Array]:
        r, slope = self.range.correlations(float(phi[0]), apart)
        return r, slope[None]

    def edges(self, phi: Array) -> list[Array]:
        return self.range.candidates(phi)

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        return self.range.lost(phi)


class ExponentialInTime(AR1):
    """Along one column: an ``ar1`` whose correlation at a distance of one is exp(-1 / range)."""

    name = "exponential"
    takes = "places"
    own_names = ("range",)
    formula = staticmethod(_fading)

    def __init__(self, gap: Array) -> None:
        super().__init__(gap)
        self.bounded, self.start = np.zeros(1, dtype=bool), np.array([START])
        self.gaps, self.unit = self.gaps * self.unit, 1.0
        self.range = _Range(gap[~np.isnan(gap)])

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        return self.range.own

    def fading(self, phi: float) -> tuple[Array, Array]:
        return self.range.correlations(phi, self.gaps)

    def edges(self, phi: Array) -> list[Array]:
        return self.range.candidates(phi)

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        return self.range.lost(phi)
