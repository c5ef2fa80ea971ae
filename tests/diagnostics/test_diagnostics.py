"""Residuals, normality, spread: against SciPy and dense versions."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from bold_orchard.data.table import Table
from bold_orchard.diagnostics.checks import check
from bold_orchard.diagnostics.normality import sample_for_test, shape, shapiro_wilk
from bold_orchard.diagnostics.spread import brown_forsythe
from bold_orchard.inference.equations import write_out
from bold_orchard.inference.fit import fit
from bold_orchard.inference.prediction.residuals import residuals
from builders import trial


def table_of(frame):
    return Table(frame, "t", len(frame))


@pytest.mark.parametrize("n", [3, 4, 5, 6, 11, 12, 25, 200, 4999])
@pytest.mark.parametrize("kind", ["normal", "skewed"])
def test_shapiro_wilk_equals_the_library(n, kind):
    r = np.random.default_rng(n)
    x = r.normal(size=n) if kind == "normal" else r.gamma(1.5, size=n)
    w, p = shapiro_wilk(x)
    wanted = stats.shapiro(x)
    assert w == pytest.approx(wanted.statistic, abs=2e-5) and p == pytest.approx(wanted.pvalue, rel=0.02, abs=1e-6)


def test_shapiro_wilk_where_it_cannot_be_made():
    assert shapiro_wilk(np.array([1.0, 2.0])) is None and shapiro_wilk(np.ones(9)) is None
    big = np.random.default_rng(0).normal(size=9000)
    assert len(sample_for_test(big)) == 5000
    np.testing.assert_array_equal(sample_for_test(big), sample_for_test(big))


def test_moments():
    x = np.random.default_rng(2).gamma(2, size=300)
    d = shape(x)
    assert d["skewness"] == pytest.approx(stats.skew(x)) and d["kurtosis"] == pytest.approx(stats.kurtosis(x))
    assert d["sd"] == pytest.approx(x.std(ddof=1)) and d["n"] == 300


def test_brown_forsythe_leaves_single_rows_out():
    r = np.random.default_rng(3)
    codes = np.append(np.repeat(np.arange(5), 6), [5, 6])
    x = r.normal(size=32) * (1 + codes)
    d = brown_forsythe(x, codes)
    wanted = stats.levene(*(x[codes == k] for k in range(5)), center="median")
    assert d["value"] == pytest.approx(wanted.statistic) and d["p"] == pytest.approx(wanted.pvalue)
    assert (d["num_df"], d["den_df"]) == (4, 25)
    assert brown_forsythe(np.arange(3.0), np.arange(3)) is None


def test_pairs_cannot_tell_whether_groups_scatter_differently():
    x, codes = np.random.default_rng(3).normal(size=60), np.repeat(np.arange(30), 2)
    assert brown_forsythe(x, codes) is None
    assert brown_forsythe(np.append(x, 0.3), np.append(codes, 29)) is not None


def test_residuals_of_every_kind_equal_the_dense_ones():
    frame = trial()
    made = fit("yield = rain; each tree: intercept; each orchard: intercept + rain", table_of(frame))
    a = write_out(made)
    x, z, s = a["X"].values, a["Z"].values, a["solution"].values[:, 0]
    rest = residuals(made)
    np.testing.assert_allclose(rest.average, x @ s[:2], atol=1e-8)
    np.testing.assert_allclose(rest.conditional, frame["yield"] - x @ s[:2] - z @ s[2:], atol=1e-7)
    np.testing.assert_allclose(rest.marginal, frame["yield"] - x @ s[:2], atol=1e-8)
    np.testing.assert_allclose(rest.standardised, rest.conditional / made.result["residual"]["sd"])
    for unit in made.model.unit_effects():
        assert unit.effects.shape == unit.se.shape == (len(unit.levels), len(unit.terms))


def test_an_outlier_is_named_by_row_and_unit():
    r = np.random.default_rng(11)
    code = np.repeat(np.arange(40), 15)
    frame = pd.DataFrame({"orchard": [f"o{c}" for c in code], "rain": r.normal(size=600)})
    frame["yield"] = 5 + frame["rain"] + 2 * r.normal(size=40)[code] + r.normal(size=600)
    frame.loc[77, "yield"] += 14
    document = check(fit("yield = rain; each orchard: intercept", table_of(frame))).document
    far = document["levels"][0]["outliers"][0]
    assert far["row"] == 78 and far["units"] == {"orchard": "o5"} and far["standardised"] > 5
    assert any("row 78 (orchard o5) lies" in words for words in document["closing"]["doubtful"])


def test_large_samples_say_that_a_part_was_tested():
    r = np.random.default_rng(1)
    frame = pd.DataFrame({"orchard": np.arange(6000) % 30, "yield": r.normal(size=6000) + (np.arange(6000) % 30)})
    notes = check(fit("yield = intercept; each orchard: intercept", table_of(frame))).document["notes"]
    assert any("5,000 values chosen at random" in n for n in notes)
