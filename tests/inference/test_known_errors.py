"""Errors whose SDs are known, against dense matrices and the formulas of the papers."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import dense
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.intervals.intervals import intervals
from bold_orchard.inference.variances.components import components


def arms(seed=5, studies=9):
    """Trials with one to four arms, each arm with its own standard error."""
    r = np.random.default_rng(seed)
    study = np.repeat(np.arange(studies), r.integers(1, 5, studies))
    n = len(study)
    frame = pd.DataFrame(
        {"study": [f"s{i}" for i in study], "arm": [f"a{i}" for i in range(n)], "dose": r.normal(size=n)}
    )
    frame["spray"] = r.choice(["none", "sulphur", "oil"], n)
    frame["se"] = np.exp(r.normal(-1.0, 0.5, n))
    frame["effect"] = 1 + 0.4 * frame["dose"] + r.normal(size=studies)[study] + r.normal(size=n) * (0.5 + frame["se"])
    return frame


def made(sentence, frame, **settings):
    return fit(sentence, Table(frame, "t", len(frame)), Settings(**settings))


def matrices(f):
    """X, the derivatives of V in every variance, and diag(se^2)."""
    design = f.design
    x = np.column_stack(design.fixed.values)
    directions = []
    for clause in design.clauses:
        z, codes = np.column_stack(clause.part.values), design.blocks[clause.block].unit.codes
        same = (codes[:, None] == codes[None, :]).astype(float)
        k = z.shape[1]
        for a in range(k):
            for b in range(a + 1):
                e = np.zeros((k, k))
                e[a, b] = e[b, a] = 1.0
                directions.append((z @ e @ z.T) * same)
    return x, directions, np.diag(1.0 / design.weights)


def variances(f):
    return np.array(
        [g[a][b] for p in f.result["random"] for g in [p["covariance"]] for a in range(len(g)) for b in range(a + 1)]
    )


ONE = "effect = dose; each study: intercept; spread = known(se)"
TWO = "effect = dose + spray; each study: intercept; each arm in study: intercept; spread = known(se)"
SLOPES = "effect = dose; each study: intercept + dose; spread = known(se)"


@pytest.mark.parametrize("method", ["reml", "ml"])
@pytest.mark.parametrize("sentence", [ONE, TWO, SLOPES])
def test_likelihood_estimates_and_errors_are_those_of_the_dense_model(sentence, method):
    f = made(sentence, arms(studies=14), method=method)
    x, g, errors = matrices(f)

    def v(t):
        return errors + sum(a * b for a, b in zip(t, g))

    def deviance(t):
        w = np.linalg.eigvalsh(v(t))
        return dense.deviance(f.design.y, x, v(t), method == "reml") if w[0] > 0 else 1e9

    at = variances(f)
    assert f.result.fit.deviance == pytest.approx(deviance(at), abs=1e-8)
    assert (
        deviance(dense.search(lambda t: deviance(np.abs(t) if sentence is not SLOPES else t), at + 0.01).x)
        >= deviance(at) - 1e-6
    )
    b, c = dense.estimates(f.design.y, x, v(at))
    np.testing.assert_allclose([r.estimate for r in f.result.fixed], b, rtol=1e-8)
    np.testing.assert_allclose(np.array(f.result.fixed_covariance), c, rtol=1e-7)
    assert f.result.fit.n_parameters == x.shape[1] + len(g)
    assert f.result.residual.to_dict() == {"variance": None, "sd": None, "structure": "known", "parameters": {}}


def _information(f):
    """Expected restricted information and the pieces of Kenward and Roger's formulas over the free variances alone."""
    x, g, errors = matrices(f)
    vi = np.linalg.inv(errors + sum(a * b for a, b in zip(variances(f), g)))
    phi = np.linalg.inv(x.T @ vi @ x)
    p = [-x.T @ vi @ d @ vi @ x for d in g]
    q = [[x.T @ vi @ d @ vi @ e @ vi @ x for e in g] for d in g]
    m = range(len(g))
    info = np.array([[0.5 * np.trace(vi @ g[i] @ vi @ g[j]) - np.trace(phi @ q[i][j]) + 0.5 * np.trace(phi @ p[i] @ phi @ p[j])
                      for j in m] for i in m])  # fmt: skip
    return phi, p, q, np.linalg.inv(info)


