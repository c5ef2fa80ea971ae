"""The Laplace approximation and quadrature against dense definitions, brute-force integrals and differences."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
from scipy.special import logsumexp

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.families.base import Data
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.likelihood.quadrature import Quadrature
from laplace_cases import UNITS, dense_laplace, made, orchards, outcome, somewhere

FAMILIES = ["binomial", "probit", "trials", "beta-binomial", "poisson", "negative-binomial", "gamma", "beta", "ordinal", "gaussian", "lognormal", "student",
            "zero-inflated-negative-binomial", "hurdle-poisson"]  # fmt: skip


def differences(c, point, h=1e-4):
    out = np.empty(len(point))
    for i in range(len(point)):
        ends = []
        for side in (h, -h, 2 * h, -2 * h):
            moved = point.copy()
            moved[i] += side
            ends.append(c.at(moved, close=1e-9).deviance)
        out[i] = (8 * (ends[0] - ends[1]) - (ends[2] - ends[3])) / (12 * h)
    return out


@pytest.mark.few(22)
@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize("family", FAMILIES)
def test_laplace_is_its_definition_and_its_gradient_exact(family, units, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    r = np.random.default_rng(2)
    root = r.normal(size=(8, 8))
    pd.DataFrame(root @ root.T / 8 + np.eye(8), range(8), range(8)).to_csv("kin.csv")
    _, c = made(family, units)
    point = somewhere(c)
    e = c.at(point, close=1e-9)
    assert e.deviance == pytest.approx(dense_laplace(c, point), abs=1e-8)
    np.testing.assert_allclose(e.gradient, differences(c, point), atol=1e-6 * max(1.0, np.abs(e.gradient).max()))


def brute(c, point, count=61):
    """Every level's integral on a dense product grid, wider than the fast one's."""
    t, unit, fixed, extra = c.factors(point)[0], c.rows.units[0], c.linear(point), point[c.extra]
    x, w = np.polynomial.hermite_e.hermegauss(count)
    k = len(t)
    grid = np.array(list(itertools.product(x, repeat=k)))
    logs = np.array([sum(v) for v in itertools.product(np.log(w), repeat=k)]) - 0.5 * k * np.log(2 * np.pi)
    mode, total = c.mode(point, None, 1e-5), 0.0
    for j in range(unit.levels):
        rows = unit.codes == j
        a = np.eye(k) + t.T @ mode.products.stages[0].c[:, :, j] @ t
        s = 1.3 * np.linalg.inv(np.linalg.cholesky(a)).T
        v = mode.v[0][:, j] + grid @ s.T
        eta = fixed[rows] + (v @ t.T) @ c.rows.z[0][:, rows]
        loglik = c.family.on(c.family.data.take(np.flatnonzero(rows))).value(eta, extra).sum(axis=1)
        total += (
            logsumexp(logs + loglik - 0.5 * (v**2).sum(axis=1) + 0.5 * (grid**2).sum(axis=1)) + np.linalg.slogdet(s)[1]
        )
    return -2 * total


@pytest.mark.few(25)
@pytest.mark.parametrize("units", UNITS[:2])
@pytest.mark.parametrize("family", [f for f in FAMILIES if f != "gaussian"])
def test_quadrature_reaches_the_brute_force_integral_and_one_point_is_laplace(family, units):
    _, c = made(family, units)
    point = somewhere(c)
    assert Quadrature.of(c, 25).at(point).deviance == pytest.approx(brute(c, point), abs=2e-6)
    assert Quadrature.of(c, 1).at(point).deviance == pytest.approx(c.at(point, close=1e-9).deviance, abs=1e-8)


@pytest.mark.few(9)
@pytest.mark.parametrize("points", [1, 2, 5, 15])
@pytest.mark.parametrize("family", ["binomial", "negative-binomial", "ordinal", "beta"])
def test_quadrature_s_gradient_follows_its_nodes(family, points):
    _, c = made(family, "each orchard: intercept + rain")
    q, point = Quadrature.of(c, points), somewhere(c, 3)
    expected = differences(q, point)
    np.testing.assert_allclose(q.at(point, close=1e-9).gradient, expected, atol=1e-6 * max(1.0, np.abs(expected).max()))


@pytest.mark.few(6)
@pytest.mark.parametrize("family", FAMILIES)
def test_the_maximum_is_one_in_every_direction_and_the_information_its_curvature(family):
    column, options = outcome(family)
    frame = orchards(260, 5)
    made_fit = fit(
        f"{column} = rain; each orchard: intercept", Table(frame, "t", len(frame)), Settings(options=options)
    )
    assert made_fit.converged
    c, best = made_fit.criterion, made_fit.evaluation
    r = np.random.default_rng(0)
    spread = np.sqrt(np.diag(made_fit.known.parameter_covariance))
    for _ in range(12):
        moved = best.theta + 0.03 * r.normal(size=len(best.theta)) * spread
        assert c.at(moved, close=1e-9).deviance > best.deviance - 1e-7
    h = 1e-4
    hessian = np.array([(c.at(best.theta + h * d, close=1e-9).gradient - c.at(best.theta - h * d, close=1e-9).gradient) / (2 * h)
                        for d in np.eye(len(best.theta))])  # fmt: skip
    away = made_fit.known.parameter_covariance - 2 * np.linalg.inv(hessian)
    assert np.abs(away / np.outer(spread, spread)).max() < 5e-5


def test_starting_from_a_sample_of_units_ends_in_the_same_place(monkeypatch):
    from bold_orchard.estimation import generalized_search

    frame = orchards(3000, 9)
    frame["orchard"] = np.random.default_rng(1).integers(0, 60, 3000)
    for family in ("binomial", "ordinal"):
        column, options = outcome(family)
        sentence, settings = f"{column} = rain; each orchard: intercept + rain", Settings(options=options)
        whole = fit(sentence, Table(frame, "t", 3000), settings)
        monkeypatch.setattr(generalized_search, "MANY_ROWS", 100)
        monkeypatch.setattr(generalized_search, "MANY_LEVELS", 10)
        monkeypatch.setattr(generalized_search, "SAMPLE", 20)
        sampled = fit(sentence, Table(frame, "t", 3000), settings)
        monkeypatch.undo()
        assert sampled.evaluation.deviance == pytest.approx(whole.evaluation.deviance, abs=1e-6)
        assert [r["estimate"] for r in sampled.result["fixed"]] == pytest.approx(
            [r["estimate"] for r in whole.result["fixed"]], rel=1e-4
        )


@pytest.mark.slow
def test_what_is_rare_may_have_no_row_in_the_sample(monkeypatch):
    from bold_orchard.estimation import generalized_search

    r = np.random.default_rng(4)
    n, units = 40_000, 4_000
    code, rain = r.integers(0, units, n), r.normal(size=n)
    soil = np.where(np.isin(code, [5, 6, 7]), "peat", np.where(code % 2 == 0, "clay", "loam"))
    eta = 0.4 * rain + 0.6 * (soil == "loam") - 0.5 * (soil == "peat") + 0.7 * r.normal(size=units)[code]
    r.random(n)
    grade = np.digitize(eta + r.logistic(size=n), [-1.0, 1.0, 9.5])
    table = Table(pd.DataFrame({"orchard": code, "rain": rain, "soil": soil, "grade": grade}), "t", n)
    settings = Settings(options=Options(family="ordinal"))
    sampled = fit("grade = rain + soil; each orchard: intercept", table, settings)
    monkeypatch.setattr(generalized_search, "MANY_LEVELS", 10**9)
    whole = fit("grade = rain + soil; each orchard: intercept", table, settings)
    assert whole.converged and sampled.converged
    assert sampled.evaluation.deviance == pytest.approx(whole.evaluation.deviance, abs=1e-6)


def test_weights_count_rows_and_offsets_shift():
    frame = orchards()
    column, options = outcome("poisson")
    doubled = pd.concat([frame, frame[frame.season == 1]], ignore_index=True)
    frame["w"] = 1.0 + (frame.season == 1)
    one = fit(f"{column} = rain; each orchard: intercept", Table(doubled, "t", len(doubled)), Settings(options=options))
    two = fit(
        f"{column} = rain; each orchard: intercept",
        Table(frame, "t", len(frame)),
        Settings(options=replace(options, weights="w")),
    )
    assert one.evaluation.deviance == pytest.approx(two.evaluation.deviance, abs=1e-6)
    frame["log_area"] = 0.7
    moved = fit(
        f"{column} = rain + offset(log_area); each orchard: intercept",
        Table(frame, "t", len(frame)),
        Settings(options=options),
    )
    plain = fit(f"{column} = rain; each orchard: intercept", Table(frame, "t", len(frame)), Settings(options=options))
    assert moved.result["fixed"][0]["estimate"] == pytest.approx(plain.result["fixed"][0]["estimate"] - 0.7, rel=1e-5)
    assert Data(np.arange(3.0)).take(slice(1, 3)).y.tolist() == [1.0, 2.0]
