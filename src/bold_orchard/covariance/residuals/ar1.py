"""Correlation that fades with the time between rows."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import EDGE, NEAREST, Bands, Layout, RowCovariance
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
NEAR = 4.0  # phi from which an edge is near
FAR = 8.5  # phi at which rho is as good as at its edge


class AR1(RowCovariance):
    """Correlation rho^gap inside a unit; ``gap`` (n,) to the row before, NaN for a unit's first row.

    tanh(phi) is rho^unit, kept NEAREST off its ends, with unit 1 when all gaps are whole numbers, and only then rho may be negative; else the unit is
    the smallest gap, so that the slope at rho = 0 is finite. The inverse is tridiagonal: with f = rho^gap,
    1 / (1 - f^2) for a row with a predecessor (1 without), f^2 / (1 - f^2) more for one with a successor, and
    -f / (1 - f^2) beside the diagonal.
    """

    name = "ar1"
    takes = "time"
    own_names = ("rho",)

    @classmethod
    def over(cls, rows: Layout) -> RowCovariance:
        assert rows.time is not None
        gap = np.diff(rows.time, prepend=rows.time[0]).astype(float)
        gap[rows.starts] = np.nan
        return cls(gap)

    @classmethod
    def formula(cls, own: tuple[str, ...], places: tuple[tuple[str, str], ...]) -> str:
        ((one, other),) = places
        return f"{own[0]}^{{|{one} - {other}|}}"

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        low = (0.0, 0.0) if self.bounded[0] else (-EDGE, -1.0)
        meaning = "correlation of two residuals of one unit, one step of time apart"
        edges, ends = (low[0], EDGE), (low[1], 1.0)
        return (OwnParameter("rho", meaning, self._rho, symbol=r"\rho", edges=edges, ends=ends, nothing=0.0),)

    def __init__(self, gap: Array) -> None:
        whole = bool(np.all(np.isnan(gap) | (gap == np.round(gap))))
        self.bounded, self.start = np.array([not whole]), np.array([0.3])
        gaps, index = np.unique(gap[~np.isnan(gap)], return_inverse=True)
        self.unit = 1.0 if whole else float(gaps[0])
        self.gaps = gaps / self.unit
        code = np.full(len(gap), -1)
        code[~np.isnan(gap)] = index
        code_after = np.append(code[1:], -1)
        self.pairs, own = np.unique(np.column_stack([code, code_after]), axis=0, return_inverse=True)
        self.classes = [own.ravel(), code]
        self.sizes = [len(self.pairs), len(self.gaps)]
        self.counts = np.bincount(index, minlength=len(self.gaps))

    def fading(self, phi: float) -> tuple[Array, Array]:
        """The correlation over each of ``gaps``, and its slope."""
        rho, turn = self._of_unit(phi), 1.0 - float(np.tanh(phi)) ** 2
        return np.power(rho, self.gaps), self.gaps * np.power(rho, self.gaps - 1.0) * turn

    def at(self, phi: Array) -> Bands:
        f, df = self.fading(float(phi[0]))
        rest = 1.0 - f**2
        top, d_top = 1.0 / rest, 2 * f * df / rest**2
        side, d_side = -f / rest, -df * (1 + f**2) / rest**2
        more, d_more = f**2 / rest, 2 * f * df / rest**2
        before, after = self.pairs.T
        padded = [np.append(v, 0.0) for v in (top, d_top, more, d_more)]
        own = np.where(before >= 0, padded[0][before], 1.0) + np.where(after >= 0, padded[2][after], 0.0)
        d_own = np.where(before >= 0, padded[1][before], 0.0) + np.where(after >= 0, padded[3][after], 0.0)
        log_det = float(self.counts @ np.log(rest))
        slope = np.array([float(self.counts @ (-2 * f * df / rest))])
        return Bands([own, side], [d_own[None], d_side[None]], log_det, slope)

    def _rho(self, phi: float) -> float:
        return float(self._of_unit(phi) ** (1.0 / self.unit))

    def _of_unit(self, phi: float) -> float:
        return float(np.clip(np.tanh(phi), NEAREST - 1.0, 1.0 - NEAREST))

    def edges(self, phi: Array) -> list[Array]:
        return [np.append(np.sign(phi[:1]) * (FAR + 1.0), phi[1:])] if len(phi) and NEAR < abs(phi[0]) <= FAR else []

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        return (np.arange(len(phi)) == 0) & (np.abs(phi) > FAR)
