"""Residuals of every kind against slow versions, and a table of which check speaks for which planted fault."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.diagnostics.autocorrelation import autocorrelation, times
from bold_orchard.diagnostics.checks import CheckOptions, check
from bold_orchard.diagnostics.curvature import curvature
from bold_orchard.diagnostics.spread import between_units, spread_by_fitted
from bold_orchard.diagnostics.within_units import chosen_unit, within_residuals
from bold_orchard.errors import UsageError
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.residuals import residuals
from builders import residual as residual_covariance
from builders import trial

SENTENCE = "yield = rain; each orchard: intercept"


def table_of(frame):
    return Table(frame, "t", len(frame))


def planted(fault, seed=1, units=40, rows=15):
    """Forty orchards over fifteen weeks with one thing wrong; 'clean' has nothing wrong."""
    r = np.random.default_rng(seed)
    n = units * rows
    code, week = np.repeat(np.arange(units), rows), np.tile(np.arange(rows), units)
    rain, u, e = r.normal(size=n), r.normal(size=units), r.normal(size=n)
    if fault == "heavy tails":
        e = r.standard_t(2.5, n)
    if fault == "unequal spread":
        e = e * np.where(code < units // 2, 0.5, 2.0)
    if fault == "growing spread":
        e = e * np.exp(0.35 * rain)
    if fault == "autocorrelation":
        e = stats.norm.rvs(size=(units, rows), random_state=seed)
        for t in range(1, rows):
            e[:, t] = 0.6 * e[:, t - 1] + 0.8 * e[:, t]
        e = e.ravel()
    if fault == "skewed unit effects":
        u = r.gamma(0.4, 3, units)
    if fault == "one wild unit":
        u[7] = 12.0
    y = 5 + rain + 2 * u[code] + e
    if fault == "curvature":
        y = y + 0.4 * rain**2
    if fault == "one wild row":
        y[77] += 14.0
    frame = pd.DataFrame({"orchard": [f"o{c}" for c in code], "week": week, "rain": rain, "yield": y})
    mean = np.exp(0.5 + 0.3 * rain + 0.5 * u[code])
    wide = r.gamma(0.7, 1 / 0.7, n) if fault == "overdispersion" else 1.0
    return frame.assign(apples=r.poisson(mean * wide))


FAULTS = {
    "heavy tails": "shape of rows",
    "unequal spread": "spread across units",
    "growing spread": "spread with fitted",
    "curvature": "curvature",
    "one wild unit": "outlying units",
    "one wild row": "outlying rows",
    "autocorrelation": "autocorrelation",
    "skewed unit effects": "shape of effects",
    "overdispersion": "dispersion",
}


def spoken(fault, seed=1):
    """The checks that speak, of a gaussian fit or, for counts, a poisson one."""
    counts = fault in ("overdispersion", "clean counts")
    frame = planted("clean" if fault == "clean counts" else fault, seed)
    sentence = SENTENCE.replace("yield", "apples") if counts else SENTENCE
    settings = Settings(options=Options(family="poisson")) if counts else None
    d = check(fit(sentence, table_of(frame), settings), CheckOptions(time="week")).document
    return {f["check"] for f in d["findings"] if f["speaks"]}, d


@pytest.mark.parametrize("fault", FAULTS)
@pytest.mark.parametrize("seed", [1, 2])
def test_each_fault_is_told_by_its_own_check(fault, seed):
    found, d = spoken(fault, seed)
    assert FAULTS[fault] in found
    allowed = {
        "heavy tails": {"outlying rows", "spread across units", "influence"},
        "unequal spread": {"shape of rows", "outlying rows", "influence"},
        "growing spread": {"shape of rows", "outlying rows", "curvature"},
        "curvature": {"shape of rows", "outlying rows", "spread with fitted"},
        "one wild unit": {"shape of effects", "influence"},
        "one wild row": {"shape of rows", "spread across units", "influence"},
        "skewed unit effects": {"outlying units", "influence"},
        "overdispersion": {
            "shape of rows",
            "zeros",
            "outlying rows",
            "spread with fitted",
            "spread across units",
            "influence",
        },
    }
    assert found - {FAULTS[fault]} <= allowed.get(fault, set())
    assert d["closing"]["doubtful"] and d["closing"]["try"]


@pytest.mark.slow
def test_the_clean_one_stays_quiet():
    false = [len(spoken("clean", seed)[0]) for seed in range(20)] + [
        len(spoken("clean counts", seed)[0]) for seed in range(5)
    ]
    assert sum(false) <= 3, "25 clean sets of about nine checks each, at 1% each"
    assert spoken("clean")[1]["closing"]["doubtful"] == [] and spoken("clean")[1]["closing"]["try"] == []


def test_advice_is_a_sentence_that_can_be_fitted():
    curved, serial = spoken("curvature")[1]["closing"]["try"], spoken("autocorrelation")[1]["closing"]["try"]
    assert "a curve: yield = smooth(rain); each orchard: intercept" in curved
    assert f"{SENTENCE}; within orchard: ar1(week)" in serial
    again = check(fit("yield = spline(rain, 4); each orchard: intercept", table_of(planted("curvature")))).document
    assert not any(f["speaks"] for f in again["findings"] if f["check"] == "curvature")
    mended = check(fit(serial[0], table_of(planted("autocorrelation")))).document
    assert mended["autocorrelation"]["time"] == "week" and mended["autocorrelation"]["p"] > 0.01


def test_within_group_residuals_are_each_units_own_least_squares():
    frame = trial(trees=12)
    frame.loc[frame["tree"] == "t5", "yield"] += 100
    made = fit("yield = rain + soil; each tree: intercept; each orchard: intercept + rain", table_of(frame))
    unit = made.design.units[0]
    found = within_residuals(made, unit)
    x = np.column_stack(made.design.fixed.values)
    for j, name in enumerate(unit.texts):
        own = (frame["tree"] == name).to_numpy()
        b, *_ = np.linalg.lstsq(x[own], made.design.y[own], rcond=None)
        rest = made.design.y[own] - x[own] @ b
        assert found.possible[j] == (own.sum() > np.linalg.matrix_rank(x[own]))
        if found.possible[j]:
            np.testing.assert_allclose(found.residual[own], rest, atol=1e-8)
        else:
            assert np.isnan(found.residual[own]).all()
    assert found.possible.sum() > 0
    rich = within_residuals(made, made.design.units[1])
    assert rich.possible.all() and abs(np.nanstd(rich.standardised) - 1) < 0.2
    assert chosen_unit(made).name in ("tree", "orchard")


def test_within_group_residuals_are_weighted_as_the_fit():
    frame = trial(trees=12).assign(w=lambda f: 1.0 + np.arange(len(f)) % 3)
    made = fit("yield = rain; each orchard: intercept", table_of(frame), Settings(options=Options(weights="w")))
    unit = made.design.units[0]
    own = unit.codes == 1
    x, root = np.column_stack(made.design.fixed.values)[own], np.sqrt(frame["w"].to_numpy()[own])
    b, *_ = np.linalg.lstsq(x * root[:, None], made.design.y[own] * root, rcond=None)
    np.testing.assert_allclose(within_residuals(made, unit).residual[own], made.design.y[own] - x @ b, atol=1e-9)


def test_the_unit_of_a_within_clause_is_checked_too():
    frame = planted("autocorrelation", units=12)
    made = fit("yield = rain; within orchard: ar1(week)", table_of(frame))
    d = check(made).document
    assert d["autocorrelation"]["unit"] == "orchard" and d["autocorrelation"]["p"] > 0.01
    assert len(d["influence"]) == 12 and d["spread"] is not None
    assert d["levels"][0]["outliers"] == [] or set(d["levels"][0]["outliers"][0]["units"]) == {"orchard"}
    moved = {i["level"]: i for i in d["influence"]}["o3"]
    again = fit(
        "yield = rain; within orchard: ar1(week)", table_of(frame[frame["orchard"] != "o3"].reset_index(drop=True))
    )
    assert moved["exact"] and moved["components_without"]["rho"] == pytest.approx(
        again.result["residual"]["parameters"]["rho"], rel=1e-3
    )


def test_few_rows_are_said():
    frame = pd.DataFrame({"orchard": np.arange(30) // 2, "rain": np.random.default_rng(0).normal(size=30)})
    frame["yield"] = (
        frame["rain"]
        + np.repeat(np.random.default_rng(1).normal(size=15) * 3, 2)
        + np.random.default_rng(2).normal(size=30)
    )
    d = check(fit("yield = rain; each orchard: intercept", table_of(frame))).document
    assert any("no within-group residuals" in n for n in d["notes"])
    assert [e["residuals"] for e in d["levels"]] == ["conditional", "predicted effects", "marginal"]


@pytest.mark.parametrize("clauses", ["within tree: ar1(week)", "within tree: exchangeable", "within tree: unstructured(week)",
                                     "spread = soil", "within tree: ar1(week); spread = soil", "within tree: exchangeable; spread = soil"])  # fmt: skip
def test_whitened_and_scaled_residuals(clauses):
    frame = trial(trees=30, keep=0.95)
    made = fit(f"yield = rain; {clauses}", table_of(frame))
    rest = residuals(made)
    unit = "tree" if "within" in clauses else None
    r = residual_covariance(frame, unit, made.result["residual"])
    np.testing.assert_allclose(rest.standardised, rest.conditional / np.sqrt(np.diag(r)), rtol=1e-5)
    assert rest.white @ rest.white == pytest.approx(rest.conditional @ np.linalg.solve(r, rest.conditional), rel=1e-5)
    if clauses != "spread = soil":
        assert not np.allclose(rest.white, rest.standardised)


def test_autocorrelation_by_hand():
    frame = planted("autocorrelation", rows=9).drop(index=[3, 4, 40])
    made = fit(SENTENCE, table_of(frame))
    unit = made.design.units[0]
    e = residuals(made).white
    shuffled = np.random.default_rng(0).permutation(len(frame))  # rows need no order
    some = fit(SENTENCE, table_of(frame.iloc[shuffled]))
    found = autocorrelation(residuals(some).white, some.design.units[0], times(some.design.table, "week"), "week", 1)
    for lag in found["lags"][:4]:
        pairs = [(i, j) for i in range(len(e)) for j in range(len(e))
                 if unit.codes[i] == unit.codes[j] and frame["week"].iloc[j] - frame["week"].iloc[i] == lag["gap"]]  # fmt: skip
        wanted = np.mean([e[i] * e[j] for i, j in pairs]) / np.mean(e**2)
        assert lag["pairs"] == len(pairs) and lag["correlation"] == pytest.approx(wanted, abs=1e-5)
    assert found["p"] < 1e-6 and not found["averaged"]


@pytest.mark.slow
def test_autocorrelation_knows_its_bias_in_short_series():
    p = []
    for seed in range(60):
        made = fit(SENTENCE, table_of(planted("clean", seed, units=30, rows=4)))
        rest, unit = residuals(made), made.design.units[0]
        found = autocorrelation(rest.white, unit, times(made.design.table, "week"), "week", 1)
        assert found["expected"] < -0.1
        p.append(found["p"])
    assert np.mean(np.array(p) < 0.05) <= 0.12 and 0.3 < np.mean(np.array(p) < 0.5) < 0.7


def test_times_may_be_dates_and_may_repeat():
    frame = planted("clean", units=6, rows=6)
    frame["day"] = [f"2026-05-{w + 1:02d}" for w in frame["week"]]
    frame["pair"] = frame["week"] // 2
    d = check(fit(SENTENCE, table_of(frame)), CheckOptions(time="day")).document
    assert d["autocorrelation"]["lags"][0]["pairs"] == 30
    again = check(fit(SENTENCE, table_of(frame)), CheckOptions(time="pair")).document
    assert again["autocorrelation"]["averaged"] and any("were averaged" in n for n in again["notes"])


@pytest.mark.slow
def test_a_unit_that_was_left_out_is_told():
    frame = planted("clean").assign(tree=lambda f: f["week"] // 3)
    r = np.random.default_rng(2)
    code = frame["orchard"].str[1:].astype(int) * 5 + frame["tree"]
    told = fit(SENTENCE, table_of(frame.assign(**{"yield": frame["yield"] + 0.8 * r.normal(size=200)[code]})))
    found = check(told, CheckOptions(unit="tree in orchard"))
    d = found.document
    groups = [found.arrays.residuals.standardised[code == k] for k in range(200)]
    assert d["left_out"]["value"] == pytest.approx(stats.f_oneway(*groups).statistic)
    assert d["left_out"]["p"] == pytest.approx(stats.f_oneway(*groups).pvalue, rel=1e-6)
    assert f"{SENTENCE}; each tree in orchard: intercept" in d["closing"]["try"]
    assert {i["group"] for i in d["influence"]} == {"tree in orchard"} and len(d["influence"]) == 200
    quiet = check(fit(SENTENCE, table_of(frame)), CheckOptions(unit="tree in orchard")).document
    assert quiet["left_out"]["p"] > 0.01 and check(told).document["left_out"] is None
    assert between_units(np.ones(3), np.arange(3)) is None


def test_curvature_is_the_larger_models_wald_test():
    frame = planted("curvature")
    made = fit("yield = rain; each orchard: intercept", table_of(frame))
    found = curvature(made, residuals(made).standardised)[0]
    centred = (frame["rain"] - frame["rain"].mean()) ** 2
    larger = fit("yield = rain + bent; each orchard: intercept", table_of(frame.assign(bent=centred)))
    row = larger.result["fixed"][2]
    assert found["statistic"] == pytest.approx(row["statistic"], rel=0.03) and found["predictor"] == "rain"
    spanned = fit("yield = power(rain, 2); each orchard: intercept", table_of(frame))
    assert curvature(spanned, residuals(spanned).standardised)[0]["p"] is None


def test_curvature_of_a_predictor_of_units_has_few_degrees_of_freedom():
    frame = planted("clean", units=12)
    frame["height"] = frame["orchard"].str[1:].astype(int) ** 1.5
    made = fit("yield = rain + height; each orchard: intercept", table_of(frame))
    by = {c["predictor"]: c for c in curvature(made, residuals(made).standardised)}
    assert by["height"]["df"] == 12 - 5 and by["rain"]["df"] == 180 - 5


def test_spread_by_fitted_is_the_rank_correlation():
    r = np.random.default_rng(0)
    e, f = r.normal(size=200), r.normal(size=200)
    assert spread_by_fitted(e, f)["value"] == pytest.approx(stats.spearmanr(np.abs(e), f).statistic)
    assert spread_by_fitted(e, np.ones(200)) is None


def test_names_that_are_not_there():
    made = fit(SENTENCE, table_of(planted("clean", units=8)))
    with pytest.raises(UsageError, match="--unit"):
        check(made, CheckOptions(unit="tree"))
    with pytest.raises(UsageError, match="missing in some"):
        gappy = planted("clean", units=8).assign(block=lambda f: np.where(f.index < 3, np.nan, f.index % 4))
        check(fit(SENTENCE, table_of(gappy)), CheckOptions(unit="block"))
    with pytest.raises(UsageError, match="--time"):
        check(made, CheckOptions(time="wek"))
