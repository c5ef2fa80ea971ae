"""One correlation between all rows of a unit."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import EDGE, NEAREST, Bands, Layout, RowCovariance
from bold_orchard.errors import OrchardError
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
MOST_IN_UNIT = 200  # rows of a unit whose bands are written out under a spread: the work grows with their square
NEAR = 4.0  # phi from which an edge is near
FAR = 16.0  # phi at which rho is as good as at its edge


class ExchangeableRows(RowCovariance):
    """One correlation rho between all rows of a unit, from -1 / (largest unit - 1) up to 1.

    The inverse is (I - rho / (1 + (m - 1) rho) 11') / (1 - rho) for a unit of m rows, so beside the rows' own
    products only those of the units' totals are needed. rho = low + (1 - low) / (1 + exp(-phi)), kept NEAREST off both ends.
    """

    name = "exchangeable"
    one_correlation = True
    own_names = ("rho",)

    @classmethod
    def over(cls, rows: Layout) -> RowCovariance:
        if not rows.spread:
            return ExchangeableRows(rows.starts, rows.n)
        largest = int(np.diff(np.append(rows.starts, rows.n)).max())
        if largest > MOST_IN_UNIT:
            raise OrchardError(
                f"exchangeable residuals with a spread are built for units of up to {MOST_IN_UNIT} rows; the largest "
                f"{rows.unit} has {largest:,}; write each {rows.unit}: intercept instead of within"
            )
        return ExchangeableBands(rows.starts, rows.n)

    def dense(self, phi: Array) -> Array:
        unit = np.cumsum(np.isin(np.arange(self.n), self.starts))
        out = np.where(unit[:, None] == unit[None, :], self._rho(phi[0]), 0.0)
        np.fill_diagonal(out, 1.0)
        return out

    @classmethod
    def formula(cls, own: tuple[str, ...], places: tuple[tuple[str, str], ...]) -> str:
        return own[0]

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        meaning = "correlation of two residuals of one unit"
        ends = (self._rho(-EDGE), 1.0)
        edges = (-EDGE, EDGE)
        return (OwnParameter("rho", meaning, self._rho, symbol=r"\rho", edges=edges, ends=ends, nothing=0.0),)

    def __init__(self, unit_starts: Array, n: int) -> None:
        self.starts, self.n = unit_starts, n
        sizes = np.diff(np.append(unit_starts, n))
        self.m, self.unit_classes = np.unique(sizes, return_inverse=True)
        self.counts = np.bincount(self.unit_classes)
        self.unit_starts, self.unit_size = unit_starts, len(self.m)
        self.low = -1.0 / max(int(self.m[-1]) - 1, 1)
        self.classes, self.sizes = [np.zeros(n, dtype=np.intp)], [1]
        self.bounded, self.start = np.zeros(1, dtype=bool), np.array([np.log((0.2 - self.low) / 0.8)])

    def _rho(self, phi: float) -> float:
        share = np.clip(1.0 / (1.0 + np.exp(-phi)), NEAREST, 1.0 - NEAREST)
        return float(self.low + (1.0 - self.low) * share)

    def edges(self, phi: Array) -> list[Array]:
        return [np.append(np.sign(phi[:1]) * (FAR + 1.0), phi[1:])] if len(phi) and NEAR < abs(phi[0]) <= FAR else []

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        return (np.arange(len(phi)) == 0) & (np.abs(phi) > FAR)

    def at(self, phi: Array) -> Bands:
        rho = self._rho(phi[0])
        grown = 1.0 / (1.0 + np.exp(-phi[0]))
        turn = (1.0 - self.low) * grown * (1.0 - grown)
        one, whole = 1.0 - rho, 1.0 + (self.m - 1.0) * rho
        totals = -rho / (one * whole)
        d_totals = -(one * whole + rho * (whole - one * (self.m - 1.0))) / (one * whole) ** 2 * turn
        log_det = float(self.counts @ ((self.m - 1) * np.log(one) + np.log(whole)))
        slope = float(self.counts @ (-(self.m - 1) / one + (self.m - 1) / whole)) * turn
        return Bands([np.array([1.0 / one])], [np.array([[turn / one**2]])], log_det, np.array([slope]),
                     totals, d_totals[None])  # fmt: skip

    def colour(self, phi: Array, white: Array) -> Array:
        """Deviations from the unit's mean shrink by sqrt(1 - rho), the mean by sqrt(1 + (m - 1) rho)."""
        return super().colour(phi, white) if self.unit_starts is None else self._stretched(phi, white, 1.0)

    def whiten(self, phi: Array, values: Array) -> Array:
        return super().whiten(phi, values) if self.unit_starts is None else self._stretched(phi, values, -1.0)

    def _stretched(self, phi: Array, values: Array, power: float) -> Array:
        assert self.unit_starts is not None
        rho, m = self._rho(phi[0]), np.diff(np.append(self.unit_starts, len(values)))
        mean = np.add.reduceat(values, self.unit_starts) / m
        own, whole = np.sqrt(1.0 - rho) ** power, np.sqrt(1.0 + (m - 1) * rho) ** power
        return np.asarray(own * values + np.repeat((whole - own) * mean, m))


class ExchangeableBands(ExchangeableRows):
    """The same written out entry by entry, for a spread on top; meant for units of moderate size."""

    def __init__(self, unit_starts: Array, n: int) -> None:
        super().__init__(unit_starts, n)
        assert self.unit_classes is not None
        sizes = np.diff(np.append(unit_starts, n))
        unit = np.repeat(np.arange(len(sizes)), sizes)
        place, kind = np.arange(n) - unit_starts[unit], self.unit_classes[unit]
        self.classes = [np.where(place >= o, kind, -1) for o in range(int(self.m[-1]))]
        self.sizes = [len(self.m)] * len(self.classes)
        self.unit_starts = None

    def at(self, phi: Array) -> Bands:
        b = super().at(phi)
        assert b.totals is not None and b.totals_slopes is not None
        values = [b.values[0] + b.totals, *([b.totals] * (len(self.classes) - 1))]
        slopes = [b.slopes[0] + b.totals_slopes, *([b.totals_slopes] * (len(self.classes) - 1))]
        return Bands(values, slopes, b.log_det, b.log_det_slope)
