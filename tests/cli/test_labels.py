"""Texts of columns and levels, from options and from a file beside the data, on every page and in no document."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.results.worded import Worded
from bold_orchard.wording import ColumnWords, Wording, parse_wording

TOML = """
[rain]
label = "Rain (mm)"
[graft]
label = "Graft"
levels = {0 = "own roots", 1 = "grafted"}
order = ["1", "0"]
[dose]
order = ["low", "medium", "high"]
[elsewhere]
label = "of another table"
"""
SENTENCE = "yield = rain + category(graft) * dose + category(graft) + dose; each orchard: intercept"


@pytest.fixture
def trial(tmp_path):
    r = np.random.default_rng(1)
    o = np.repeat(np.arange(12), 10)
    frame = pd.DataFrame(
        {"orchard": [f"o{i}" for i in o], "rain": r.normal(80, 10, 120).round(1), "graft": r.integers(0, 2, 120)}
    )
    frame["dose"] = r.choice(["low", "medium", "high"], 120)
    frame["yield"] = (
        30 + 0.2 * frame["rain"] + 3 * frame["graft"] + r.normal(0, 2, 12)[o] + r.normal(0, 3, 120)
    ).round(2)
    frame.to_csv(tmp_path / "trial.csv", index=False)
    (tmp_path / "trial.labels.toml").write_text(TOML)
    return frame


def test_a_file_beside_the_data_is_found_and_kept(trial, quick):
    made = quick("fit", "trial.csv", SENTENCE, "--save", "f")
    assert "Rain (mm)" in made.out
    assert "Graft: own roots vs" in " ".join(made.out.split())
    assert "category(graft)" not in made.out.split("Average effects")[1]
    document = quick("show", "f", "--json").json
    assert document["labels"]["graft"] == {
        "label": "Graft",
        "levels": {"0": "own roots", "1": "grafted"},
        "order": ["1", "0"],
    }
    assert {"rain", "category(graft)[0]", "dose[medium]", "dose[high]"} <= {r["term"] for r in document["fixed"]}
    assert document["intercept_at"] == ["rain = 0", "category(graft) = 1", "dose = low"]
    for words in (
        ("terms", "f"),
        ("means", "f"),
        ("explain", "f"),
        ("table", "f"),
        ("equations", "f"),
        ("scout", "trial.csv"),
        ("intervals", "f", "--method", "wald"),
    ):
        page = quick(*words).out
        assert "Rain (mm)" in page, words
        assert "Graft" in page, words
    means = quick("means", "f", "category(graft)", "--differences")
    assert "own roots vs grafted" in means.out
    raw = quick("means", "f", "category(graft)", "--json").json
    assert [m["levels"] for m in raw["means"]] == [{"category(graft)": "1"}, {"category(graft)": "0"}]
    assert quick("draw", "f", "--kind", "effects", "--figure", "e.png").code == 0


def test_options_stand_above_the_file_and_go_into_a_plan(trial, orchard, tmp_path):
    made = orchard(
        "fit",
        "trial.csv",
        "yield = rain + category(graft); each orchard: intercept",
        "--label",
        "rain=Regen",
        "--label",
        "graft:1=Klon",
        "--save",
        "g",
    )
    assert "Regen" in made.out
    assert "Rain (mm)" not in made.out
    assert "own roots vs Klon" in " ".join(made.out.split())
    assert orchard("plan", "g", "--to", "p.toml").code == 0
    assert "graft:1=Klon" in (tmp_path / "p.toml").read_text()
    page = orchard("table", "g", "--label", "graft:0=wild", "--label", "rain=Niederschlag").out
    assert "wild vs Klon" in " ".join(page.split())
    assert "Niederschlag" in page
    again = orchard("fit", "--from", "g", "--drop", "rain", "--save", "h").out
    assert "own roots vs Klon" in " ".join(again.split())
    bad = orchard("fit", "trial.csv", "yield = rain", "--label", "rian=Rain")
    assert (bad.code, "did you mean 'rain'" in bad.err) == (3, True)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[rain\n", "is not TOML"),
        ("[rain]\nlabel = 3\n", "wrong kind"),
        ("[rain]\nlevels = {a = 1}\n", "level without a text"),
        ("[rain]\ncolour = 'red'\n", "holds a label"),
    ],
)
def test_a_file_that_cannot_be_read_is_named(trial, orchard, tmp_path, text, words):
    (tmp_path / "own.toml").write_text(text)
    made = orchard("fit", "trial.csv", "yield = rain", "--labels", "own.toml")
    assert made.code == 3
    assert words in made.err
    assert "own.toml" in made.err


def test_labels_change_no_number(trial):
    labels = {"rain": "Rain", "graft": {"levels": {"0": "a", "1": "b"}}}
    plain, worded = (bo.fit(SENTENCE, trial, labels=given) for given in (None, labels))
    one, two = plain.to_dict(), worded.to_dict()
    assert two.pop("labels") == {"rain": {"label": "Rain"}, "graft": {"levels": {"0": "a", "1": "b"}}}
    assert json.dumps(one) == json.dumps(two)
    with pytest.raises(OrchardError, match="labels"):
        bo.fit(SENTENCE, trial, labels={"rain": {"color": "red"}})


def test_terms_are_put_into_words_wherever_they_are_written():
    w = Worded(
        Wording(
            {
                "graft": ColumnWords("Graft", {"0": "own", "1": "grafted"}),
                "rain": ColumnWords("Rain (mm)"),
                "in": ColumnWords("IN"),
            }
        )
    )
    assert w.term("category(graft)[1]") == "Graft: grafted"
    assert w.term("rain*graft[1]") == "Rain (mm)*Graft: grafted"
    assert w.term("zeros: graft: 1 vs 0") == "zeros: Graft: grafted vs own"
    assert w.term("category(graft): 1 * dose: high vs low") == "Graft: grafted * dose: high vs low"
    assert w.term("centre(rain, orchard)") == "centre(Rain (mm), orchard)"
    assert w.term("rainfall") == "rainfall"
    assert w.term("sd(orchard: rain)") == "sd(orchard: Rain (mm))"
    assert w.joined("1, high", ["graft", "dose"]) == "grafted, high"


def test_options_are_read():
    made = parse_wording(["rain=Rain (mm)", "graft : 0 = own roots", "a:b=Ratio"], ["a:b"])
    assert made.texts == {"rain": "Rain (mm)", "a:b": "Ratio"}
    assert made.level("graft", "0") == "own roots"
    for text in ("rain", "=x", "rain="):
        with pytest.raises(UsageError):
            parse_wording([text])
