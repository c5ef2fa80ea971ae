"""The fast engine against the dense judge."""

from __future__ import annotations

import numpy as np
import pytest

import dense
from bold_orchard.data.table import Table
from bold_orchard.inference.fit import Settings, fit
from builders import make_trees

SLOPES = "yield = rain + sun; each orchard: intercept + rain"


def table_of(frame):
    return Table(frame, "trees.csv", len(frame))


def pieces(frame):
    y = frame["yield"].to_numpy()
    x = np.column_stack([np.ones(len(frame)), frame["rain"], frame["sun"]])
    codes = frame["orchard"].astype("category").cat.codes.to_numpy()
    return y, x, codes


def judge(made, frame, z):
    """Deviance of the fit's own estimates by the dense road, and V."""
    y, x, codes = pieces(frame)
    g = np.array(made.result["random"][0]["covariance"])
    v = dense.covariance(len(y), [(codes, z)], [g], made.result["residual"]["variance"])
    return dense.deviance(y, x, v, made.criterion.reml), v


@pytest.mark.parametrize("method", ["reml", "ml"])
@pytest.mark.parametrize("structure", ["unstructured", "diagonal"])
def test_likelihood_and_estimates_equal_dense_search(method, structure):
    frame = make_trees()
    sentence = SLOPES.replace("orchard:", f"orchard ({structure}):")
    made = fit(sentence, table_of(frame), Settings(method=method))
    y, x, codes = pieces(frame)
    z = x[:, :2]
    value, v = judge(made, frame, z)
    assert made.evaluation.deviance == pytest.approx(value, abs=1e-7)

    def factor(t):
        low = np.array([[t[0], 0], [t[2] if structure == "unstructured" else 0.0, t[1]]])
        return low @ low.T

    def f(t):
        return dense.deviance(y, x, dense.covariance(len(y), [(codes, z)], [factor(t)], t[3] ** 2), method == "reml")

    g = np.array(made.result["random"][0]["covariance"])
    low = np.linalg.cholesky(g + 1e-12 * np.eye(2))
    start = 1.2 * np.array([low[0, 0], low[1, 1], low[1, 0], made.result["residual"]["sd"]])
    best = dense.search(f, start)
    assert -0.5 * best.fun == pytest.approx(made.result["fit"]["loglik"], abs=1e-6)
    np.testing.assert_allclose(g, factor(best.x), rtol=1e-5, atol=1e-6)
    assert made.result["residual"]["variance"] == pytest.approx(best.x[3] ** 2, rel=1e-5)
    b, c = dense.estimates(y, x, v)
    np.testing.assert_allclose([r["estimate"] for r in made.result["fixed"]], b, rtol=1e-8)
    np.testing.assert_allclose([r["se"] for r in made.result["fixed"]], np.sqrt(np.diag(c)), rtol=1e-8)
    np.testing.assert_allclose(made.result["fixed_covariance"], c, rtol=1e-7)


def test_predicted_effects_and_their_errors_equal_dense():
    frame = make_trees(seed=4)
    made = fit(SLOPES, table_of(frame))
    y, x, _ = pieces(frame)
    unit = made.design.units[0]
    z = np.zeros((len(y), 2 * unit.size))
    for i, c in enumerate(unit.codes):
        z[i, 2 * c : 2 * c + 2] = x[i, :2]
    g = np.kron(np.eye(unit.size), np.array(made.result["random"][0]["covariance"]))
    s2 = made.evaluation.sigma2
    effects, errors = made.evaluation.effects(0)
    np.testing.assert_allclose(
        effects.ravel(), dense.predictions(y, x, z, g, z @ g @ z.T + s2 * np.eye(len(y))), atol=1e-9
    )
    # Henderson (1953): the prediction errors are the lower block of the inverse of the mixed-model equations
    w = np.hstack([x, z])
    equations = w.T @ w / s2
    equations[3:, 3:] += np.linalg.inv(g)
    inverse = np.linalg.inv(equations)[3:, 3:]
    for j in range(unit.size):
        np.testing.assert_allclose(errors[j], inverse[2 * j : 2 * j + 2, 2 * j : 2 * j + 2], rtol=1e-7)


@pytest.mark.parametrize("scale", [1e6, 1e-6])
def test_scale_of_a_covariate_does_not_matter(scale):
    plain = fit(SLOPES, table_of(make_trees())).result
    scaled = fit(SLOPES, table_of(make_trees(scale=scale))).result
    # log|X'V^-1X| of the restricted likelihood knows the unit of rain, nothing else does
    shift = np.log(scale)
    assert scaled["fit"]["loglik"] + shift == pytest.approx(plain["fit"]["loglik"], abs=1e-6)
    assert scaled["fixed"][1]["estimate"] * scale == pytest.approx(plain["fixed"][1]["estimate"], rel=1e-6)
    a, b = np.array(plain["random"][0]["sd"]), np.array(scaled["random"][0]["sd"])
    np.testing.assert_allclose(b * [1, scale], a, rtol=1e-5)


def test_offset_of_the_outcome_does_not_matter():
    plain = fit(SLOPES, table_of(make_trees())).result
    moved = fit(SLOPES, table_of(make_trees(offset=1e8))).result
    assert moved["fit"]["loglik"] == pytest.approx(plain["fit"]["loglik"], abs=1e-5)
    assert moved["fixed"][0]["estimate"] - 1e8 == pytest.approx(plain["fixed"][0]["estimate"], abs=1e-6)
    np.testing.assert_allclose(moved["random"][0]["covariance"], plain["random"][0]["covariance"], rtol=1e-5)


