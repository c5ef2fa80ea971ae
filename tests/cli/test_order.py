"""A declared order of levels: baseline, means, trends, saved fits; and what is refused."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import UsageError
from builders import trial


@pytest.fixture
def folder(quick):
    frame = trial(trees=30)
    frame["dose"] = np.random.default_rng(1).choice(["low", "medium", "high"], len(frame))
    frame.to_csv(quick.folder / "t.csv", index=False)
    return quick


ORDER = ("--order", "dose=low,medium,high")


def test_the_first_is_the_baseline_and_means_stand_in_order(folder):
    d = folder("fit", "t.csv", "yield = dose; each tree: intercept", *ORDER, "--save", "m", "--json").json
    assert [r["term"] for r in d["fixed"]] == ["intercept", "dose[medium]", "dose[high]"]
    means = folder("means", "m", "dose", "--trend", "--json").json
    assert [m["levels"]["dose"] for m in means["means"]] == ["low", "medium", "high"]
    by_name = {m["levels"]["dose"]: m["mean"] for m in means["means"]}
    assert means["trends"][0]["estimate"] == pytest.approx((by_name["high"] - by_name["low"]) / np.sqrt(2))
    again = folder("fit", "--from", "m", "--add", "rain", "--json").json
    assert [r["term"] for r in again["fixed"]] == ["intercept", "dose[medium]", "dose[high]", "rain"]


def test_it_is_what_an_ordered_category_of_a_frame_says(folder):
    frame = pd.read_csv(folder.folder / "t.csv")
    declared = frame.assign(dose=pd.Categorical(frame["dose"], ["low", "medium", "high"], ordered=True))
    one = bo.fit("yield = dose; each tree: intercept", frame, order={"dose": ["low", "medium", "high"]})
    two = bo.fit("yield = dose; each tree: intercept", declared)
    assert one.result.to_dict()["fixed"] == two.result.to_dict()["fixed"]
    kept = bo.refit(one, add="rain")
    assert [r.term for r in kept.result.fixed][1:3] == ["dose[medium]", "dose[high]"]


def test_a_baseline_asked_for_comes_before_the_order(folder):
    d = folder("fit", "t.csv", "yield = dose; each tree: intercept", *ORDER, "--baseline", "dose=high", "--json").json
    assert [r["term"] for r in d["fixed"]][1:] == ["dose[low]", "dose[medium]"]


def test_scout_shows_levels_in_order(folder):
    d = folder("scout", "t.csv", *ORDER, "--by", "dose", "--outcome", "yield", "--json").json
    assert [c["levels"]["dose"] for c in d["cells"]] == ["low", "medium", "high"]


@pytest.mark.parametrize(("order", "said"), [
    ("dose=low,high", "leaves out medium"), ("doses=low,medium,high", "did you mean 'dose'"), ("rain=1,2", "holds numbers"),
    ("dose", "COLUMN=LEVEL"), ("dose=low,medium,high,low", "twice"),
])  # fmt: skip
def test_orders_that_cannot_be(folder, order, said):
    done = folder("fit", "t.csv", "yield = dose; each tree: intercept", "--order", order)
    assert done.code == 2 and said in done.err
    with pytest.raises(UsageError):
        bo.fit("yield = rain; each tree: intercept", trial(), order={"rain": ["1"]})


def test_levels_with_commas_are_kept_with_a_fit(tmp_path):
    frame = trial(trees=30)
    frame["dose"] = np.random.default_rng(1).choice(["low, wet", "high"], len(frame))
    bo.fit("yield = dose; each tree: intercept", frame, order={"dose": ["low, wet", "high"]}).save(str(tmp_path / "m"))
    assert [r.term for r in bo.refit(str(tmp_path / "m"), add="rain").result.fixed] == [
        "intercept",
        "dose[high]",
        "rain",
    ]


@pytest.mark.slow
def test_a_plan_makes_the_same_fit_again(folder):
    """Orders of levels and robust errors are options of a fit like any other."""
    made = folder(
        "fit", "t.csv", "yield = dose; each tree: intercept", *ORDER, "--errors", "robust", "--save", "m", "--json"
    ).json
    assert folder("plan", "m", "--to", "p.toml").code == 0
    done = folder("run", "p.toml", "--into", "again")
    assert done.code == 0, done.err
    again = folder("show", "again/m", "--json").json
    assert again["fixed"] == made["fixed"] and again["errors"] == made["errors"]


def test_a_refit_keeps_the_order(folder):
    path = folder.folder / "t.csv"
    for rows in (str(path), pd.read_csv(path)):
        earlier = bo.fit("yield = dose; each tree: intercept", rows, order={"dose": ["low", "medium", "high"]})
        terms = [r["term"] for r in bo.refit(earlier, add="rain").result.to_dict()["fixed"]]
        assert terms == ["intercept", "dose[medium]", "dose[high]", "rain"]
