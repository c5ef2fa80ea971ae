"""Curves against dense matrices over an independent basis, and by relations."""

from __future__ import annotations

import itertools

import numpy as np
import pandas as pd
import pytest
from scipy import stats
from scipy.interpolate import CubicSpline

import dense
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.inference.coefficients.means import means
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.draw import draw
from bold_orchard.inference.prediction.predict import predict
from bold_orchard.sentence.parse import read_sentence


def trees(seed=1, rows=150, trees=8, bend=1.0):
    r = np.random.default_rng(seed)
    tree = r.integers(0, trees, rows)
    frame = pd.DataFrame(
        {
            "tree": [f"t{i}" for i in tree],
            "age": np.round(r.uniform(2, 12, rows), 2),
            "soil": r.choice(["clay", "loam", "sand"], rows),
        }
    )
    frame["yield"] = (
        5 + 0.3 * frame["age"] + bend * np.sin(frame["age"]) + r.normal(size=trees)[tree] + r.normal(0, 0.7, rows)
    )
    frame["yield"] += (frame["soil"] == "sand") * 0.8
    return frame


def made(sentence, frame, family=None, **settings):
    from bold_orchard.design.design import Options

    return fit(sentence, Table(frame, "t", len(frame)), Settings(options=Options(family=family), **settings))


def basis(x, knots, at=None):
    """The wiggle's functions another way: cardinal splines of a library, the penalty by Simpson's rule, its eigenvectors."""
    cards = [CubicSpline(knots, e, bc_type="natural") for e in np.eye(len(knots))]
    penalty = np.zeros((len(knots), len(knots)))
    for a, b in itertools.pairwise(knots):
        places = np.array([a, (a + b) / 2, b])
        bends = np.array([c(places, 2) for c in cards])
        penalty += (b - a) / 6 * bends @ np.diag([1.0, 4.0, 1.0]) @ bends.T
    values, vectors = np.linalg.eigh(penalty)
    return np.array([c(x) for c in cards]).T @ vectors[:, 2:] / np.sqrt(values[2:])


def knots_of(x, k):
    return np.quantile(np.unique(x), np.linspace(0, 1, k))


@pytest.mark.few(3)
@pytest.mark.parametrize("method", ["reml", "ml"])
@pytest.mark.parametrize("k", [10, 5])
def test_likelihood_and_effective_df_are_those_of_dense_matrices_over_another_basis(method, k):
    frame = trees()
    f = made(f"yield = smooth(age, {k}) + soil; each tree: intercept", frame, method=method)
    age, y, tree = frame["age"].to_numpy(), frame["yield"].to_numpy(), pd.factorize(frame["tree"])[0]
    x = np.column_stack(f.design.fixed.values)
    z = basis(age, knots_of(age, k))
    same = (tree[:, None] == tree[None, :]).astype(float)

    def v(t):
        return np.exp(t[0]) * np.eye(len(y)) + np.exp(t[1]) * same + np.exp(t[2]) * z @ z.T

    start = np.log(
        [f.result.residual.variance, f.result.random[0].covariance[0][0], np.var(y) / np.mean((z**2).sum(axis=1))]
    )
    best = dense.search(lambda t: dense.deviance(y, x, v(t), method == "reml"), start)
    assert f.result.fit.deviance == pytest.approx(best.fun, abs=1e-6)
    b, c = dense.estimates(y, x, v(best.x))
    np.testing.assert_allclose([r.estimate for r in f.result.fixed], b, rtol=1e-4)
    np.testing.assert_allclose([r.se for r in f.result.fixed], np.sqrt(np.diag(c)), rtol=1e-4)
    inverse = np.linalg.inv(v(best.x) - np.exp(best.x[2]) * z @ z.T)
    whole = np.column_stack([x, z])
    penalty = np.diag(np.append(np.zeros(x.shape[1]), np.full(z.shape[1], np.exp(-best.x[2]))))
    smoother = np.linalg.solve(whole.T @ inverse @ whole + penalty, whole.T @ inverse @ whole)
    (told,) = f.result.smooths
    assert told.edf == pytest.approx(1.0 + np.trace(smoother[x.shape[1] :, x.shape[1] :]), abs=2e-4)
    assert (told.smooth, told.basis) == (f"smooth(age, {k})", k)


def test_the_p_is_that_of_the_ratio_against_the_line_at_its_boundary():
    frame = trees(bend=0.3)
    curve = made("yield = smooth(age) + soil; each tree: intercept", frame)
    line = made("yield = age + soil; each tree: intercept", frame)
    ratio = line.result.fit.deviance - curve.result.fit.deviance
    assert curve.result.smooths[0].p == pytest.approx(0.5 * stats.chi2.sf(ratio, 1), rel=1e-6)
    (test,) = compare([line.called("line"), curve.called("curve")])["tests"]
    assert test["df"] == 1 and test["p_boundary"] == pytest.approx(curve.result.smooths[0].p, rel=1e-6)