@pytest.mark.parametrize("sentence", [ONE, TWO])
def test_kenward_roger_is_the_paper_s_over_the_variances_alone(sentence):
    f = made(sentence, arms(seed=7, studies=14), df="kenward-roger")
    assert not f.result["convergence"]["boundary"]
    phi, p, q, w = _information(f)
    m = range(len(p))
    lambda_ = sum(w[i, j] * (q[i][j] - p[i] @ phi @ p[j]) for i in m for j in m)
    np.testing.assert_allclose(f.known.covariance, phi + 2 * phi @ lambda_ @ phi, rtol=1e-7)
    row = np.eye(len(phi))[1]
    slope = np.array([-row @ phi @ p[i] @ phi @ row for i in m])
    assert f.known.df(row[None]) == pytest.approx(2 * (row @ phi @ row) ** 2 / (slope @ w @ slope), rel=1e-6)


def test_satterthwaite_is_its_definition_by_the_observed_information():
    f = made(ONE, arms(seed=7, studies=14))
    x, g, errors = matrices(f)
    at, h = variances(f), 1e-4

    def of(t):
        v = errors + t * g[0]
        return dense.deviance(f.design.y, x, v, True), dense.estimates(f.design.y, x, v)[1][1, 1]

    t = float(at[0])
    (down, c0), (here, c), (up, c1) = of(t - h), of(t), of(t + h)
    bend = (up - 2 * here + down) / h**2
    assert f.result.fixed[1].df == pytest.approx(2 * c**2 / (((c1 - c0) / (2 * h)) ** 2 * 2.0 / bend), rel=1e-4)


def test_without_a_unit_and_at_the_boundary_tests_are_normal():
    frame = arms()
    plain = made("effect = dose; spread = known(se)", frame)
    assert all(r.df is None for r in plain.result.fixed)
    w = 1 / frame["se"].to_numpy() ** 2
    x = np.column_stack([np.ones(len(frame)), frame["dose"]])
    np.testing.assert_allclose(
        np.array(plain.result.fixed_covariance), np.linalg.inv(x.T @ (x * w[:, None])), rtol=1e-10
    )
    frame["effect"] = frame["dose"] + 1e-3 * np.random.default_rng(0).normal(size=len(frame))
    edge = made(ONE, frame)
    assert edge.result["convergence"]["boundary"] and all(r.df is None for r in edge.result.fixed)


def test_heterogeneity_is_that_of_its_papers():
    frame = arms(seed=2, studies=20).drop_duplicates("study")
    f = made("effect = intercept; each study: intercept; spread = known(se)", frame)
    (found,) = components(f).heterogeneity
    w, y = 1 / frame["se"].to_numpy() ** 2, frame["effect"].to_numpy()
    k, mean = len(w), (w * y).sum() / w.sum()
    q = (w * (y - mean) ** 2).sum()
    typical = (k - 1) * w.sum() / (w.sum() ** 2 - (w**2).sum())
    tau2 = variances(f)[0]
    assert (found.group, found.q_df) == ("study", k - 1)
    assert (found.q, found.q_p) == pytest.approx((q, stats.chi2.sf(q, k - 1)), rel=1e-9)
    assert found.i2 == pytest.approx(tau2 / (tau2 + typical), rel=1e-9)


def test_rows_permuted_units_and_scale_change_nothing_but_their_names():
    frame = arms()
    one = made(TWO, frame)
    other = frame.sample(frac=1.0, random_state=1)
    other["study"] = "x" + other["study"]
    other["effect"], other["se"] = 10 * other["effect"], 10 * other["se"]
    two = made(TWO, other)
    np.testing.assert_allclose(
        [r.estimate for r in two.result.fixed], [10 * r.estimate for r in one.result.fixed], rtol=1e-6
    )
    np.testing.assert_allclose([r.df for r in two.result.fixed], [r.df for r in one.result.fixed], rtol=1e-4)
    assert two.result.fit.loglik == pytest.approx(one.result.fit.loglik - (len(frame) - 4) * np.log(10), abs=1e-6)


