"""Residual covariances: bands, log-determinants and slopes against the dense inverse of R."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.covariance.residuals import spread
from bold_orchard.covariance.residuals.ar1 import AR1
from bold_orchard.covariance.residuals.exchangeable import ExchangeableBands, ExchangeableRows
from bold_orchard.covariance.residuals.exponential import Exponential, ExponentialInTime
from bold_orchard.covariance.residuals.independent import Independent
from bold_orchard.covariance.residuals.spread import Spread
from bold_orchard.covariance.residuals.toeplitz import Toeplitz
from bold_orchard.covariance.residuals.unstructured import UnstructuredRows

SIZES = [3, 1, 4, 2]
N = sum(SIZES)
STARTS = np.cumsum([0, *SIZES[:-1]])
UNIT = np.repeat(np.arange(4), SIZES)
SAME = UNIT[:, None] == UNIT[None, :]
TIME = np.array([0, 1, 4, 2, 0, 2, 3, 7, 1, 2.0])
OCCASION = np.array([0, 1, 2, 1, 0, 1, 2, 3, 1, 3])
X = np.column_stack([np.linspace(-1, 1, N), np.arange(N) % 2.0])


def gaps(time=TIME):
    first = np.append(True, np.diff(UNIT) != 0)
    return np.where(first, np.nan, np.diff(time, prepend=0))


def ar1(phi, time=TIME, unit=1.0):
    rho = np.tanh(phi[0]) ** (1 / unit)
    return np.where(SAME, np.power(rho, np.abs(time[:, None] - time[None, :])), 0.0)


def exchangeable(phi):
    low = -1 / (max(SIZES) - 1)
    rho = low + (1 - low) / (1 + np.exp(-phi[0]))
    return np.where(SAME, rho, 0.0) + (1 - rho) * np.eye(N)


def unstructured(phi):
    low = np.zeros((4, 4))
    low[0, 0] = 1
    places = [(i, j) for i in range(1, 4) for j in range(i + 1)]
    for (i, j), v in zip(places, phi):
        low[i, j] = np.exp(v) if i == j else v
    return np.where(SAME, (low @ low.T)[np.ix_(OCCASION, OCCASION)], 0.0)


EAST, NORTH = np.cos(3.0 * np.arange(N)) * 5, np.sin(7.0 * np.arange(N)) * 4
PLACES = np.column_stack([EAST, NORTH])
APART = np.sqrt(((PLACES[:, None] - PLACES[None, :]) ** 2).sum(axis=2))


def toeplitz(phi):
    """r from partial autocorrelations by brute force: each is that of the two ends given all between."""
    p, r = np.tanh(phi), [1.0]
    for k in range(1, len(p) + 1):
        r_in = np.array([[r[abs(i - j)] for j in range(k)] for i in range(k)])
        between, first, last = r_in[1:, 1:], r_in[0, 1:], r_in[0, 1:][::-1]
        solved = np.linalg.solve(between, np.column_stack([first, last])) if k > 1 else np.zeros((0, 2))
        left = np.sqrt((1 - first @ solved[:, 0]) * (1 - last @ solved[:, 1]))
        r.append(float(first @ solved[:, 1] + p[k - 1] * left))
    return np.where(SAME, np.array(r)[np.abs(OCCASION[:, None] - OCCASION[None, :])], 0.0)


def exponential(phi, apart=APART):
    median = np.median(apart[SAME & (apart > 0)])
    return np.where(SAME, np.exp(-apart / (median * np.exp(phi[0]))), 0.0)


def in_time(phi):
    return np.where(SAME, np.exp(-np.abs(TIME[:, None] - TIME[None, :]) / (1.5 * np.exp(phi[0]))), 0.0)


CASES = {
    "toeplitz": (lambda: Toeplitz(OCCASION, STARTS, "tree", 4), toeplitz, 3),
    "exponential on the ground": (lambda: Exponential(PLACES, STARTS, "plot"), exponential, 1),
    "exponential in time": (lambda: ExponentialInTime(gaps()), in_time, 1),
    "independent": (lambda: Independent(N), lambda phi: np.eye(N), 0),
    "ar1": (lambda: AR1(gaps()), ar1, 1),
    "ar1 in halves": (lambda: AR1(gaps(TIME / 2)), lambda phi: ar1(phi, TIME / 2, 0.5), 1),
    "exchangeable": (lambda: ExchangeableRows(STARTS, N), exchangeable, 1),
    "exchangeable bands": (lambda: ExchangeableBands(STARTS, N), exchangeable, 1),
    "unstructured": (lambda: UnstructuredRows(OCCASION, STARTS, list("abcd")), unstructured, 9),
}


def inverse(rows, phi):
    """R^-1 put together from its bands and totals."""
    b = rows.at(phi)
    out = np.zeros((N, N))
    for offset, (classes, values) in enumerate(zip(rows.classes, b.values)):
        for i in np.flatnonzero(classes >= 0):
            out[i, i - offset] = out[i - offset, i] = values[classes[i]]
    if b.totals is not None:
        for u, start in enumerate(rows.unit_starts):
            at = slice(start, start + SIZES[u])
            out[at, at] += b.totals[rows.unit_classes[u]]
    return out, b


def same_as_dense(rows, r, phi):
    out, b = inverse(rows, phi)
    np.testing.assert_allclose(out, np.linalg.inv(r(phi)), atol=1e-9)
    assert b.log_det == pytest.approx(np.linalg.slogdet(r(phi))[1], abs=1e-9)
    for a in range(len(phi)):
        step = 1e-6 * np.eye(len(phi))[a]
        (up, over), (down, under) = inverse(rows, phi + step), inverse(rows, phi - step)
        assert b.log_det_slope[a] == pytest.approx((over.log_det - under.log_det) / 2e-6, abs=1e-6)
        for offset, classes in enumerate(rows.classes):
            numeric = (over.values[offset] - under.values[offset]) / 2e-6
            np.testing.assert_allclose(b.slopes[offset][a], numeric, atol=1e-5 * (1 + np.abs(numeric).max(initial=0)))
            assert classes.max() < rows.sizes[offset] == len(b.values[offset])
        if b.totals is not None:
            np.testing.assert_allclose(b.totals_slopes[a], (over.totals - under.totals) / 2e-6, atol=1e-5)
        assert np.abs(up - down).max() > 0


@pytest.mark.parametrize("name", CASES)
@pytest.mark.parametrize("seed", [1, 2])
def test_bands_are_the_inverse(name, seed):
    make, r, m = CASES[name]
    phi = np.abs(0.4 * np.random.default_rng(seed).normal(size=m)) + 0.05
    same_as_dense(make(), r, phi)


@pytest.mark.parametrize("name", [n for n in CASES if n != "exchangeable"])
@pytest.mark.parametrize("many", [True, False])
def test_a_spread_scales_rows_and_columns(name, many, monkeypatch):
    if many:
        monkeypatch.setattr(spread, "MOST_DISTINCT", 0)
    make, r, m = CASES[name]
    phi = np.append(np.full(m, 0.2), [0.3, -0.5])

    def scaled(p):
        s = np.exp(X @ p[m:])
        return r(p[:m]) * np.outer(s, s)

    same_as_dense(Spread(make(), X), scaled, phi)


def test_rho_may_be_negative_for_whole_gaps_only():
    whole, halves = AR1(gaps()), AR1(gaps(TIME / 2))
    assert not whole.bounded[0] and halves.bounded[0]
    same_as_dense(whole, ar1, np.array([-0.4]))
    assert halves.parameters(np.array([0.5]), 1.0)["rho"] == pytest.approx(np.tanh(0.5) ** 2)


def test_exchangeable_reaches_its_lower_limit_and_no_further():
    rows = ExchangeableRows(STARTS, N)
    low, high = (rows.parameters(np.array([p]), 1.0)["rho"] for p in (-30.0, 30.0))
    assert low == pytest.approx(-1 / 3, abs=1e-9) and high == pytest.approx(1, abs=1e-9)
    assert np.linalg.eigvalsh(exchangeable(np.array([-6.0])))[0] > 0


def test_unstructured_reports_occasions_and_their_covariance():
    rows = UnstructuredRows(OCCASION, STARTS, list("abcd"))
    phi = np.linspace(-0.3, 0.4, 9)
    d = rows.parameters(phi, 2.5)
    assert d["occasions"] == list("abcd")
    full = unstructured(phi)
    np.testing.assert_allclose(np.array(d["covariance"])[0, 1], 2.5 * full[4, 5])