def test_means_and_predictions_follow_the_curve_with_its_error():
    frame = trees()
    f = made("yield = smooth(age) + soil; each tree: intercept", frame)
    y, tree = frame["yield"].to_numpy(), pd.factorize(frame["tree"])[0]
    x, z = np.column_stack(f.design.fixed.values), np.column_stack(f.design.clauses[1].part.values)
    same = (tree[:, None] == tree[None, :]).astype(float)
    tau2, t2, s2 = f.result.random[1].covariance[0][0], f.result.random[0].covariance[0][0], f.result.residual.variance
    v = tau2 * z @ z.T + t2 * same + s2 * np.eye(len(y))
    vi = np.linalg.inv(v)
    b, c = dense.estimates(y, x, v)
    g = tau2 * z.T
    rows = means(f, "soil", {"age": [4.0]})["means"]
    for k, level in enumerate(["clay", "loam", "sand"]):
        here = np.array([1.0, 4.0, level == "loam", level == "sand"])
        own = f.design.maker()
        spline = own.memory["smooth(age)"]
        from bold_orchard.design.cubic_spline import CubicSpline as Curve

        m = Curve(np.array(spline[1:]), spline[0]).wiggle(np.array([4.0]))[0]
        value = here @ b + m @ g @ vi @ (y - x @ b)
        away = here - m @ g @ vi @ x
        variance = tau2 * m @ m - m @ g @ vi @ g.T @ m + away @ c @ away
        assert rows[k]["mean"] == pytest.approx(value, rel=1e-8)
        assert rows[k]["se"] == pytest.approx(np.sqrt(variance), rel=1e-6)
    told = predict(f, Table(frame, "t", len(frame)))
    u = t2 * same + tau2 * z @ z.T
    np.testing.assert_allclose(told.predicted, x @ b + u @ vi @ (y - x @ b), rtol=1e-8)
    np.testing.assert_allclose(told.average, x @ b + tau2 * z @ z.T @ vi @ (y - x @ b), rtol=1e-8)


def test_beyond_the_data_a_curve_goes_straight_on():
    f = made("yield = smooth(age); each tree: intercept", trees())
    rows = pd.DataFrame({"tree": "new", "age": [12.0, 13.0, 14.0, 15.0, 0.0, 1.0, 2.0]})
    told = predict(f, Table(rows, "n", len(rows))).average
    high = trees()["age"].max()
    assert high <= 12.0
    assert told[1] - told[0] == pytest.approx(told[2] - told[1], rel=1e-8) == pytest.approx(told[3] - told[2], rel=1e-8)
    assert told[5] - told[4] == pytest.approx(told[6] - told[5], rel=1e-8)


@pytest.mark.slow
def test_units_of_measurement_rows_and_names_change_nothing():
    frame = trees()
    one = made("yield = smooth(age, by soil) + soil; each tree: smooth(age)", frame)
    other = frame.sample(frac=1, random_state=2)
    other["age"] = 100 * other["age"] - 40
    other["soil"] = other["soil"].map({"clay": "z", "loam": "y", "sand": "a"})
    two = made("yield = smooth(age, by soil) + soil; each tree: smooth(age)", other)
    for a, b in zip(one.result.smooths, two.result.smooths):
        assert (a.edf, a.sd) == pytest.approx((b.edf, b.sd), rel=1e-3)
        assert a.p == pytest.approx(b.p, rel=1e-3)
    assert one.result.residual.variance == pytest.approx(two.result.residual.variance, rel=1e-5)
    a, b = (predict(m, Table(t, "t", len(t))).predicted for m, t in ((one, frame), (two, other)))
    np.testing.assert_allclose(a[other.index], b, rtol=1e-5)


def test_each_unit_s_own_curve_is_a_line_of_its_own_and_the_same_wiggle_functions():
    frame = trees(rows=240)
    f = made("yield = smooth(age); each tree: smooth(age)", frame)
    read = read_sentence("yield = smooth(age); each tree: smooth(age)")
    assert str(read.clauses[0]) == "each tree: intercept + smooth(age)"
    assert [(p.group, p.terms) for p in f.result.random] == [
        ("tree", ["intercept", "smooth(age)"]), ("smooth(age)", ["wiggle(age)"]), ("tree", ["wiggle(age)"]),
    ]  # fmt: skip
    age, y, tree = frame["age"].to_numpy(), frame["yield"].to_numpy(), pd.factorize(frame["tree"])[0]
    z = np.column_stack(f.design.clauses[1].part.values)
    x, line = np.column_stack([np.ones(len(y)), age]), np.column_stack([np.ones(len(y)), age])
    random = f.result.random
    v = dense.covariance(
        len(y),
        [(tree, line), (np.zeros(len(y)), z), (tree, z)],
        [
            np.array(random[0].covariance),
            random[1].covariance[0][0] * np.eye(8),
            random[2].covariance[0][0] * np.eye(8),
        ],
        f.result.residual.variance,
    )
    assert f.result.fit.deviance == pytest.approx(dense.deviance(y, x, v, True), abs=1e-7)
    assert {g.group for g in f.result.groups} == {"tree"}


