"""Covariance of the residuals among rows, by the entries of its inverse.

Rows stand sorted by unit and time, so that the inverse of R / sigma^2 has a few bands: entry (i, i - o) for each
offset o. Entries fall into classes that share one value; ``classes[o]`` (n,) names the class of each row, -1 where
the band has no entry. Parameters phi are free (or not negative where ``bounded``).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass(frozen=True)
class Bands:
    """Values of all entries: per offset ``values`` (classes,) and ``slopes`` (n_phi, classes); log|R| likewise.

    ``totals`` (classes,) are weights of the products of each unit's totals, where a structure uses them.
    """

    values: list[Array]
    slopes: list[Array]
    log_det: float
    log_det_slope: Array
    totals: Array | None = None
    totals_slopes: Array | None = None


class RowCovariance:
    """The contract: ``classes`` and ``sizes`` per offset, ``bounded`` (n_phi,), ``start`` (n_phi,), ``at(phi)``."""

    name = "independent"
    classes: list[Array]
    sizes: list[int]
    bounded: Array
    start: Array
    unit_starts: Array | None = None
    unit_classes: Array | None = None
    unit_size: int = 0

    def at(self, phi: Array) -> Bands:
        raise NotImplementedError

    def colour(self, phi: Array, white: Array) -> Array:
        """Independent normal values (n,) -> values with covariance R / sigma^2, by the factor of the banded inverse."""
        from scipy.linalg import cholesky_banded, solve_banded

        return np.asarray(solve_banded((0, len(self.classes) - 1), cholesky_banded(self._upper(phi)), white))

    def whiten(self, phi: Array, values: Array) -> Array:
        """The way back from ``colour``: residuals (n,) over sigma -> independent ones of variance 1."""
        from scipy.linalg import cholesky_banded

        factor = cholesky_banded(self._upper(phi))
        out, widest = factor[-1] * values, len(factor) - 1
        for offset in range(1, widest + 1):
            out[:-offset] += factor[widest - offset, offset:] * values[offset:]
        return np.asarray(out)

    def scale(self, phi: Array) -> Array | float:
        """SD of each row over sigma, (n,) or one for all."""
        return 1.0

    def _upper(self, phi: Array) -> Array:
        """R^-1 sigma^2 in the banded form of the library, (bands, n)."""
        bands = self.at(phi)
        widest = len(self.classes) - 1
        upper = np.zeros((widest + 1, len(self.classes[0])))
        for offset, (classes, values) in enumerate(zip(self.classes, bands.values)):
            have = classes >= 0
            upper[widest - offset, have] = values[classes[have]]
        return upper

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        """What the document reports under ``residual.parameters``."""
        raise NotImplementedError


class Independent(RowCovariance):
    """R = sigma^2 I: the base on which a spread is built."""

    def __init__(self, n: int) -> None:
        self.classes, self.sizes = [np.zeros(n, dtype=np.intp)], [1]
        self.bounded, self.start = np.zeros(0, dtype=bool), np.zeros(0)

    def at(self, phi: Array) -> Bands:
        return Bands([np.ones(1)], [np.zeros((0, 1))], 0.0, np.zeros(0))

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return {}


class AR1(RowCovariance):
    """Correlation rho^gap inside a unit; ``gap`` (n,) to the row before, NaN for a unit's first row.

    tanh(phi) is rho^unit, with unit 1 when all gaps are whole numbers, and only then rho may be negative; else the unit is
    the smallest gap, so that the slope at rho = 0 is finite. The inverse is tridiagonal: with f = rho^gap,
    1 / (1 - f^2) for a row with a predecessor (1 without), f^2 / (1 - f^2) more for one with a successor, and
    -f / (1 - f^2) beside the diagonal.
    """

    name = "ar1"

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

    def at(self, phi: Array) -> Bands:
        rho = float(np.tanh(phi[0]))
        turn = 1.0 - rho**2
        f = np.power(rho, self.gaps)
        df = self.gaps * np.power(rho, self.gaps - 1.0) * turn
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

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return {"rho": float(np.tanh(phi[0]) ** (1.0 / self.unit))}


class ExchangeableRows(RowCovariance):
    """One correlation rho between all rows of a unit, from -1 / (largest unit - 1) up to 1.

    The inverse is (I - rho / (1 + (m - 1) rho) 11') / (1 - rho) for a unit of m rows, so beside the rows' own
    products only those of the units' totals are needed. rho = low + (1 - low) / (1 + exp(-phi)).
    """

    name = "exchangeable"

    def __init__(self, unit_starts: Array, n: int) -> None:
        sizes = np.diff(np.append(unit_starts, n))
        self.m, self.unit_classes = np.unique(sizes, return_inverse=True)
        self.counts = np.bincount(self.unit_classes)
        self.unit_starts, self.unit_size = unit_starts, len(self.m)
        self.low = -1.0 / max(int(self.m[-1]) - 1, 1)
        self.classes, self.sizes = [np.zeros(n, dtype=np.intp)], [1]
        self.bounded, self.start = np.zeros(1, dtype=bool), np.array([np.log((0.2 - self.low) / 0.8)])

    def _rho(self, phi: Array) -> np.float64:
        return np.float64(self.low + (1.0 - self.low) / (1.0 + np.exp(-phi[0])))

    def at(self, phi: Array) -> Bands:
        rho = self._rho(phi)
        turn = (rho - self.low) * (1.0 - rho) / (1.0 - self.low)
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
        rho, m = self._rho(phi), np.diff(np.append(self.unit_starts, len(values)))
        mean = np.add.reduceat(values, self.unit_starts) / m
        own, whole = np.sqrt(1.0 - rho) ** power, np.sqrt(1.0 + (m - 1) * rho) ** power
        return np.asarray(own * values + np.repeat((whole - own) * mean, m))

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return {"rho": float(self._rho(phi))}


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


class UnstructuredRows(RowCovariance):
    """A free covariance among occasions; ``occasion`` (n,) codes, ``unit_starts`` the first row of each unit.

    R / sigma^2 = L L' with L[0, 0] = 1; phi holds the rows of L below, diagonals as logarithms.
    """

    name = "unstructured"

    def __init__(self, occasion: Array, unit_starts: Array, labels: list[str]) -> None:
        self.labels, self.occasion, v, n = labels, occasion, len(labels), len(occasion)
        self.places = [(i, j) for i in range(1, v) for j in range(i + 1)]
        self.bounded = np.zeros(len(self.places), dtype=bool)
        self.start = np.array([0.0 if i == j else 0.1 for i, j in self.places])
        sizes = np.diff(np.append(unit_starts, n))
        unit = np.repeat(np.arange(len(sizes)), sizes)
        present = np.zeros((len(sizes), v), dtype=bool)
        present[unit, occasion] = True
        self.patterns, pattern = np.unique(present, axis=0, return_inverse=True)
        self.counts = np.bincount(pattern.ravel(), minlength=len(self.patterns))
        pattern = pattern.ravel()[unit]
        place = np.arange(n) - unit_starts[unit]
        self.classes, self.sizes, self.entries = [], [], []
        for offset in range(int(sizes.max())):
            have = place >= offset
            key = np.full((n, 3), -1)
            key[have] = np.column_stack([pattern, occasion, occasion[np.arange(n) - offset]])[have]
            distinct, code = np.unique(key[have], axis=0, return_inverse=True)
            classes = np.full(n, -1)
            classes[have] = code.ravel()
            self.classes.append(classes)
            self.sizes.append(len(distinct))
            self.entries.append(distinct)

    def scale(self, phi: Array) -> Array:
        low = self._factor(phi)
        return np.asarray(np.sqrt((low**2).sum(axis=1))[self.occasion])

    def _factor(self, phi: Array) -> Array:
        low = np.zeros((len(self.labels), len(self.labels)))
        low[0, 0] = 1.0
        for (i, j), value in zip(self.places, phi):
            low[i, j] = np.exp(value) if i == j else value
        return low

    def at(self, phi: Array) -> Bands:
        low = self._factor(phi)
        r = low @ low.T
        changes = []
        for i, j in self.places:
            change = np.zeros_like(low)
            change[i, j] = low[i, j] if i == j else 1.0
            changes.append(change @ low.T + low @ change.T)
        inverses, slopes = np.zeros((len(self.patterns), *r.shape)), np.zeros((len(phi), len(self.patterns), *r.shape))
        log_det, log_slope = 0.0, np.zeros(len(phi))
        for p, seen in enumerate(self.patterns):
            at = np.ix_(seen, seen)
            inverse = np.linalg.inv(r[at])
            inverses[p][at] = inverse
            log_det += self.counts[p] * float(np.linalg.slogdet(r[at])[1])
            for a, change in enumerate(changes):
                slopes[a, p][at] = -inverse @ change[at] @ inverse
                log_slope[a] += self.counts[p] * float(np.trace(inverse @ change[at]))
        values = [inverses[d[:, 0], d[:, 1], d[:, 2]] for d in self.entries]
        return Bands(values, [slopes[:, d[:, 0], d[:, 1], d[:, 2]] for d in self.entries], log_det, log_slope)

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        low = self._factor(phi)
        return {"occasions": self.labels, "covariance": (sigma2 * low @ low.T).tolist()}


class Spread(RowCovariance):
    """Residual SD times exp(x' beta) for each row, on top of another structure; ``x`` (n, s)."""

    MOST = 40

    def __init__(self, inner: RowCovariance, x: Array) -> None:
        self.inner, self.name = inner, inner.name
        s = x.shape[1]
        self.bounded = np.concatenate([inner.bounded, np.zeros(s, dtype=bool)])
        self.start = np.concatenate([inner.start, np.zeros(s)])
        self.rows, self.total = x, 2.0 * x.sum(axis=0)
        distinct, code = np.unique(x, axis=0, return_inverse=True)
        code = code.ravel()
        if len(distinct) > self.MOST:
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

    def scale(self, phi: Array) -> Array:
        m = len(self.inner.start)
        return np.asarray(self.inner.scale(phi[:m]) * np.exp(self.rows @ phi[m:]))

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return self.inner.parameters(phi[: len(self.inner.start)], sigma2)
