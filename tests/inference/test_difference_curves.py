"""Differences along a number: critical values by closed forms, regions by their definition, relations under renaming and rescaling."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.coefficients.whole_curves import whole_quantile
from builders import trial

SENTENCE = "yield = cross(soil, rain); each tree: intercept"


def frame_of(seed=6):
    frame = trial(seed=seed, trees=40)
    frame["rain"] = np.random.default_rng(3).uniform(20, 100, len(frame))
    frame["yield"] += np.where(frame["soil"] == sorted(set(frame["soil"]))[0], 0.05, -0.02) * (frame["rain"] - 55.0)
    return frame


@pytest.fixture(scope="module")
def frame():
    return frame_of()


@pytest.fixture(scope="module")
def fit(frame):
    return bo.fit(SENTENCE, frame)


def curves(fit, **more):
    return fit.means("soil", curve="rain", **more).to_dict()["curves"]


@pytest.mark.slow
@pytest.mark.parametrize("df", [9.0, None])
def test_one_direction_is_student_s_and_all_directions_are_scheffe_s(df):
    line = np.outer(np.linspace(1, 3, 7), [1.0, -2.0])
    t = stats.norm.ppf(0.975) if df is None else stats.t.ppf(0.975, df)
    assert whole_quantile(line, np.diag([2.0, 3.0]), df, 0.95) == pytest.approx(t, rel=1e-8)
    for r in (2, 3):
        rows = np.random.default_rng(r).normal(size=(6_000, r)) if r > 2 else turning(2_000)
        bound = stats.chi2.ppf(0.95, r) if df is None else r * stats.f.ppf(0.95, r, df)
        assert whole_quantile(rows, np.eye(r), df, 0.95) == pytest.approx(np.sqrt(bound), rel=2e-3)


def turning(n):
    angle = np.linspace(0, np.pi, n)
    return np.stack([np.cos(angle), np.sin(angle)], axis=1)


def test_a_piece_of_a_line_against_draws():
    rows, covariance = np.stack([np.ones(41), np.linspace(-1, 2, 41)], axis=1), np.array([[1.0, 0.3], [0.3, 0.7]])
    z = np.random.default_rng(0).multivariate_normal(np.zeros(2), covariance, 400_000)
    se = np.sqrt(np.einsum("ij,jk,ik->i", rows, covariance, rows))
    assert whole_quantile(rows, covariance, None, 0.9) == pytest.approx(
        np.quantile(np.abs(z @ rows.T / se).max(axis=1), 0.9), abs=0.01
    )


def test_differences_are_those_of_held_means_and_regions_end_where_the_band_meets_zero(fit):
    inside = 0
    for c in curves(fit):
        for at in (0, 37, 100):
            held = fit.means("soil", hold={"rain": c["x"][at]}, differences=True).to_dict()["pairs"]
            pair = next(p for p in held if c["a"] in p["a"] and c["b"] in p["b"])
            assert [c["difference"][at], c["se"][at]] == pytest.approx([pair["difference"], pair["se"]], rel=1e-8)
        for region in c["regions"]:
            for end in (region["low"], region["high"]):
                if c["x"][0] < end < c["x"][-1]:
                    held = fit.means("soil", hold={"rain": end}, differences=True).to_dict()["pairs"]
                    pair = next(p for p in held if c["a"] in p["a"] and c["b"] in p["b"])
                    assert abs(pair["difference"]) == pytest.approx(c["critical"] * pair["se"], rel=1e-6)
                    inside += 1
    assert inside  # a line that crosses


@pytest.mark.slow
def test_names_of_levels_and_units_of_columns_change_nothing(frame, fit):
    levels = sorted(set(frame["soil"]))
    names = {level: f"z{len(levels) - i} , x" for i, level in enumerate(levels)}
    other = frame.assign(soil=frame["soil"].map(names), rain=frame["rain"] / 25.4).sample(frac=1, random_state=1)
    for c in curves(fit):
        moved = curves(bo.fit(SENTENCE, other))
        pair = {names[c["a"]], names[c["b"]]}
        m = next(m for m in moved if {m["a"], m["b"]} == pair)
        assert m["critical"] == pytest.approx(c["critical"], rel=1e-4)
        assert [names[r["higher"]] for r in c["regions"]] == [r["higher"] for r in m["regions"]]
        for a, b in zip(c["regions"], m["regions"]):
            assert [25.4 * b["low"], 25.4 * b["high"]] == pytest.approx([a["low"], a["high"]], rel=1e-3)


@pytest.mark.parametrize(("let", "shown"), [
    ("let x = rescale(rain, 10)", lambda r: r / 10), ("let x = calc(0 - rain / 10)", lambda r: -r / 10),
    ("let x = log(rain)", np.log),
])  # fmt: skip
def test_a_name_that_let_gave_stands_along_the_curve(frame, fit, let, shown):
    plain = "log(rain)" if "log" in let else "rain"
    there = bo.fit(f"yield = cross(soil, {plain}); each tree: intercept", frame)
    named = bo.fit(f"{let}; yield = cross(soil, x); each tree: intercept", frame)
    for a, b in zip(curves(there), named.means("soil", curve="x").to_dict()["curves"]):
        assert b["column"] == "x" and np.all(np.diff(b["x"]) > 0)
        back = slice(None, None, 1 if b["x"][0] == pytest.approx(shown(a["x"][0])) else -1)
        np.testing.assert_allclose(b["x"][back], shown(np.array(a["x"])), rtol=1e-9)
        np.testing.assert_allclose(b["difference"][back], a["difference"], rtol=1e-6, atol=1e-8)
        assert b["critical"] == pytest.approx(a["critical"], rel=1e-3)
        ends = [sorted(shown(np.array([r["low"], r["high"]]))) for r in a["regions"]][back]
        np.testing.assert_allclose([(r["low"], r["high"]) for r in b["regions"]], ends, rtol=1e-3)
        np.testing.assert_allclose(b["seen"], sorted(shown(np.array(a["seen"]))))
    with pytest.raises(UsageError, match="turns back along rain; give rain"):
        bent = bo.fit("let x = calc((rain - 60) ^ 2); yield = cross(soil, x); each tree: intercept", frame)
        bent.means("soil", curve="x")


def test_the_slope_along_a_name_is_that_of_its_function(frame):
    plain = bo.fit("yield = log(rain) + soil; each tree: intercept", frame)
    named = bo.fit("let x = log(rain); yield = x + soil; each tree: intercept", frame)
    steep = named.draw(kind="effects", along="x", slope=True).to_dict()["effects"][0]
    assert steep["predictor"] == "x" and min(steep["x"]) == pytest.approx(np.log(frame["rain"].min()))
    np.testing.assert_allclose(steep["estimate"], plain.result.fixed[1].estimate, rtol=1e-6)


def test_what_has_no_answer_says_so(frame, fit):
    flat = bo.fit("yield = soil + rain; each tree: intercept", frame)
    with pytest.raises(OrchardError, match=r"cross\(soil, rain\)"):
        curves(flat)
    with pytest.raises(OrchardError, match="no number 'soil'"):
        fit.means("soil", curve="soil")
    with pytest.raises(OrchardError, match="name it"):
        fit.means(curve="rain")
    with pytest.raises(OrchardError, match="held"):
        curves(fit, hold={"rain": 3.0})


def test_page_and_picture(fit):
    answer = fit.means("soil", curve="rain", against=sorted(fit.core.design.categories()[0][1].levels)[0])
    assert "they differ at rain" in str(answer)
    assert len(answer.figure().axes) == len(answer.to_dict()["curves"])