def test_profile_interval_of_the_sd_is_where_the_deviance_rises_by_its_quantile():
    f = made(ONE, arms(seed=7, studies=14))
    x, g, errors = matrices(f)
    row = next(r for r in intervals(f, method="profile")["parameters"] if r["parameter"].startswith("sd("))
    for end in (row["low"], row["high"]):
        rise = dense.deviance(f.design.y, x, errors + end**2 * g[0], True) - f.result.fit.deviance
        assert rise == pytest.approx(stats.chi2.ppf(0.95, 1), abs=5e-3)


@pytest.mark.slow
def test_predictions_of_a_new_study_leave_the_known_error_out_and_say_so(tmp_path, orchard):
    arms().drop_duplicates("study").to_csv(tmp_path / "arms.csv", index=False)
    sentence = "effect = intercept; each study: intercept; spread = known(se)"
    orchard("fit", "arms.csv", sentence, "--save", "m")
    (tmp_path / "new.csv").write_text("study\nnever seen\n")
    told = orchard("predict", "m", "--new", "new.csv", "--new-observation", "--json").json
    f = made(sentence, arms().drop_duplicates("study"))
    se = np.sqrt(f.result.fixed_covariance[0][0] + variances(f)[0])
    assert told["rows"][0]["se"] == pytest.approx(se, rel=1e-9)
    assert told["rows"][0]["high"] - told["rows"][0]["predicted"] == pytest.approx(
        se * stats.t.ppf(0.975, len(f.design.y) - 1), rel=1e-9
    )
    assert any("known" in note for note in told["notes"])
    groups = orchard("groups", "m", "--json").json
    assert groups["new_unit"]["new_ci"][1] == pytest.approx(told["rows"][0]["high"], rel=1e-9)
    assert sum(r["own"]["weight"] for r in groups["groups"][0]["rows"]) == pytest.approx(1.0)


@pytest.mark.parametrize("bad", [0.0, -0.2, np.nan])
def test_an_error_that_is_none_is_told_by_its_row(bad):
    frame = arms()
    frame.loc[4, "se"] = bad
    with pytest.raises(OrchardError, match="in row 5"):
        made(ONE, frame)


@pytest.mark.parametrize(
    "sentence, why",
    [
        ("effect = dose; spread = known(se) + dose", "stands alone"),
        ("effect = dose + known(se); each study: intercept", "spread = known"),
        ("effect = dose; spread = known(2)", "name of a column"),
        ("effect = dose; within study: exchangeable; spread = known(se)", "does not go with within"),
        ("effect = dose; each study: intercept + spread; spread = known(se)", "does not go with a spread of each unit"),
    ],
)
def test_what_does_not_go_with_known_errors_is_refused(sentence, why):
    with pytest.raises((OrchardError, SentenceError), match=why):
        made(sentence, arms())


def test_robust_errors_and_tests_of_terms_are_there():
    f = made(TWO, arms(studies=14), errors="robust")
    assert f.result.errors.clusters == 14
    assert terms(made(TWO, arms(studies=14)), 3)["tests"][1]["num_df"] == 2


def test_fits_with_known_and_estimated_errors_are_judged_by_aic():
    frame = arms()
    known, free = made(ONE, frame, method="ml"), made(ONE.rpartition(";")[0], frame, method="ml").called("free")
    for one, two in ((known, free), (free, known)):
        told = compare([one, two]).to_dict()["tests"][0]
        assert told["chisq"] is None


def test_a_curve_beside_known_errors_is_no_difference_between_studies():
    frame = arms(studies=14)
    frame["dose"] += np.sin(frame["dose"]) * 2
    frame["effect"] += 2 * np.sin(2 * frame["dose"])
    curved = made("effect = smooth(dose); each study: intercept; spread = known(se)", frame)
    assert curved.result["smooths"][0]["sd"] > 0
    (told,) = components(curved).to_dict()["heterogeneity"]
    w = 1 / frame["se"].to_numpy() ** 2
    typical = (len(w) - 1) * w.sum() / (w.sum() ** 2 - (w**2).sum())
    between = next(p["covariance"][0][0] for p in curved.result["random"] if p["group"] == "study")
    assert told["group"] == "study" and told["i2"] == pytest.approx(between / (between + typical), rel=1e-6)