def test_a_true_variance_of_zero_ends_on_the_boundary_and_says_so():
    frame = make_trees(seed=4, orchard_sd=0.0, slope_sd=0.0)
    made = fit("yield = rain; each orchard: intercept", table_of(frame))
    assert made.converged and made.result["convergence"]["boundary"]
    assert made.result["random"][0]["sd"] == [0.0]
    assert made.result["convergence"]["boundary_terms"] == ["orchard"]
    assert any("estimated as zero" in n and "yield = rain" in n for n in made.result["notes"])
    y, x, codes = pieces(frame)
    one = np.ones((len(y), 1))

    def f(g):
        return dense.deviance(
            y,
            x[:, :2],
            dense.covariance(len(y), [(codes, one)], [np.array([[g]])], made.evaluation.sigma2),
            True,
        )

    assert f(0.0) == pytest.approx(made.evaluation.deviance, abs=1e-8)
    assert f(1e-4) > f(0.0)


def test_groups_of_one_row_each_but_one_pair():
    frame = make_trees(rows=20, orchards=19)
    made = fit("yield = rain; each orchard: intercept", table_of(frame))
    y, x, codes = pieces(frame)
    v = dense.covariance(
        len(y),
        [(codes, np.ones((20, 1)))],
        [np.array(made.result["random"][0]["covariance"])],
        made.evaluation.sigma2,
    )
    assert made.evaluation.deviance == pytest.approx(dense.deviance(y, x[:, :2], v, True), abs=1e-8)


def test_no_unit_at_all_is_least_squares():
    frame = make_trees()
    made = fit("yield = rain + sun", table_of(frame))
    y, x, _ = pieces(frame)
    b, rss, *_ = np.linalg.lstsq(x, y, rcond=None)
    np.testing.assert_allclose([r["estimate"] for r in made.result["fixed"]], b, rtol=1e-10)
    assert made.result["residual"]["variance"] == pytest.approx(rss[0] / (len(y) - 3), rel=1e-10)
    assert made.evaluation.deviance == pytest.approx(
        dense.deviance(y, x, rss[0] / (len(y) - 3) * np.eye(len(y)), True), abs=1e-8
    )


def test_balanced_one_way_layout_has_the_closed_form():
    r = np.random.default_rng(5)
    k, n = 12, 7
    code = np.repeat(np.arange(k), n)
    frame = make_trees(rows=k * n, orchards=k)
    frame["orchard"] = [f"o{c}" for c in code]
    frame["yield"] = 10 + 2 * r.normal(size=k)[code] + r.normal(size=k * n)
    made = fit("yield = intercept; each orchard: intercept", table_of(frame)).result
    means = frame["yield"].groupby(code).mean().to_numpy()
    within = ((frame["yield"] - means[code]) ** 2).sum() / (k * (n - 1))
    between = n * ((means - means.mean()) ** 2).sum() / (k - 1)
    assert made["residual"]["variance"] == pytest.approx(within, rel=1e-8)
    assert made["random"][0]["covariance"][0][0] == pytest.approx((between - within) / n, rel=1e-8)
    assert made["fixed"][0]["se"] == pytest.approx(np.sqrt(between / (k * n)), rel=1e-8)


def test_aliased_columns_are_dropped_named_and_harmless():
    frame = make_trees()
    frame["twice"] = 2 * frame["rain"] - 1
    made = fit("yield = rain + twice + sun; each orchard: intercept", table_of(frame)).result
    plain = fit("yield = rain + sun; each orchard: intercept", table_of(frame)).result
    assert [r["estimate"] is None for r in made["fixed"]] == [False, False, True, False]
    assert made["fit"]["loglik"] == pytest.approx(plain["fit"]["loglik"], abs=1e-8)
    assert made["fit"]["n_parameters"] == plain["fit"]["n_parameters"]
    assert any("twice" in n for n in made["notes"])
    assert made["fixed_covariance"][2] == [None] * 4


def test_ill_conditioned_powers_keep_their_digits():
    frame = make_trees()
    frame["year"] = 2000 + np.arange(len(frame)) % 20
    made = fit("yield = power(year, 3); each orchard: intercept", table_of(frame)).result
    centred = frame.assign(year=frame["year"] - 2010)
    other = fit("yield = power(year, 3); each orchard: intercept", table_of(centred)).result
    assert made["fixed"][3]["estimate"] == pytest.approx(other["fixed"][3]["estimate"], rel=1e-5)
    assert made["residual"]["variance"] == pytest.approx(other["residual"]["variance"], rel=1e-6)


def test_weights_divide_the_residual_variance():
    frame = make_trees()
    w = np.random.default_rng(8).uniform(0.5, 3, len(frame))
    from bold_orchard.design.design import Options

    made = fit(SLOPES, table_of(frame.assign(w=w)), Settings(options=Options(weights="w")))
    y, x, codes = pieces(frame)
    v = dense.covariance(len(y), [(codes, x[:, :2])], [np.array(made.result["random"][0]["covariance"])],
                         np.diag(made.evaluation.sigma2 / w))  # fmt: skip
    assert made.evaluation.deviance == pytest.approx(dense.deviance(y, x, v, True), abs=1e-7)


def test_a_failed_search_is_never_called_converged():
    made = fit(SLOPES, table_of(make_trees()), Settings(max_steps=1, tolerance=1e-30))
    exact = fit(SLOPES, table_of(make_trees()))
    if made.converged:  # the final polish may save a stopped search, but only at the maximum
        assert made.evaluation.deviance == pytest.approx(exact.evaluation.deviance, abs=1e-8)
    else:
        assert "NOT converge" in made.result["notes"][0]
