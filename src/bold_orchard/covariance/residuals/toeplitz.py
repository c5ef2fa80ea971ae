"""One correlation for every distance in occasions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import NEAREST, Layout, RowCovariance
from bold_orchard.covariance.residuals.by_place import ByPlace
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
NEAR = 4.0  # phi from which an edge is near
FAR = 8.5  # phi at which a partial correlation is as good as at its edge


class Toeplitz(ByPlace):
    """Rows k occasions apart are correlated by r_k. phi are partial autocorrelations on Fisher's scale, so that every phi gives a
    covariance (Barndorff-Nielsen & Schou 1973); r by the recursion of Durbin (1960)."""

    name = "toeplitz"
    takes = "occasions"

    @classmethod
    def own_names_at(cls, labels: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(f"r{k}" for k in range(1, len(labels)))

    @classmethod
    def over(cls, rows: Layout) -> RowCovariance:
        assert rows.time is not None
        return cls(rows.time, rows.starts, rows.unit, len(rows.labels))

    def __init__(self, occasion: Array, starts: NDArray[np.intp], unit: str, occasions: int) -> None:
        self.start = np.append(0.3, np.zeros(occasions - 2)) if occasions > 1 else np.zeros(0)
        self.bounded = np.zeros(len(self.start), dtype=bool)
        super().__init__(np.asarray(occasion, dtype=float)[:, None], starts, unit)

    @classmethod
    def formula(cls, own: tuple[str, ...], places: tuple[tuple[str, str], ...]) -> str:
        ((one, other),) = places
        return f"\\rho_{{|{one} - {other}|}}"

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        def correlation(k: int) -> Callable[[Array], float]:
            return lambda phi: float(_autocorrelations(phi[: len(self.start)])[0][k])

        return tuple(
            OwnParameter(f"r{k}", f"correlation of two residuals of one unit, {k} {'occasion' if k == 1 else 'occasions'} apart", np.tanh,
                         k - 1, symbol=f"\\rho_{{{k}}}", ends=(-1.0, 1.0), nothing=0.0, value=correlation(k))
            for k in range(1, len(self.start) + 1)
        )  # fmt: skip

    def correlations(self, phi: Array, apart: Array) -> tuple[Array, Array]:
        r, slopes = _autocorrelations(phi)
        at = apart.astype(np.intp)
        return r[at], slopes[:, at]

    def edges(self, phi: Array) -> list[Array]:
        near = [k for k in range(len(self.start)) if NEAR < abs(phi[k]) <= FAR]
        return [np.where(np.arange(len(phi)) == k, np.sign(phi[k]) * (FAR + 1.0), phi) for k in near]

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        return (np.arange(len(phi)) < len(self.start)) & (np.abs(phi) > FAR)

    def reported(self, phi: Array) -> tuple[Array, Array, float, Array]:
        k = len(phi)
        r, slopes = _autocorrelations(phi)
        weights, p = np.arange(k, 0, -1), np.clip(np.tanh(phi), NEAREST - 1.0, 1.0 - NEAREST)
        return r[1:], slopes[:, 1:].T, float(weights @ np.log1p(-(p**2))), -2.0 * weights * p

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return {"correlations": _autocorrelations(phi[: len(self.start)])[0][1:].tolist()}


def _autocorrelations(phi: Array) -> tuple[Array, Array]:
    """r_0 = 1, r_1, ... (k + 1,) and their slopes (k, k + 1) from partial autocorrelations tanh(phi)."""
    k = len(phi)
    p = np.clip(np.tanh(phi), NEAREST - 1.0, 1.0 - NEAREST)
    r, d_r = np.zeros(k + 1), np.zeros((k, k + 1))
    r[0] = 1.0
    a, d_a = np.zeros(0), np.zeros((k, 0))  # coefficients of the best prediction by the last occasions
    left, d_left = 1.0, np.zeros(k)  # its variance
    for m in range(k):
        back, d_back = r[m:0:-1], d_r[:, m:0:-1]
        r[m + 1] = a @ back + p[m] * left
        d_r[:, m + 1] = d_a @ back + d_back @ a + p[m] * d_left
        d_r[m, m + 1] += left * (1.0 - p[m] ** 2)
        d_p = np.zeros(k)
        d_p[m] = 1.0 - p[m] ** 2
        d_a = np.column_stack([d_a - p[m] * d_a[:, ::-1] - np.outer(d_p, a[::-1]), d_p])
        a = np.append(a - p[m] * a[::-1], p[m])
        left, d_left = left * (1.0 - p[m] ** 2), d_left * (1.0 - p[m] ** 2) - 2.0 * left * p[m] * d_p
    return r, d_r
