"""What is printed of generalized fits, of intervals and of groups, and what a saved fit still knows."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

from builders import inspections


@pytest.fixture
def scab(orchard):
    inspections().to_csv(orchard.folder / "scab.csv", index=False)
    return orchard


def test_a_saved_fit_still_knows_its_errors_and_points(scab):
    fitted = scab(
        "fit",
        "scab.csv",
        "infected = rain; each orchard: intercept",
        "--family",
        "binomial",
        "--points",
        "7",
        "--save",
        "q",
        "--json",
    ).json
    saved = json.loads((scab.folder / "q.fit.json").read_text())
    assert saved["points"] == 7 and np.array(saved["saved"]["hessian"]).shape == (3, 3)
    tests = scab("terms", "q", "--json").json["tests"]
    row = fitted["fixed"][1]
    assert tests[0]["value"] == pytest.approx((row["estimate"] / row["se"]) ** 2, rel=1e-6)
    frame = pd.read_csv(scab.folder / "scab.csv")
    frame.loc[0, "rain"] += 1
    frame.to_csv(scab.folder / "scab.csv", index=False)
    changed = scab("terms", "q")
    assert changed.code == 3 and "has changed since" in changed.err


def test_means_stand_on_both_scales_and_say_which(scab):
    scab("fit", "scab.csv", "scab of fruits = rain + spray; each orchard: intercept", "--save", "m")
    page = scab("means", "m", "spray", "--differences").out
    assert (
        "Adjusted means of scab of fruits (on the logit scale)" in page
        and "On the outcome's own scale" in page
        and "averaged" in page
    )
    slopes = scab("means", "m", "spray", "--slope", "rain")
    assert slopes.code == 0 and "own scale" not in slopes.out
    parts = " ".join(scab("components", "m").out.split())
    assert "the family's own on the linear scale" in parts and "residual" not in parts


def test_the_page_of_groups_shows_both_ends_of_many_levels(scab):
    r = np.random.default_rng(0)
    frame = pd.DataFrame(
        {"tree": np.repeat(np.arange(60), 5), "kilos": r.normal(size=300) + r.normal(size=60).repeat(5)}
    )
    frame.to_csv(scab.folder / "trees.csv", index=False)
    scab("fit", "trees.csv", "kilos = intercept; each tree: intercept", "--save", "t")
    page = scab("groups", "t").out
    assert (
        "60 levels in all" in page and "\n..." in page and "Predicted effects of each unit in t, largest first." in page
    )
    effects = {r["level"]: r["effects"]["intercept"] for r in scab("groups", "t", "--json").json["groups"][0]["rows"]}
    first = page.split("average\n", 1)[1].split()[0]
    assert effects[first] == max(effects.values())


def test_effects_and_ratios_are_offered_only_where_they_mean_something(scab):
    scab("fit", "scab.csv", "rain = spray; each orchard: intercept", "--save", "plain")
    assert scab("show", "plain", "--ratios").code == 2 and scab("show", "plain", "--effects").code == 2
    scab("fit", "scab.csv", "aphids = rain; each orchard: intercept", "--family", "poisson", "--save", "p")
    page = scab("show", "p", "--ratios", "--effects").out
    assert "As rate ratios" in page and "Average change of the mean of aphids" in page
    table = scab("show", "p", "--ratios", "--csv", "p.csv")
    assert table.code == 0 and {"ratio", "ratio_low", "ratio_high"} <= set(pd.read_csv(scab.folder / "p.csv").columns)


@pytest.mark.slow
def test_the_page_of_intervals_says_how_they_were_made(scab):
    scab("fit", "scab.csv", "rain = spray; each orchard: intercept", "--save", "m")
    for method, words in (
        ("wald", "Wald intervals"),
        ("profile", "Profile-likelihood"),
        ("bootstrap", "Parametric bootstrap"),
    ):
        more = ["--samples", "20"] if method == "bootstrap" else []
        page = scab("intervals", "m", "--method", method, *more).out
        assert words in page and "sd(residual)" in page and "Variation between groups" in page
