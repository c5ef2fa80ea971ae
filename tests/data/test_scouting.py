"""What scout sees: counters that start again one and two units deep, codes, outcomes and shares."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard import api


def trees(seed=1, plots=4, missing=0):
    """Trees 1, 2, ... in plots 1, 2, ... of eight orchards over three years; soil and pruning belong to the tree."""
    r, rows = np.random.default_rng(seed), []
    for o in range(8):
        for p in range(1, plots + 1):
            for t in range(1, 7):
                level, soil = r.normal(), r.choice(["clay", "sand"])
                rows += [(f"o{o}", p, t, 2020 + s, soil, 20 + o / 4 + level + r.normal()) for s in range(3)]
    frame = pd.DataFrame(rows, columns=["orchard", "plot", "tree", "year", "soil", "yield"])
    frame.loc[frame.sample(missing, random_state=1).index, "yield"] = -999
    return frame


def test_labels_that_start_again_two_units_deep():
    found = api.scout(trees())
    repeats = {(n["unit"], n["parent"]) for n in found["nesting"] if n["relation"] == "labels repeat"}
    assert repeats == {("plot", "orchard"), ("tree", "plot in orchard")}
    assert any("each tree in plot in orchard" in n for n in found["notes"])
    assert {s["unit"] for s in found["shares"]} >= {"orchard", "plot in orchard", "tree in plot in orchard"}
    flat = trees().assign(plot=lambda d: d["orchard"] + "-" + d["plot"].astype(str))
    repeats = {(n["unit"], n["parent"]) for n in api.scout(flat)["nesting"] if n["relation"] == "labels repeat"}
    assert repeats == {("tree", "plot")}


@pytest.mark.parametrize(("rename", "below"), [
    ({}, "each plot in orchard: intercept; each tree in plot in orchard: intercept"),
    ({"plot"}, "each plot: intercept; each tree in plot: intercept"),
    ({"plot", "tree"}, "each plot: intercept; each tree: intercept"),
])  # fmt: skip
def test_a_sentence_to_start_from_has_every_unit_inside_another(rename, below):
    frame = trees()
    frame["plot"] = frame["orchard"] + "-" + frame["plot"].astype(str) if "plot" in rename else frame["plot"]
    frame["tree"] = frame["plot"] + "-" + frame["tree"].astype(str) if "tree" in rename else frame["tree"]
    sentences = api.scout(frame)["sentences"]
    assert sentences[1] == f"yield = intercept; each orchard: intercept; {below}"
    assert all(api.fit(s, frame).result.convergence.converged for s in sentences)


def test_shares_are_those_of_empty_models():
    frame = trees()
    for s in api.scout(frame)["shares"]:
        d = api.fit(f"yield = intercept; each {s['unit']}: intercept", frame, force=True).result
        between = d.random[0].covariance[0][0]
        assert s["share"] == pytest.approx(between / (between + d.residual.variance), rel=1e-6)


def test_codes_colour_no_figure_and_no_suggestion():
    clean, coded = api.scout(trees()), api.scout(trees(missing=9))
    column = next(c for c in coded["columns"] if c["column"] == "yield")
    assert column["suspected_missing_codes"] == [-999] and column["min"] > 0 and column["missing"] == 0
    assert clean["sentences"] == coded["sentences"] and clean["outcomes"] == coded["outcomes"]


def test_a_unit_may_be_named_with_its_parents():
    found = api.scout(trees(), unit="tree in plot in orchard")
    within = {c["column"]: c["levels_within"]["tree in plot in orchard"] for c in found["columns"]}
    assert within == {"orchard": "constant", "plot": "constant", "tree": "constant", "year": "varies",
                      "soil": "constant", "yield": "varies"}  # fmt: skip
    assert found.figure().axes


def test_plausible_outcomes_with_their_family():
    r = np.random.default_rng(2)
    n = 400
    frame = pd.DataFrame({
        "orchard": [f"o{i}" for i in np.repeat(np.arange(20), 20)], "week": np.tile(np.arange(20), 20), "size": r.normal(50, 5, n),
        "moths": r.poisson(3, n), "mites": r.negative_binomial(1, 0.2, n), "share": r.beta(2, 3, n), "dew": r.gamma(0.5, 2, n) + 0.01,
        "ripe": r.choice(["no", "yes"], n), "hit": r.integers(0, 2, n), "damage": r.choice(["none", "slight", "severe"], n),
        "height": np.repeat(r.normal(size=20), 20),
    })  # fmt: skip
    found = api.scout(frame)
    assert {o["column"]: o["family"] for o in found["outcomes"]} == {
        "size": "gaussian", "moths": "poisson", "mites": "negative-binomial", "share": "beta", "dew": "gamma", "ripe": "binomial",
        "hit": "binomial", "damage": "ordinal",
    }  # fmt: skip
    assert found["times"] == ["week"]


def test_a_measurement_alone_tells_labels_that_restart_two_deep():
    r = np.random.default_rng(9)
    rows = []
    for region in ("north", "south", "west"):
        for orchard in range(1, 5):
            o = r.normal(0, 2)
            for tree in range(1, 6):
                t = r.normal(0, 1)
                rows += [(region, orchard, tree, b, r.integers(1, 4), 30 + o + t + r.normal()) for b in range(1, 4)]
    frame = pd.DataFrame(rows, columns=["region", "orchard", "tree", "branch", "picker", "yield"])
    repeats = {(n["unit"], n["parent"]) for n in api.scout(frame)["nesting"] if n["relation"] == "labels repeat"}
    assert repeats == {("orchard", "region"), ("tree", "orchard in region")}
    crossed = frame.assign(**{"yield": r.normal(30, 1, len(frame)) + frame.orchard + frame.tree})
    assert not any(n["relation"] == "labels repeat" for n in api.scout(crossed)["nesting"])


def test_a_treatment_that_is_a_number_is_no_restarting_label():
    r = np.random.default_rng(4)
    frame = pd.DataFrame(
        [(o, t, s) for o in range(12) for t in range(3) for s in range(8)], columns=["orchard", "dose", "tree"]
    )
    frame["dose"] += 1
    frame["girth"] = r.normal(size=12)[frame.orchard] + 0.8 * frame.dose + r.normal(0, 0.5, len(frame))
    assert not any(n["relation"] == "labels repeat" and n["unit"] == "dose" for n in api.scout(frame)["nesting"])
