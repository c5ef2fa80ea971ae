"""Generalized fits through the program: a published trial, every command, and what is refused."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.average_effects import average_effects, population_mean
from builders import inspections

# Crowder (1978), Table 3: seeds germinated of those on 21 plates, two seed types by two root extracts
GERMINATED = [10, 23, 23, 26, 17, 5, 53, 55, 32, 46, 10, 8, 10, 8, 23, 0, 3, 22, 15, 32, 3]
SEEDS = [39, 62, 81, 51, 39, 6, 74, 72, 51, 79, 13, 16, 30, 28, 45, 4, 12, 41, 30, 51, 7]
KIND = ["a75"] * 11 + ["b73"] * 10
EXTRACT = ["bean"] * 5 + ["cucumber"] * 6 + ["bean"] * 5 + ["cucumber"] * 5


@pytest.fixture
def scab(quick):
    inspections().to_csv(quick.folder / "scab.csv", index=False)
    return quick


def test_the_seed_germination_trial_gives_the_published_estimates():
    """Breslow & Clayton (1993), Table 4, maximum likelihood by quadrature: estimates and SEs to their three decimals."""
    frame = pd.DataFrame(
        {"germinated": GERMINATED, "seeds": SEEDS, "kind": KIND, "extract": EXTRACT, "plate": range(21)}
    )
    made = fit(
        "germinated of seeds = cross(kind, extract); each plate: intercept", Table(frame, "t", 21), Settings(points=25)
    )
    published = {"intercept": (-0.548, 0.167), "kind[b73]": (0.097, 0.278), "extract[cucumber]": (1.337, 0.237),
                 "kind[b73]*extract[cucumber]": (-0.811, 0.385)}  # fmt: skip
    for row in made.result["fixed"]:
        estimate, se = published[row["term"]]
        assert row["estimate"] == pytest.approx(estimate, abs=0.0015) and row["se"] == pytest.approx(se, abs=0.0015)
    assert made.result["random"][0]["sd"][0] == pytest.approx(0.236, abs=0.0015)
    assert made.result["method"] == "quadrature" and made.result["residual"] is None


@pytest.mark.few(1)
@pytest.mark.parametrize(("outcome", "family", "dispersed"), [
    ("scab of fruits", None, False), ("clustered of fruits", "beta-binomial", True), ("infected", "binomial", False), ("aphids", "poisson", False), ("aphids", "negative-binomial", True),
    ("weight", "gamma", True), ("share", "beta", True), ("grade", "ordinal", False), ("size", "gaussian", True),
    ("sap", "lognormal", True), ("girth", "student", True), ("borers", "zero-inflated-poisson", True), ("cankers", "hurdle-poisson", True)])  # fmt: skip
def test_every_command_takes_every_family(scab, outcome, family, dispersed):
    chosen = [] if family is None else ["--family", family]
    chosen += ["--link", "log"] if family == "gaussian" else []
    made = scab(
        "fit", "scab.csv", f"{outcome} = rain + spray; each orchard: intercept", *chosen, "--save", "m", "--json"
    )
    assert made.code == 0, made.err
    d = made.json
    assert d["method"] == "Laplace" and all(r["df"] is None for r in d["fixed"]) and d["convergence"]["converged"]
    assert (d["residual"] is not None) == dispersed
    if family == "ordinal":
        assert [r["term"] for r in d["fixed"][:3]] == ["threshold[1|2]", "threshold[2|3]", "threshold[3|4]"]
        assert len(d["fixed_covariance"]) == 6 and d["fixed"][1]["se"] == pytest.approx(
            d["fixed_covariance"][1][1] ** 0.5
        )
    again = scab("show", "m", "--json").json
    assert again["fit"] == d["fit"] and again["fixed"] == d["fixed"]
    tests = scab("terms", "m", "--json").json["tests"]
    assert [t["statistic"] for t in tests] == ["chisq", "chisq"] and tests[0]["den_df"] is None
    ratio = scab("terms", "m", "--likelihood", "--json").json["tests"]
    assert ratio[0]["value"] == pytest.approx(tests[0]["value"], rel=0.2, abs=1.5)
    profile = {p["parameter"]: p for p in scab("intervals", "m", "--json").json["parameters"]}
    wald = {p["parameter"]: p for p in scab("intervals", "m", "--method", "wald", "--json").json["parameters"]}
    assert set(profile) == set(wald) and bool({"dispersion", "zero_chance", "tail_df"} & set(profile)) == dispersed
    for name, row in profile.items():
        assert row["low"] < row["estimate"] < row["high"], name
        assert row["high"] == pytest.approx(wald[name]["high"], abs=0.6 * (wald[name]["high"] - wald[name]["low"]))
    parts = scab("components", "m", "--json").json
    assert 0 < parts["icc"][0]["value"] < 1 and parts["latent_variance"] > 0 and parts["components"][0]["se"] > 0
    means = scab("means", "m", "spray", "--json").json["means"]
    if family != "ordinal":
        assert all(m["outcome_ci"][0] < m["outcome"] < m["outcome_ci"][1] for m in means)
    rows = scab("predict", "m", "--json").json["rows"]
    assert all(r["low"] <= r["predicted"] <= r["high"] for r in rows)
    check = scab("check", "m", "--json", "--figure", "c.png").json
    assert check["levels"][0]["residuals"] == "quantile"
    if (outcome, family) != ("aphids", "poisson"):
        assert abs(check["levels"][0]["sd"] - 1) < 0.12 and check["levels"][0]["shapiro"]["p"] > 1e-4


@pytest.mark.slow
def test_pages_read_as_their_readers_need(scab):
    page = scab(
        "fit", "scab.csv", "scab of fruits = rain + spray; each orchard: intercept", "--ratios", "--save", "a"
    ).out
    assert (
        "As odds ratios" in page
        and "A binomial (logit) model by maximum likelihood (Laplace)" in page
        and "residual" not in page
    )
    d = scab("show", "a", "--ratios", "--json").json
    row = d["fixed"][1]
    assert row["ratio"] == pytest.approx(np.exp(row["estimate"])) and row["ratio_ci"][0] == pytest.approx(
        np.exp(row["ci"][0])
    )
    page = scab(
        "fit", "scab.csv", "infected = rain; each orchard: intercept", "--family", "binomial", "--points", "auto"
    ).out
    assert "Success is infected = yes" in page and "quadrature points" in page
    other = scab(
        "fit",
        "scab.csv",
        "infected = rain; each orchard: intercept",
        "--family",
        "binomial",
        "--success",
        "no",
        "--json",
        "--save",
        "no",
    ).json
    one = scab("fit", "scab.csv", "infected = rain; each orchard: intercept", "--family", "binomial", "--json").json
    assert other["fixed"][1]["estimate"] == pytest.approx(-one["fixed"][1]["estimate"], rel=1e-4)
    assert (
        "Grades of grade" in scab("fit", "scab.csv", "grade = rain; each orchard: intercept", "--family", "ordinal").out
    )
    table = scab("check", "no").out
    assert "Predicted (at a chance of one half) against observed" in table and "tenths" in table


@pytest.mark.slow
def test_counts_that_vary_too_much_are_told_and_families_compare_by_aic(scab):
    for family in ("poisson", "negative-binomial"):
        scab("fit", "scab.csv", "aphids = rain + spray; each orchard: intercept", "--family", family, "--save", family)
    poisson, wide = scab("check", "poisson", "--json").json, scab("check", "negative-binomial", "--json").json
    assert poisson["dispersion"]["ratio"] > 1.4 and poisson["dispersion"]["p"] < 0.01
    assert any("negative-binomial" in n and "each ROW: intercept" in n for n in poisson["closing"]["try"])
    assert wide["dispersion"]["p"] > 0.01 and 0.7 < wide["dispersion"]["ratio"] < 1.3
    assert poisson["zeros"]["seen"] > poisson["zeros"]["expected"] + 3 * poisson["zeros"]["sd"]
    d = scab("compare", "poisson", "negative-binomial", "--json").json
    assert d["method"] == "Laplace" and d["tests"][0]["nested"] and d["models"][1]["delta_aic"] == 0
    assert d["tests"][0]["p_boundary"] == pytest.approx(d["tests"][0]["p"] / 2)
    scab("fit", "scab.csv", "aphids = rain; each orchard: intercept", "--save", "normal")
    refused = scab("compare", "poisson", "normal")
    assert refused.code == 3 and "cannot be compared" in refused.err


def test_means_over_units_are_flatter_than_those_of_one_unit():
    frame = inspections()
    made = fit("scab of fruits = rain + spray; each orchard: intercept", Table(frame, "t", len(frame)))
    effects = {e["term"]: e for e in average_effects(made)}
    for row in made.result["fixed"][1:]:
        effect = effects[row["term"]]
        assert np.sign(effect["unit_specific"]) == np.sign(row["estimate"]) and abs(effect["population"]) < abs(
            effect["unit_specific"]
        )
    family, own = made.criterion.family, np.zeros(0)
    z = np.random.default_rng(0).normal(size=400_000) * 0.9
    assert population_mean(lambda eta: family.mean(eta, own), np.array(0.4), 0.81) == pytest.approx(
        family.mean(0.4 + z, own).mean(), abs=2e-3
    )


def test_a_unit_never_seen_gets_the_average_and_a_wider_interval(scab):
    scab("fit", "scab.csv", "scab of fruits = rain; each orchard: intercept", "--save", "m")
    (scab.folder / "new.csv").write_text("orchard,rain\no1,60\nfresh,60\n")
    known, new = scab("predict", "m", "--new", "new.csv", "--json").json["rows"]
    assert new["predicted"] == pytest.approx(new["predicted_average"]) and new["high"] - new["low"] > 2 * (
        known["high"] - known["low"]
    )
    assert known["residual"] is None


@pytest.mark.slow
def test_simulated_outcomes_refit_to_what_they_came_from():
    frame = inspections(900)
    table = Table(frame, "t", len(frame))
    one = fit(
        "aphids = rain; each orchard: intercept", table, Settings(options=Options(family="negative-binomial")), "one"
    )
    two = fit(
        "aphids = rain + spray; each orchard: intercept",
        table,
        Settings(options=Options(family="negative-binomial")),
        "two",
    )
    test = compare([one, two], samples=40, seed=2)["tests"][0]
    assert 0 < test["p_bootstrap"] <= 1 and abs(test["p_bootstrap"] - test["p"]) < 0.25


@pytest.mark.parametrize(("rows", "sentence", "family", "words"), [
    ({"y": [0, 1] * 6}, "y = x; each g: intercept", None, "only the two values 0 and 1"),
    ({"y": [0, -1, 2, 3] * 3}, "y = x; each g: intercept", "poisson", "row 2 has -1"),
    ({"y": [0, 1.5, 2, 3] * 3}, "y = x; each g: intercept", "negative-binomial", "whole numbers of zero or more"),
    ({"y": [5, 1, 2, 3] * 3, "m": [4] * 12}, "y of m = x; each g: intercept", None, "row 1 has 5 of 4"),
    ({"y": [0, 1, 2, 3] * 3}, "y = x; each g: intercept", "gamma", "must be above zero for gamma, but 3 rows are not: row 1 has 0"),
    ({"y": [0.5, 1, 0.2, 0.3] * 3}, "y = x; each g: intercept", "beta", "between 0 and 1"),
    ({"y": ["ripe"] * 12}, "y = x; each g: intercept", "binomial", "ripe in every row"),
    ({"y": ["a", "b", "c"] * 4}, "y = x; each g: intercept", "binomial", "--family ordinal"),
    ({"y": ["a", "b"] * 6}, "y = x; each g: intercept", None, "--family binomial"),
    ({"y": [0, 3, 1, 2] * 3, "w": [1, 2, 3] * 4}, "y = x; within g: ar1(w)", "poisson", "describes gaussian residuals"),
])  # fmt: skip
def test_outcomes_outside_their_family_are_named_with_column_and_rows(rows, sentence, family, words):
    r = np.random.default_rng(0)
    frame = pd.DataFrame(rows | {"x": r.normal(size=12), "g": ["p", "q", "s", "t"] * 3})
    with pytest.raises(OrchardError, match=words):
        fit(sentence, Table(frame, "t.csv", 12), Settings(options=Options(family=family)))


def test_points_links_and_df_that_do_not_exist_are_refused(scab):
    two = "infected = rain; each orchard: intercept; each spray: intercept"
    refused = scab("fit", "scab.csv", two, "--family", "binomial", "--points", "9")
    assert refused.code == 2 and "--points needs one unit" in refused.err
    assert scab("fit", "scab.csv", two, "--family", "binomial", "--points", "0").code == 2
    assert scab("fit", "scab.csv", "aphids = rain", "--family", "poisson", "--link", "logit").code == 2
    assert scab("fit", "scab.csv", "aphids = rain", "--points", "5").code == 2
    assert scab("fit", "scab.csv", "aphids = rain", "--family", "poisson", "--df", "kenward-roger").code == 2
    assert (
        scab("fit", "scab.csv", "share = rain; each orchard: intercept", "--family", "beta", "--success", "1").code == 2
    )
    assert scab("fit", "scab.csv", "infected = rain", "--family", "binomial", "--link", "probit", "--ratios").code == 2
    scab("fit", "scab.csv", "aphids = rain; each orchard: intercept", "--family", "poisson", "--save", "p")
    assert scab("terms", "p", "--df", "kenward-roger").code == 2


@pytest.mark.slow
def test_complete_separation_is_named_and_not_trusted(scab):
    frame = inspections(300)
    frame["frost"] = (frame["infected"] == "yes") * 2.0 + np.random.default_rng(1).uniform(0, 1, 300)
    frame.to_csv(scab.folder / "apart.csv", index=False)
    done = scab(
        "fit", "apart.csv", "infected = frost + rain; each orchard: intercept", "--family", "binomial", "--json"
    )
    assert (
        done.code == 4
        and "frost" in done.json["notes"][0]
        and "separates the outcome completely" in " ".join(done.json["notes"])
    )
    assert done.json["convergence"]["converged"] is False
    frame["none"] = np.where(frame["spray"] == "none", 0, frame["aphids"])
    frame.to_csv(scab.folder / "apart.csv", index=False)
    counts = scab("fit", "apart.csv", "none = rain + spray; each orchard: intercept", "--family", "poisson", "--json")
    assert counts.code == 4 and "separates" in " ".join(counts.json["notes"])


def test_rare_events_and_tiny_units_still_find_their_maximum():
    r = np.random.default_rng(3)
    frame = pd.DataFrame({"tree": np.repeat(np.arange(120), 2), "rain": r.normal(size=240)})
    eta = -3.2 + 0.8 * frame["rain"] + 1.0 * r.normal(size=120)[frame["tree"]]
    frame["scab"] = (r.random(240) < 1 / (1 + np.exp(-eta))) * 1
    assert 4 < frame["scab"].sum() < 30
    for points in (1, 11):
        made = fit(
            "scab = rain; each tree: intercept",
            Table(frame, "t", 240),
            Settings(options=Options(family="binomial"), points=points),
        )
        assert made.converged, made.model.found.reason
    frame["row"], frame["aphids"] = range(240), r.poisson(np.exp(0.3 + 0.8 * r.normal(size=240)))
    made = fit(
        "aphids = rain; each row: intercept", Table(frame, "t", 240), Settings(options=Options(family="poisson"))
    )
    assert made.converged and made.result["random"][0]["sd"][0] == pytest.approx(0.8, abs=0.25)


def test_groups_hold_effects_errors_and_coefficients(scab):
    scab("fit", "scab.csv", "scab of fruits = rain; each orchard: intercept", "--save", "m")
    d = scab("groups", "m", "--json", "--csv", "g.csv", "--figure", "g.png").json
    part = d["groups"][0]
    fixed = scab("show", "m", "--json").json["fixed"][0]["estimate"]
    assert part["group"] == "orchard" and part["terms"] == ["intercept"] and len(part["rows"]) == 25
    for row in part["rows"]:
        assert (
            row["coefficients"]["intercept"] == pytest.approx(fixed + row["effects"]["intercept"])
            and row["se"]["intercept"] > 0
        )
    effects = [r["effects"]["intercept"] for r in sorted(part["rows"], key=lambda r: r["rank"])]
    assert effects == sorted(effects, reverse=True) and (scab.folder / "g.png").exists()
    wide = pd.read_csv(scab.folder / "g.csv")
    assert len(wide) == 25 and {"level", "effect intercept", "se intercept", "coefficient intercept"} <= set(
        wide.columns
    )
    scab("fit", "scab.csv", "aphids = rain", "--save", "flat")
    assert scab("groups", "flat").code == 3


def test_predicted_effects_and_their_errors_are_the_dense_ones():
    frame = inspections(200, 8)
    r, codes = np.random.default_rng(1), pd.factorize(frame["orchard"])[0]
    frame["rain"] = (frame["rain"] - 60) / 10
    frame["aphids"] = r.poisson(
        np.exp(1 + 0.6 * r.normal(size=8)[codes] + 0.5 * r.normal(size=8)[codes] * frame["rain"])
    )
    sentence = "aphids = rain; each orchard: intercept + rain"
    made = fit(sentence, Table(frame, "t", 200), Settings(options=Options(family="poisson")))
    e, design = made.evaluation, made.design
    codes, z = design.units[0].codes, np.column_stack(design.clauses[0].part.values)
    x, g = np.column_stack(design.fixed.values), e.covariance(0)
    wide = np.zeros((200, 16))
    for a in range(2):
        wide[np.arange(200), 2 * codes + a] = z[:, a]
    u, covariance = e.effects(0)
    mean = np.exp(x @ e.b + wide @ u.ravel())
    slope = wide.T @ (frame["aphids"].to_numpy() - mean) - np.kron(np.eye(8), np.linalg.inv(g)) @ u.ravel()
    np.testing.assert_allclose(slope, 0, atol=1e-6)
    both = np.hstack([x, wide])
    information = both.T @ (mean[:, None] * both)
    information[2:, 2:] += np.kron(np.eye(8), np.linalg.inv(g))
    errors = np.linalg.inv(information)[2:, 2:]
    for j in range(8):
        np.testing.assert_allclose(covariance[j], errors[2 * j : 2 * j + 2, 2 * j : 2 * j + 2], rtol=1e-5, atol=1e-10)


@pytest.mark.few(2)
@pytest.mark.parametrize(("levels", "expected"), [
    (["severe", "none", "mild"], ["none", "mild", "severe"]), (["good", "poor", "fair"], ["poor", "fair", "good"]),
    (["b", "a", "c"], ["a", "b", "c"]), (["10", "9", "8"], ["8", "9", "10"])])  # fmt: skip
def test_grades_stand_in_the_order_their_words_have(levels, expected):
    r = np.random.default_rng(0)
    frame = pd.DataFrame({"grade": r.choice(levels, 200), "g": r.integers(0, 9, 200), "x": r.normal(size=200)})
    made = fit("grade = x; each g: intercept", Table(frame, "t", 200), Settings(options=Options(family="ordinal")))
    assert (
        list(made.design.levels) == expected
        and made.result["fixed"][0]["term"] == f"threshold[{expected[0]}|{expected[1]}]"
    )
    asked = Options(family="ordinal", grades=tuple(reversed(expected)))
    turned = fit("grade = x; each g: intercept", Table(frame, "t", 200), Settings(options=asked))
    assert turned.result["fixed"][-1]["estimate"] == pytest.approx(
        -made.result["fixed"][-1]["estimate"], rel=1e-3, abs=1e-5
    )
    with pytest.raises(OrchardError, match="leaves out"):
        fit(
            "grade = x; each g: intercept",
            Table(frame, "t", 200),
            Settings(options=Options(family="ordinal", grades=(expected[0],))),
        )


def test_counts_that_vary_too_little_for_their_family_are_told():
    r = np.random.default_rng(1)
    frame = pd.DataFrame({"g": np.arange(300) % 20, "x": r.normal(size=300)})
    frame["y"] = r.binomial(40, np.minimum(0.9, 0.1 * np.exp(0.3 * frame["x"] + 0.4 * r.normal(size=20)[frame["g"]])))
    made = fit(
        "y = x; each g: intercept", Table(frame, "t", 300), Settings(options=Options(family="negative-binomial"))
    )
    plain = fit("y = x; each g: intercept", Table(frame, "t", 300), Settings(options=Options(family="poisson")))
    assert made.converged and any("theta has run away" in n for n in made.result["notes"])
    assert made.evaluation.deviance == pytest.approx(plain.evaluation.deviance, abs=1e-2)
    assert made.result["fixed"][1]["estimate"] == pytest.approx(plain.result["fixed"][1]["estimate"], rel=1e-3)


@pytest.mark.slow
def test_a_hurdle_without_zeros_is_told(quick):
    r = np.random.default_rng(0)
    rows = {"tree": np.repeat(range(10), 8), "rain": r.normal(size=80), "fruit": r.poisson(3, 80) + 1}
    pd.DataFrame(rows).to_csv(quick.folder / "fruit.csv", index=False)
    for family in ("hurdle-poisson", "hurdle-negative-binomial"):
        done = quick("fit", "fruit.csv", "fruit = rain; each tree: intercept", "--family", family, "--json")
        assert done.code == 0, done.err
        notes = " ".join(done.json["notes"])
        assert "run to zero" in notes and "Use --family ." not in notes
