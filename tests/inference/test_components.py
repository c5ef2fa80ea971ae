"""Variance components, their standard errors, shares, ICC and R squared against dense versions."""

from __future__ import annotations

import numpy as np
import pytest

import dense
from bold_orchard.data.table import Table
from bold_orchard.inference.comparison.nested import random_nested, relation, spans
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.variances.components import components
from bold_orchard.inference.variances.information import parameter_covariance
from builders import make_trees, residual, trial


def table_of(frame):
    return Table(frame, "t", len(frame))


def dense_hessian(f, at, relative=2e-3):
    """Second differences of a dense deviance."""
    h = np.diag(relative * np.maximum(np.abs(at), 0.05))
    m = len(at)
    out = np.empty((m, m))
    for i in range(m):
        for j in range(m):
            out[i, j] = f(at + h[i] + h[j]) - f(at + h[i] - h[j]) - f(at - h[i] + h[j]) + f(at - h[i] - h[j])
            out[i, j] /= 4 * h[i, i] * h[j, j]
    return out


@pytest.mark.parametrize("method", ["reml", "ml"])
def test_standard_errors_are_those_of_the_observed_information(method):
    frame = make_trees(seed=2, rows=90, orchards=14, slope_sd=1.2, orchard_sd=2.0)
    made = fit("yield = rain + sun; each orchard: intercept + rain", table_of(frame), Settings(method=method))
    assert not made.result["convergence"]["boundary"]
    y, x = frame["yield"].to_numpy(), np.column_stack([np.ones(90), frame["rain"], frame["sun"]])
    codes = frame["orchard"].astype("category").cat.codes.to_numpy()

    def f(v):
        g = np.array([[v[0], v[2]], [v[2], v[1]]])
        return dense.deviance(y, x, dense.covariance(90, [(codes, x[:, :2])], [g], v[3]), method == "reml")

    g = np.array(made.result["random"][0]["covariance"])
    at = np.array([g[0, 0], g[1, 1], g[0, 1], made.result["residual"]["variance"]])
    se = np.sqrt(np.diag(2 * np.linalg.inv(dense_hessian(f, at))))
    rows = components(made)["components"]
    np.testing.assert_allclose([r["se"] for r in rows], se, rtol=2e-3)
    for r in rows:
        assert r["ratio"] == pytest.approx(r["estimate"] / r["se"])
        if r["kind"] != "covariance":
            assert np.sqrt(r["ci"][0] * r["ci"][1]) == pytest.approx(r["estimate"])  # symmetric on the log scale


def test_rho_and_spread_have_standard_errors_too():
    frame = trial(trees=24)
    made = fit("yield = rain; each tree: intercept; within tree: ar1(week); spread = soil", table_of(frame))
    y, x = frame["yield"].to_numpy(), np.column_stack(made.design.fixed.values)
    codes = frame["tree"].astype("category").cat.codes.to_numpy()
    p = made.result["residual"]["parameters"]

    def f(v):
        part = {"variance": v[1], "structure": "ar1", "parameters": {"rho": v[2], "spread": [
            {"term": "soil[loam]", "estimate": v[3]}, {"term": "soil[sand]", "estimate": v[4]}]}}  # fmt: skip
        r = residual(frame, "tree", part)
        return dense.deviance(
            y, x, dense.covariance(len(y), [(codes, np.ones((len(y), 1)))], [np.array([[v[0]]])], r), True
        )

    at = np.array([made.result["random"][0]["covariance"][0][0], made.result["residual"]["variance"], p["rho"],
                   *(s["estimate"] for s in p["spread"])])  # fmt: skip
    se = np.sqrt(np.diag(2 * np.linalg.inv(dense_hessian(f, at))))
    rows = components(made)["components"]
    assert [r["kind"] for r in rows] == ["variance", "residual", "parameter", "parameter", "parameter"]
    np.testing.assert_allclose([r["se"] for r in rows], se, rtol=5e-3)
    assert rows[2]["term"] == "rho" and rows[2]["ci"][0] < rows[2]["estimate"] < rows[2]["ci"][1]


