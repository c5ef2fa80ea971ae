"""A residual spread of each unit's own, and SDs that vary with columns, through every command."""

from __future__ import annotations

import json

import numpy as np
import pytest

from builders import diaries

SPREAD = "yield = rain + soil; each tree: intercept + spread; spread = soil"
VARY = "yield = rain; each tree (vary with soil): intercept"


@pytest.fixture
def trees(quick):
    diaries(units=40, rows=10, tau=0.5, r=-0.7).to_csv(quick.folder / "d.csv", index=False)
    assert quick("fit", "d.csv", SPREAD, "--save", "s").code == 0
    assert quick("fit", "d.csv", "yield = rain + soil; each tree: intercept; spread = soil", "--save", "s0").code == 0
    assert quick("fit", "d.csv", VARY, "--save", "v").code == 0
    assert quick("fit", "d.csv", "yield = rain; each tree: intercept", "--save", "v0").code == 0
    return quick


def test_document_of_a_spread(trees):
    d = trees("show", "s", "--json").json
    assert d["method"] == "ML" and d["df_method"] == "normal" and d["points"] == 31
    (part,) = d["random"]
    assert part["terms"] == ["intercept", "spread"] and len(part["covariance"]) == 2
    assert (
        d["fit"]["n_parameters"] == 3 + 3 + 1 + 1 and d["residual"]["parameters"]["spread"][0]["term"] == "soil[sand]"
    )
    page = trees("show", "s").out
    assert "scatter less" in page and "maximum likelihood" in page


@pytest.mark.few(4)
@pytest.mark.parametrize("name", ["s", "v"])
@pytest.mark.parametrize("command", ["components", "groups", "check", "intervals --method wald", "terms", "means soil", "predict --new-observation",
                                     "equations --estimates", "table", "draw --figure d.png", "simulate --draws 1 --to o.csv", "show"])  # fmt: skip
def test_every_command_serves_them(trees, name, command):
    word, *rest = command.split()
    if word == "means" and name == "v":
        pytest.skip("no category in its fixed part")
    done = trees(word, name, *rest, "--json")
    assert done.code == 0 and done.json["schema"].startswith("bold-orchard/"), done.err


def test_each_unit_has_its_own_residual_sd(trees):
    (part,) = trees("groups", "s", "--json").json["groups"]
    row = part["rows"][0]
    assert row["residual_sd"] == pytest.approx(np.exp(row["coefficients"]["spread"]))
    low, high = row["residual_sd_ci"]
    assert low < row["residual_sd"] < high
    assert row["residual_sd"] / low == pytest.approx(np.exp(1.959964 * row["se"]["spread"]), rel=1e-5)


def test_new_observations_differ_by_unit(trees):
    rows = trees("predict", "s", "--new-observation", "--json").json["rows"]
    sds = {r["level"]: r["residual_sd"] for r in trees("groups", "s", "--json").json["groups"][0]["rows"]}
    wide, narrow = max(sds, key=sds.get), min(sds, key=sds.get)
    width = {t: np.mean([r["high"] - r["low"] for r in rows if r["tree"] == t]) for t in (wide, narrow)}
    assert width[wide] > 1.5 * width[narrow]


def test_compare_tells_the_boundary(trees):
    (test,) = trees("compare", "s0", "s", "--json").json["tests"]
    assert test["nested"] and test["df"] == 2 and test["p_boundary"] < test["p"] < 0.001
    (test,) = trees("compare", "v", "v0", "--json").json["tests"]
    assert test["nested"] and test["df"] == 1 and test["p_boundary"] is None and test["smaller"] == "v0"


@pytest.mark.slow
def test_check_proposes_the_sentence(trees):
    d = trees("check", "s0", "--json").json
    found = next(f for f in d["findings"] if f["check"] == "spread across units" and f["speaks"])
    assert SPREAD in found["advice"]
    assert trees("fit", "d.csv", SPREAD).code == 0
    own = trees("check", "s", "--json").json
    assert not any(f["speaks"] for f in own["findings"] if f["check"] == "spread across units")


@pytest.mark.slow
def test_check_proposes_it_below_another_unit_and_every_command_takes_it(quick):
    frame = diaries(units=40, rows=10, tau=0.5, r=-0.7)
    frame.to_csv(quick.folder / "d.csv", index=False)
    nested = "each orchard: intercept; each tree in orchard: intercept"
    assert quick("fit", "d.csv", f"yield = rain; {nested}", "--method", "ml", "--save", "n0").code in (0, 4)
    found = [f for f in quick("check", "n0", "--json").json["findings"] if f["check"] == "spread across units"]
    assert any(f["speaks"] and f"yield = rain; {nested} + spread" in f["advice"] for f in found)
    tested, page = quick("check", "n0", "--json").json["spreads"], quick("check", "n0").out
    assert [t["unit"] for t in tested] == ["orchard", "tree in orchard"] and tested[1]["p"] < 0.001 < tested[0]["p"]
    assert "spread by orchard (" in page and "spread by tree in orchard (" in page
    assert quick("fit", "d.csv", f"yield = rain; {nested} + spread", "--save", "n").code in (0, 4)
    (test,) = quick("compare", "n0", "n", "--json").json["tests"]
    assert test["nested"] and test["p"] < 0.001
    groups = quick("groups", "n", "--json").json["groups"]
    assert [g["terms"] for g in groups] == [["intercept"], ["intercept", "spread"]]
    assert all("residual_sd" in r for r in groups[1]["rows"]) and not any("residual_sd" in r for r in groups[0]["rows"])
    parts = {(r["group"], r["term"]): r["estimate"] for r in quick("components", "n", "--json").json["components"]}
    assert parts["tree in orchard", "spread"] > 0.1 and ("orchard", "intercept") in parts
    known = quick("predict", "n", "--new-observation", "--json").json["rows"]
    assert len(known) == 400 and len({round(r["high"] - r["low"], 6) for r in known}) > 40
    for command in (
        "check",
        "terms",
        "equations",
        "table",
        "intervals --method wald",
        "simulate --to drawn.csv",
        "show",
    ):
        name, *rest = command.split()
        assert quick(name, "n", *rest).code == 0, command
    again, saved = quick("show", "n", "--json").json, json.loads((quick.folder / "n.fit.json").read_text())
    assert again["fit"]["loglik"] == pytest.approx(saved["fit"]["loglik"], abs=1e-8)


