"""Names given by let, time within a unit, the value before, and slips of the pen answered with the sentence that was meant."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.sentence.parse import read_sentence


def growth(seed=1):
    """Trees first seen in different months, rows in random order, one visit left out."""
    r = np.random.default_rng(seed)
    tree = np.repeat(np.arange(20), 8)
    month = np.tile(np.arange(8) * 3, 20) + r.integers(0, 9, 20)[tree]
    frame = pd.DataFrame({"tree": [f"t{k}" for k in tree], "month": month, "rain": r.normal(50, 8, 160)})
    frame["girth"] = 10 + 0.2 * (month - 4) + 0.05 * frame["rain"] + r.normal(size=20)[tree] + 0.5 * r.normal(size=160)
    return frame.drop(index=12).sample(frac=1, random_state=seed).reset_index(drop=True)


def test_let_names_a_transformation_everywhere(quick):
    frame = growth()
    frame.to_csv(quick.folder / "t.csv", index=False)
    named = "let years = rescale(since(month, tree), 12); let height = power(years, 2); girth = height + rain; each tree: intercept + years"
    plain = "girth = power(rescale(since(month, tree), 12), 2) + rain; each tree: intercept + rescale(since(month, tree), 12)"
    one = quick("fit", "t.csv", named, "--save", "m", "--json").json
    two = quick("fit", "t.csv", plain, "--json").json
    assert one["fit"]["loglik"] == pytest.approx(two["fit"]["loglik"], abs=1e-9)
    assert [r["term"] for r in one["fixed"]] == ["intercept", "height", "height^2", "rain"]
    assert one["random"][0]["terms"] == ["intercept", "years"]
    assert {"height", "years"} <= {t["term"] for t in one["transformations"]}
    assert [t["term"] for t in quick("terms", "m", "--contrast", "height", "--json").json["tests"]] == [
        "height",
        "rain",
    ]
    frame.drop(columns="girth").head(5).to_csv(
        quick.folder / "new.csv", index=False
    )  # the raw column is what is asked for
    own = {(r["tree"], r["month"]): r["predicted"] for r in quick("predict", "m", "--json").json["rows"]}
    for row in quick("predict", "m", "--new", "new.csv", "--json").json["rows"]:
        assert row["predicted"] == pytest.approx(own[row["tree"], row["month"]], rel=1e-12)
    assert read_sentence(named).written == named


@pytest.mark.parametrize(
    ("sentence", "words"),
    [
        ("let rain = log(month); girth = rain", "'rain' is a column"),
        ("let a = log(rain); girth = a; each a: intercept", "a unit is a column"),
        ("let a = split(rain, tree); girth = a", "one transformation"),
        ("let a = rain; let a = month; girth = a", "named twice"),
        ("let each = log(rain); girth = rain", "word of the sentence"),
        ("let a = log(girth); girth = a", "is the outcome"),
        ("girth = max(rain, 4)", "calc(max(rain, 4))"),
        ("girth = lag(log(rain), tree, month)", "name of a column"),
    ],
)
def test_lets_that_mean_nothing_are_told(sentence, words):
    with pytest.raises(OrchardError) as e:
        bo.fit(sentence, growth())
    assert words in str(e.value)


def test_time_within_a_unit_and_the_value_before():
    frame = growth()
    first = frame.groupby("tree")["month"].transform("min")
    ordered = frame.sort_values(["tree", "month"])
    before = ordered.groupby("tree")["rain"].shift().reindex(frame.index)
    ready = frame.assign(age=frame["month"] - first, before=before, first=first, last=frame.groupby("tree")["month"].transform("max"),
                         wet=np.maximum(frame["rain"], 45))  # fmt: skip
    for written, made in (("since(month, tree)", "age"), ("lag(rain, tree, month)", "before"), ("min(month, tree)", "first"),
                          ("max(month, tree)", "last"), ("calc(max(rain, 45))", "wet")):  # fmt: skip
        one = bo.fit(f"girth = {written}; each tree: intercept", frame)
        two = bo.fit(f"girth = {made}; each tree: intercept", ready)
        assert one.loglik == pytest.approx(two.loglik, abs=1e-8), written
        assert one.result["fixed"][1]["estimate"] == pytest.approx(two.result["fixed"][1]["estimate"], rel=1e-6)
    lagged = bo.fit("girth = lag(rain, tree, month); each tree: intercept", frame)
    assert lagged.result["rows"]["dropped"] == [{"column": "lag(rain, tree, month)", "rows": 20}]
    assert any("another distance in 1 row" in n for n in lagged.notes)  # the visit that was left out
    known = lagged.predict().to_frame()["predicted"]
    assert known.isna().sum() == 20
    frame.loc[3, "rain"] = np.nan  # a missing value is missing as the value before, too
    assert bo.fit("girth = lag(rain, tree, month); each tree: intercept", frame).result["rows"]["used"] == 137
    with pytest.raises(OrchardError, match="one row of each tree at a time"):
        bo.fit("girth = lag(rain, tree, month)", pd.concat([growth(), growth()]))


SLIPS = [
    ("y = rain; each orchard intercept", "y = rain; each orchard: intercept"),
    ("y = rain each orchard: intercept", "y = rain; each orchard: intercept"),
    ("y = rain + a:b; each orchard: intercept", "y = rain + a*b; each orchard: intercept"),
    ("y = rain^2; each g: intercept", "y = power(rain, 2); each g: intercept"),
    ("y ~ rain; each g: intercept", "y = rain; each g: intercept"),
    ("y = rain + (1 | g)", "y = rain; each g: intercept"),
    ("y = rain; every orchard: intercept", "y = rain; each orchard: intercept"),
    ("y = rain; each site*cultivar: intercept", "y = rain; each site in cultivar: intercept"),
    ("y = rain; each tree by orchard: intercept", "y = rain; each tree in orchard: intercept"),
    ("y = log(rain; each g: intercept", "y = log(rain); each g: intercept"),
    ("y = log(rain)); each g: intercept", "y = log(rain); each g: intercept"),
    ("y = rain; Each g: Intercept", "y = rain; each g: intercept"),
    ("y = rain, sun; each g: intercept", "y = rain + sun; each g: intercept"),
    ("y = 1; each g: 1 + rain", "y = intercept; each g: intercept + rain"),
    ("y = (rain + sun); each g: intercept", "y = rain + sun; each g: intercept"),
    ("y = rain; within tree ar1(week)", "y = rain; within tree: ar1(week)"),
    ("y = rain; spread: soil", "y = rain; spread = soil"),
    ("y = rain + ; each g: intercept", "y = rain; each g: intercept"),
    ("y ~ rain + a:b each orchard intercept", "y = rain + a*b; each orchard: intercept"),
]


@pytest.mark.parametrize(("slip", "meant"), SLIPS)
def test_slips_are_answered_with_the_sentence_that_was_meant(slip, meant):
    with pytest.raises(SentenceError) as e:
        read_sentence(slip)
    assert str(e.value).split("\n")[0].endswith(f"write: {meant}")
    read_sentence(meant)


def test_capital_letters_and_unneeded_baselines_are_no_errors(quick):
    growth().to_csv(quick.folder / "t.csv", index=False)
    done = quick(
        "fit",
        "t.csv",
        "girth = rain; each tree: intercept",
        "--method",
        "ML",
        "--df=Normal",
        "--baseline",
        "month=3",
        "--json",
    )
    assert done.code == 0 and done.json["method"] == "ML"
    assert any("baseline of month was not needed" in n for n in done.json["notes"])
    assert "did you mean 'intercept'" in quick("fit", "t.csv", "girth = intercpt").err


def test_the_whole_result_in_other_forms(quick):
    growth().to_csv(quick.folder / "t.csv", index=False)
    done = quick(
        "fit",
        "t.csv",
        "girth = rain; each tree: intercept",
        "--to",
        "a.html",
        "--to",
        "a.md",
        "--to",
        "a.txt",
        "--to",
        "a.csv",
        "--to",
        "a.json",
    )
    assert done.code == 0 and (quick.folder / "a.txt").read_text() == done.out
    estimate = pd.read_csv(quick.folder / "a.csv")["estimate"][0]
    for name in ("a.html", "a.md"):
        assert f"{estimate:.3g}" in (quick.folder / name).read_text()
    assert quick("fit", "t.csv", "girth = rain", "--to", "a.odt").code == 2