def test_the_cheap_information_of_large_fits_agrees(monkeypatch):
    import bold_orchard.inference.variances.information as module

    made = fit(
        "yield = rain + sun; each orchard: intercept + rain",
        table_of(make_trees(seed=2, rows=90, orchards=14, slope_sd=1.2, orchard_sd=2.0)),
    )
    exact, dfs = parameter_covariance(made.evaluation), [r["df"] for r in made.result["fixed"]]
    monkeypatch.setattr(module, "LARGE", 0)
    np.testing.assert_allclose(
        parameter_covariance(made.evaluation, made.model.found.hessian), exact, rtol=1e-3, atol=1e-6
    )
    again = fit(
        "yield = rain + sun; each orchard: intercept + rain",
        table_of(make_trees(seed=2, rows=90, orchards=14, slope_sd=1.2, orchard_sd=2.0)),
    )
    np.testing.assert_allclose([r["df"] for r in again.result["fixed"]], dfs, rtol=1e-3)


def test_shares_icc_and_r_squared_with_slopes():
    frame = make_trees(seed=2, rows=90, orchards=14, slope_sd=1.2, orchard_sd=2.0)
    made = fit("yield = rain; each orchard: intercept + rain", table_of(frame))
    d = components(made)
    g, s2 = np.array(made.result["random"][0]["covariance"]), made.result["residual"]["variance"]
    z = np.column_stack([np.ones(90), frame["rain"]])
    b = [r["estimate"] for r in made.result["fixed"]]
    fixed, random = np.var(z @ b, ddof=1), np.mean(np.einsum("ij,jk,ik->i", z, g, z))  # Johnson (2014)
    assert sum(r["share"] for r in d["components"] if r["share"] is not None) == pytest.approx(1)
    assert [r["share"] is None for r in d["components"]] == [False, True, True, False]  # the unit's effects have one
    assert d["icc"] == [
        {"group": "orchard", "value": pytest.approx(random / (random + s2)), "share": d["icc"][0]["value"]}
    ]
    assert d["r2"]["marginal"] == pytest.approx(fixed / (fixed + random + s2))
    assert d["r2"]["conditional"] == pytest.approx((fixed + random) / (fixed + random + s2))


def test_a_component_on_its_boundary_is_flagged_without_a_standard_error():
    frame = make_trees(seed=4, orchard_sd=0.0, slope_sd=0.0)
    row = components(fit("yield = rain; each orchard: intercept", table_of(frame)))["components"][0]
    assert row["boundary"] and row["estimate"] == 0 and row["se"] is None and row["ci"] is None


NESTED = [
    ("yield = rain", "yield = rain + soil", True),
    ("yield = rain + soil", "yield = rain", False),
    ("yield = centre(rain)", "yield = rain + soil", True),  # the same column space in other words
    ("yield = soil", "yield = soil without intercept", True),
    ("yield = power(rain, 2)", "yield = rain + calc(rain*rain)", True),
    ("yield = rain", "yield = rain; each tree: intercept", True),
    ("yield = rain; each tree: intercept", "yield = rain; each tree: intercept + rain", True),
    ("yield = rain; each tree (diagonal): intercept + rain", "yield = rain; each tree: intercept + rain", True),
    ("yield = rain; each tree: intercept + rain", "yield = rain; each tree (diagonal): intercept + rain", False),
    (
        "yield = rain; each tree (identity): intercept + rain",
        "yield = rain; each tree (diagonal): intercept + rain",
        True,
    ),
    (
        "yield = rain; each tree (identity): intercept + rain",
        "yield = rain; each tree (exchangeable): intercept + rain",
        True,
    ),
    (
        "yield = rain; each tree (exchangeable): intercept + rain",
        "yield = rain; each tree (diagonal): intercept + rain",
        False,
    ),
    ("yield = rain; each tree: intercept; each tree: rain", "yield = rain; each tree: intercept + rain", True),
    ("yield = rain; each tree: intercept", "yield = rain; each orchard: intercept", False),
    ("yield = rain; each orchard: intercept", "yield = rain; each orchard: intercept; each season: intercept", True),
    ("yield = rain; each tree: intercept", "yield = rain; each tree in orchard: intercept", True),  # the same trees
    ("yield = rain; each tree: centre(rain) + intercept", "yield = rain; each tree: intercept + rain", True),
]


@pytest.mark.parametrize(("small", "large", "answer"), NESTED)
def test_nesting_is_decided_on_spaces_and_structures(small, large, answer):
    frame = table_of(trial())
    one, two = (fit(s, frame).design for s in (small, large))
    assert relation(one, two).nested is answer
    if answer:
        assert spans(two, one) and random_nested(one, two)