def test_a_straight_truth_is_said_to_be_a_line_and_the_sentence_offered():
    r = np.random.default_rng(3)
    frame = trees()
    frame["yield"] = 2 + frame["age"] + r.normal(size=len(frame))
    f = made("yield = smooth(age) + soil; each tree: intercept", frame)
    (told,) = f.result.smooths
    assert (told.sd, told.p) == (0.0, 1.0) and told.edf == pytest.approx(1.0)
    assert any("straight line" in n and "yield = age + soil; each tree: intercept" in n for n in f.result.notes)


def test_the_simultaneous_band_holds_the_pointwise_one_and_the_slope_is_the_derivative():
    f = made("yield = smooth(age); each tree: intercept", trees())
    (band,) = draw([f], "effects", along="age")["effects"]
    low, high, wide_low, wide_high = (
        np.array(band[k]) for k in ("low", "high", "low_simultaneous", "high_simultaneous")
    )
    assert (wide_low < low).all() and (high < wide_high).all()
    (slope,) = draw([f], "effects", along="age", slope=True)["effects"]
    rise = np.gradient(np.array(band["estimate"]), np.array(band["x"]))
    np.testing.assert_allclose(np.array(slope["estimate"])[2:-2], rise[2:-2], atol=0.05)


@pytest.mark.few(1)
@pytest.mark.parametrize("family", ["binomial", "poisson", "ordinal", "gamma"])
def test_other_families_have_curves_too(family):
    frame = trees(rows=300)
    eta = np.sin(frame["age"]) + 0.3 * (frame["soil"] == "sand")
    r = np.random.default_rng(1)
    frame["y"] = {
        "binomial": (r.random(300) < 1 / (1 + np.exp(-eta))).astype(int), "poisson": r.poisson(np.exp(eta)),
        "ordinal": np.array(["a", "b", "c"])[np.digitize(eta + r.logistic(size=300), [-0.5, 1.0])], "gamma": np.exp(eta) * r.gamma(5, 0.2, 300),
    }[family]  # fmt: skip
    f = made("y = smooth(age) + soil; each tree: intercept", frame, family)
    assert f.converged and f.result.smooths[0].edf > 3 and f.result.smooths[0].p < 0.01
    rows = means(f, "soil", {"age": [2.0 + np.pi / 2, 11.0]})["means"]
    assert all(m["se"] > 0 for m in rows)
    told = predict(f, Table(frame, "t", len(frame)))
    assert np.isfinite(told.predicted).all() and np.isfinite(told.average).all()


@pytest.mark.parametrize(
    "sentence, why",
    [
        ("yield = smooth(age)*soil", "stands alone"),
        ("yield = log(smooth(age))", "term of its own"),
        ("yield = smooth(age, 2)", "3 to 100 knots"),
        ("yield = centre(age, by soil)", "no 'by'"),
        ("yield = age; each tree: smooth(age, by soil)", "no 'by'"),
        ("yield = age; each tree (identity): smooth(age)", "identity"),
        ("let curve = smooth(age); yield = curve", "let gives a name"),
        ("yield = smooth(age); each tree: intercept + spread", "does not go with a residual spread"),
        ("yield = smooth(soil)", "is a category"),
    ],
)
def test_what_no_curve_is_is_refused(sentence, why):
    with pytest.raises((SentenceError, OrchardError), match=why):
        made(sentence, trees())


@pytest.mark.slow
def test_every_command_answers(tmp_path, orchard):
    trees().to_csv(tmp_path / "trees.csv", index=False)
    orchard("fit", "trees.csv", "yield = smooth(age, by soil) + soil; each tree: smooth(age)", "--save", "m")
    for words in (["components", "--tests"], ["intervals", "--method", "wald"], ["means", "soil"], ["check"], ["predict"], ["equations"], ["explain"],
                  ["table"], ["simulate", "--csv", "s.csv"], ["terms"], ["show"], ["power", "--quick"], ["groups"],
                  ["draw", "--along", "age", "--figure", "d.png"]):  # fmt: skip
        done = orchard(words[0], "m", *words[1:], "--json")
        assert done.code == 0 and done.json, (words, done.err)
    edited = orchard("fit", "--from", "m", "--drop", "smooth(age, by soil)", "--add", "age", "--json").json
    assert edited["model"] == "yield = soil + age; each tree: smooth(age)"
