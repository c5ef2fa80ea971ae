"""A fit built on a saved one, and the fit that is meant where none is named."""

from __future__ import annotations

import json
import os

import pytest

import bold_orchard as bo
from builders import make_trees, trial


@pytest.fixture
def folder(quick):
    trial(trees=30).to_csv(quick.folder / "t.csv", index=False)
    done = quick("fit", "t.csv", "let wet = centre(rain); yield = wet + soil; each orchard: intercept", "--method", "ml", "--baseline",
                 "soil=loam", "--missing", "week=9", "--where", "week > 0", "--save", "first")  # fmt: skip
    assert done.code == 0, done.err
    return quick


def test_terms_are_added_and_dropped_and_options_kept(folder):
    d = folder(
        "fit",
        "--from",
        "first",
        "--add",
        "wet*soil",
        "--each",
        "tree in orchard: intercept",
        "--save",
        "second",
        "--json",
    ).json
    assert (
        d["model"]
        == "let wet = centre(rain); yield = wet + soil + wet*soil; each orchard: intercept; each tree in orchard: intercept"
    )
    assert d["method"] == "ML" and [r["term"] for r in d["fixed"]][2:4] == ["soil[clay]", "soil[sand]"]
    whole = folder("fit", "t.csv", d["model"], "--method", "ml", "--baseline", "soil=loam", "--missing", "week=9", "--where", "week > 0",
                   "--save", "second", "--json")  # fmt: skip
    assert whole.json == d
    less = folder("fit", "--from", "second", "--drop", "wet*soil + soil", "--without-each", "tree in orchard", "--method", "reml",
                  "--baseline", "soil=sand", "--json").json  # fmt: skip
    assert less["model"] == "let wet = centre(rain); yield = wet; each orchard: intercept" and less["method"] == "REML"


def test_a_clause_of_a_unit_takes_the_place_of_its_own(folder):
    d = folder("fit", "--from", "first", "--each", "orchard (diagonal): intercept + wet", "--json").json
    assert d["model"].endswith("each orchard (diagonal): intercept + wet")
    assert len(d["random"]) == 1


def test_another_outcome_and_other_rows(folder):
    make_trees(rows=90).assign(soil="clay", week=1).rename(columns={"yield": "sugar"}).to_csv(
        folder.folder / "o.csv", index=False
    )
    os.remove(folder.folder / "t.csv")  # other rows are named, so the old ones are not asked for
    d = folder("fit", "--from", "first", "o.csv", "--outcome", "sugar", "--drop", "soil", "--json").json
    assert d["outcome"] == "sugar" and d["rows"]["used"] == 90


@pytest.mark.parametrize(("words", "said"), [
    (("--from", "first", "--drop", "soils"), "no term 'soils'"), (("--from", "first", "--drop", "soils"), "did you mean 'soil'"),
    (("--from", "first", "--add", "soil"), "stands in the sentence already"), (("--from", "first", "--without-each", "orchards"), "did you mean 'orchard'"),
    (("--from", "fist"), "did you mean 'first'"), (("--from", "first", "--outcome", "rain"), "is the outcome"),
    (("--from", "first", "t.csv", "yield = rain"), "leave SENTENCE out"), (("--add", "soil"), "name it with --from"),
    (("--from", "first", "--drop", "intercept"), "intercept is not dropped"), (("t.csv",), "needs DATA and SENTENCE"),
])  # fmt: skip
def test_edits_that_cannot_be_made(folder, words, said):
    done = folder("fit", *words)
    assert done.code in (2, 3) and said in done.err and done.err.count("\n") <= 3 and not done.out


def test_rows_from_standard_input_are_kept(folder):
    bo.fit("yield = rain; each orchard: intercept", trial(trees=30)).save(
        str(folder.folder / "piped")
    )  # holds its rows
    d = folder("fit", "--from", "piped", "--add", "soil", "--save", "again", "--json").json
    assert d["model"] == "yield = rain + soil; each orchard: intercept"
    assert folder("check", "again", "--json").json["name"] == "again"


def test_the_fit_saved_last_is_meant(folder):
    folder("fit", "--from", "first", "--drop", "soil", "--save", "later")
    done = folder("components", "--json")
    assert done.json["name"] == "later" and "later.fit.json" in done.err
    os.utime(folder.folder / "first.fit.json")
    assert json.loads(folder("means", "soil", "--json").out)["name"] == "first"
    assert folder("means", "first", "soil", "--json").err == ""
    assert folder("components", "--json", "--quiet").err == ""
    assert folder("draw", "--json").json["names"] == ["first"]
    assert "first.fit.json" in folder("sample", "--prior-only", "--draws", "20", "--chains", "1").err


def test_nothing_is_meant_where_nothing_is_saved(quick):
    done = quick("components")
    assert done.code == 2 and "no fit is saved in this folder yet" in done.err


def test_the_same_from_python():
    frame = trial(trees=30)
    one = bo.fit("yield = rain; each orchard: intercept", frame, method="ml", baseline={"soil": "loam"})
    two = bo.refit(one, add="soil", each="orchard: intercept + rain")
    assert two.result.model == "yield = rain + soil; each orchard: intercept + rain"
    assert two.result.method == "ML" and [r.term for r in two.result.fixed][2:] == ["soil[clay]", "soil[sand]"]
    back = bo.refit(two, drop="soil", each="orchard: intercept")
    assert back.loglik == pytest.approx(one.loglik, abs=1e-9)