def test_vary_in_the_document(trees):
    d = trees("show", "v", "--json").json
    (row,) = d["random"][0]["vary"]
    assert row["term"] == "soil[sand]" and row["se"] > 0
    made = {r["parameter"]: r for r in trees("intervals", "v", "--json").json["parameters"]}["vary(tree: soil[sand])"]
    assert made["estimate"] == pytest.approx(row["estimate"]) and made["low"] < row["estimate"] < made["high"]
    rows = trees("components", "v", "--json").json["components"]
    assert next(r for r in rows if r["term"] == "vary soil[sand]")["kind"] == "parameter"


def test_a_saved_fit_is_the_same_when_opened_again(trees):
    for name in ("s", "v"):
        saved = json.loads((trees.folder / f"{name}.fit.json").read_text())
        again = trees("components", name, "--json").json
        one = next(r for r in again["components"] if r["term"] == "intercept" and r["kind"] == "variance")
        assert one["estimate"] == pytest.approx(saved["random"][0]["covariance"][0][0], rel=1e-9)


def test_spread_is_carried_to_a_second_model(trees):
    frame = diaries(units=40, rows=10, tau=0.5, r=-0.7).drop_duplicates("tree")
    frame.assign(sugar=np.arange(40) % 7).to_csv(trees.folder / "second.csv", index=False)
    done = trees("carry", "s", "second.csv", "sugar = effect(tree: spread)", "--imputations", "5", "--json")
    assert done.code == 0 and done.json["carried"][0]["effect"] == "effect(tree: spread)"


@pytest.mark.few(5)
@pytest.mark.parametrize("sentence, options, said, offer", [
    ("ripe = rain; each tree: intercept + spread", ["--family", "binomial"], "no residual", "ripe = rain; each tree: intercept"),
    ("yield = rain; each tree: intercept + spread; within tree: ar1(season)", [], "within", "yield = rain; each tree: intercept + spread"),
    ("yield = rain; each tree: intercept + spread; each season: intercept", [], "inside one season", "yield = rain; each tree: intercept + spread"),
    ("yield = rain; each soil: intercept; each orchard: intercept; each tree: intercept + spread", [], "soil and orchard are 2",
     "yield = rain; each soil: intercept; each tree: intercept + spread"),
    ("yield = rain; each orchard: intercept + rain + w + age; each tree: spread", [], "3 effects at most",
     "yield = rain; each orchard: intercept; each tree: spread"),
    ("yield = rain; each orchard: intercept + spread; each tree in orchard: intercept", [], "not every orchard",
     "yield = rain; each orchard: intercept + spread"),
    ("yield = rain; each tree: intercept; each tree in orchard: spread", [], "the same levels", "yield = rain; each tree in orchard: spread"),
    ("yield = rain; each orchard: spread; each tree: spread", [], "one unit only", "yield = rain; each orchard: spread"),
    ("yield = rain; each tree (identity): intercept + spread", [], "another scale", None),
    ("yield = rain; each tree (vary with rain): intercept", [], "changes inside", "yield = rain; each tree: intercept"),
    ("yield = rain; each tree (vary with far): intercept", [], "centre(far)", None),
    ("yield = rain; each tree (vary with soil): intercept + spread", [], "does not go with", "yield = rain; each tree (vary with soil): intercept"),
    ("ripe = rain; each tree (vary with soil): intercept", ["--family", "binomial"], "gaussian", "ripe = rain; each tree: intercept"),
    ("yield = rain; each tree: spread; spread = spread", [], "no column 'spread'", None),
])  # fmt: skip
def test_what_cannot_be_is_one_line_with_a_sentence(quick, sentence, options, said, offer):
    frame = diaries().assign(ripe=lambda f: (f["yield"] > 9).astype(int), far=lambda f: f["age"] + 10_000)
    frame.to_csv(quick.folder / "d.csv", index=False)
    done = quick("fit", "d.csv", sentence, *options)
    assert done.code in (2, 3) and said in done.err and "Traceback" not in done.err
    if offer is not None:
        assert offer in done.err
        assert quick("fit", "d.csv", offer, *options).code in (0, 4)


def test_units_of_one_row_tell_no_spread(quick):
    frame = diaries(rows=1)
    frame.to_csv(quick.folder / "d.csv", index=False)
    done = quick("fit", "d.csv", "yield = rain; each tree: spread", "--weights", "w")
    assert done.code == 3 and "one row" in done.err


def test_an_effect_that_the_first_fit_lacks(trees):
    (trees.folder / "second.csv").write_text("tree,sugar\nt1,3\nt2,4\n")
    done = trees("carry", "v0", "second.csv", "sugar = effect(tree: spread)")
    assert done.code == 3 and "no spread of its own" in done.err
