"""Fits of crossings without a dense factor: the same answers as with one, and words for what signs leave open."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.crossproducts import assemble
from bold_orchard.data import pieces
from bold_orchard.errors import OrchardError
from bold_orchard.estimation import gaussian_search
from bold_orchard.estimation.wide_search import search_wide
from bold_orchard.inference.comparison import boundary_law
from bold_orchard.inference.variances import identified
from crossings import SENTENCES, crossed


@pytest.fixture
def wide(monkeypatch):
    """``wide(f)``: f() with every crossing counted as too large for a dense factor."""

    def called(f):
        with monkeypatch.context() as m:
            m.setattr(gaussian_search, "MOST_CROSSED", 10)
            m.setattr(gaussian_search, "MOST_CROSSED_CORRELATED", 10)
            m.setattr(assemble, "DENSE_TAIL", 1)
            m.setattr(identified, "MOST_EFFECTS", 10)
            m.setattr(boundary_law, "MOST_EFFECTS", 10)
            return f()

    return called


def near(one, two, share=0.02):
    """Two fits agree within what is told of the second's Monte-Carlo error, or ``share`` of a standard error."""
    a, b = one.to_dict(), two.to_dict()
    error = b["monte_carlo"]
    assert abs(a["fit"]["loglik"] - b["fit"]["loglik"]) < 5 * error["loglik"] + 1e-3
    for x, y in zip(a["fixed"], b["fixed"]):
        assert abs(x["estimate"] - y["estimate"]) < share * x["se"] and y["se"] == pytest.approx(x["se"], rel=share)
        assert y["df"] == pytest.approx(x["df"], rel=0.2)
    rows = zip(one.components().to_dict()["components"], two.components().to_dict()["components"])
    for x, y in rows:
        if x["se"]:
            assert abs(x["estimate"] - y["estimate"]) < (share + 5 * error["share_of_se"]) * x["se"]
            assert y["se"] == pytest.approx(x["se"], rel=0.1)


@pytest.mark.few(1)
@pytest.mark.parametrize("name", SENTENCES)
def test_fits_agree_with_those_of_a_dense_factor(wide, name):
    frame = crossed(4000, 300, 80, seed=8)
    one = bo.fit(SENTENCES[name], frame)
    two = wide(lambda: bo.fit(SENTENCES[name], frame))
    assert two.converged and "monte_carlo" not in one.to_dict()
    near(one, two)
    assert any("random signs" in n for n in two.to_dict()["notes"])


def test_a_variance_of_zero_is_found_from_inside_and_left_where_it_is_none(wide):
    frame = crossed(3000, 300, 60, seed=2, between=0.0)
    sentence = "yield = rain; each tree: intercept; each picker: intercept; each season: intercept"
    one = bo.fit("yield = rain; each tree: intercept; each picker: intercept; each season: intercept", frame)
    two = wide(lambda: bo.fit(sentence, frame))
    assert one.to_dict()["convergence"]["boundary_terms"] == two.to_dict()["convergence"]["boundary_terms"]
    assert [w.split(". Try")[0] for w in one.to_dict()["warnings"]] == [
        w.split(". Try")[0] for w in two.to_dict()["warnings"]
    ]
    criterion = two.core.model.criterion
    start = criterion.start()
    start[:] = 0.0  # every slope in T is zero there, and no end of the search
    found = search_wide(criterion, start, two.core.model.options)
    assert found.converged and found.point.theta == pytest.approx(two.core.model.evaluation.theta, abs=2e-3)


def test_no_answer_depends_on_the_order_of_rows_names_of_levels_or_scales(wide):
    frame = crossed(4000, 300, 80, seed=3)
    sentence = "yield = rain; each tree: intercept + rain; each picker: intercept"
    first = wide(lambda: bo.fit(sentence, frame)).to_dict()
    r = np.random.default_rng(1)
    names = r.permutation(300)
    moved = frame.sample(frac=1.0, random_state=4).assign(
        tree=lambda d: [f"t{names[t]}" for t in d["tree"]],
        rain=lambda d: 100 + 7 * d["rain"],
        **{"yield": lambda d: 50 * d["yield"]},
    )
    second = wide(lambda: bo.fit(sentence, moved)).to_dict()
    error = first["monte_carlo"]["loglik"] + second["monte_carlo"]["loglik"]
    n = first["rows"]["used"] - 2
    shifted = second["fit"]["loglik"] + n * np.log(50) + np.log(7)
    assert shifted == pytest.approx(first["fit"]["loglik"], abs=5 * error + 1e-3)
    assert second["fixed"][1]["estimate"] == pytest.approx(first["fixed"][1]["estimate"] * 50 / 7, rel=1e-4)
    assert second["random"][1]["sd"][0] == pytest.approx(50 * first["random"][1]["sd"][0], rel=1e-3)
    assert second["random"][0]["sd"][1] == pytest.approx(50 / 7 * first["random"][0]["sd"][1], rel=1e-2)


def test_weights_pieces_and_repeated_rows(wide, tmp_path, monkeypatch):
    """A row of weight 3 in sums is three rows."""
    frame = crossed(2000, 200, 60, seed=5)
    sentence = "yield = rain; each tree: intercept; each picker: intercept"
    monkeypatch.setattr(pieces, "LEAST", 1)
    three = pd.concat([frame] * 3)
    path = str(tmp_path / "rows.parquet")
    three.to_parquet(path)
    one = wide(lambda: bo.fit(sentence, path))
    two = wide(lambda: bo.fit(sentence, path, memory=20))
    assert two.to_dict()["reading"]["engine"] == "pieces"
    assert one.to_dict()["fit"]["loglik"] == pytest.approx(two.to_dict()["fit"]["loglik"], abs=1e-5)
    weighted = frame.assign(area=np.linspace(0.5, 2.0, len(frame)))
    near(bo.fit(sentence, weighted, weights="area"), wide(lambda: bo.fit(sentence, weighted, weights="area")))


def test_what_needs_a_factor_says_so(wide, tmp_path):
    frame = crossed(2000, 200, 60, seed=5)
    sentence = "yield = rain; each tree: intercept; each picker: intercept"
    made = wide(lambda: bo.fit(sentence, frame))
    for ask, words in (
        (lambda: made.intervals("profile"), "--method wald"),
        (lambda: made.components("profile"), "--method wald"),
        (made.sample, "posterior would hardly differ"),
        (lambda: wide(lambda: bo.fit(sentence + "; spread = soil", frame)), "within or spread"),
        (lambda: wide(lambda: bo.fit("yield = rain; each tree (vary with soil): intercept; each picker: intercept", frame)), "vary with"),
    ):  # fmt: skip
        with pytest.raises(OrchardError, match=words):
            ask()
    compared = wide(lambda: bo.compare(made, bo.fit(sentence.replace("rain", "rain + soil"), frame))).to_dict()
    assert any("Monte-Carlo error" in n for n in compared["notes"])
    with pytest.raises(OrchardError, match="too many beside"):
        kin = pd.DataFrame(np.eye(60), columns=range(60))
        kin.to_csv(tmp_path / "kin.csv")
        wide(
            lambda: bo.fit(
                f'yield = rain; each tree: intercept; each picker (known "{tmp_path}/kin.csv"): intercept', frame
            )
        )


def counted(monkeypatch):
    """Every evaluation of the exact criterion, as it happens."""
    looked = []
    at = gaussian_search.Criterion.at
    monkeypatch.setattr(gaussian_search.Criterion, "at", lambda c, p, near=None: looked.append(p) or at(c, p, near))
    return looked


@pytest.mark.few(3)
@pytest.mark.parametrize("method", ["reml", "ml"])
@pytest.mark.parametrize("name", SENTENCES)
def test_a_start_by_signs_changes_the_way_and_not_the_end(monkeypatch, name, method):
    frame = crossed(3000, 300, 80, seed=9)
    frame["rain"] = 40.0 + 25.0 * frame["rain"]  # another scale than the working one
    looked = counted(monkeypatch)
    one = bo.fit(SENTENCES[name], frame, method=method)
    usual = len(looked)
    monkeypatch.setattr(gaussian_search, "DEAR", 10)
    two = bo.fit(SENTENCES[name], frame, method=method)
    a, b = one.to_dict(), two.to_dict()
    assert b["fit"]["loglik"] == pytest.approx(a["fit"]["loglik"], abs=1e-7) and "monte_carlo" not in b
    sds = [[s for part in d["random"] for s in part["sd"]] for d in (a, b)]
    assert sds[1] == pytest.approx(sds[0], rel=1e-4, abs=1e-3)
    assert name == "nested and crossed" or len(looked) - usual < usual


def test_a_start_by_signs_leaves_a_variance_at_zero_there(monkeypatch):
    frame = crossed(3000, 300, 80, seed=10, between=0.0)
    frame["yield"] -= frame.groupby("picker")["yield"].transform("mean")
    monkeypatch.setattr(gaussian_search, "DEAR", 10)
    made = bo.fit("yield = rain; each tree: intercept; each picker: intercept", frame).to_dict()
    assert made["convergence"]["converged"] and made["random"][1]["sd"] == [0.0]


@pytest.mark.parametrize(
    "clause", ["each tree (vary with wet): intercept", "each tree: intercept; within tree: ar1(rain)"]
)
def test_beside_what_no_signs_are_made_for_the_start_is_the_usual_one(monkeypatch, clause):
    frame = crossed(400, 40, 15, seed=11)
    frame["wet"] = frame.groupby("tree")["rain"].transform("mean")
    sentence = f"yield = rain; {clause}; each picker: intercept"
    one = bo.fit(sentence, frame).to_dict()
    monkeypatch.setattr(gaussian_search, "DEAR", 10)
    assert bo.fit(sentence, frame).to_dict()["random"] == one["random"]


UNTOLD = {
    "several rows a tree": ("yield = rain; each tree: intercept; each picker: intercept", True),
    "slopes": ("yield = rain; each tree: intercept + rain; each picker: intercept", True),
    "twins": ("yield = rain; each tree: intercept; each twin: intercept; each picker: intercept", False),
    "said twice": ("yield = rain; each tree (diagonal): intercept + one; each picker: intercept", False),
}


@pytest.mark.parametrize("name", UNTOLD)
def test_some_levels_tell_what_all_would(monkeypatch, name):
    """Components that cannot be told apart are named whether all levels are asked at once or some first."""
    sentence, told = UNTOLD[name]
    frame = crossed(1200, 100, 10, seed=12)
    frame["twin"], frame["one"] = frame["tree"], 2.0
    frame["yield"] -= frame.groupby("picker")["yield"].transform("mean")  # a variance at zero: something to suspect
    asked, judge = [], identified._null_of_information
    monkeypatch.setattr(identified, "_null_of_information", lambda e: asked.append(e) or judge(e))
    whole = bo.fit(sentence, frame, force=True).to_dict()
    monkeypatch.setattr(identified, "FEW_EFFECTS", 60)
    some = bo.fit(sentence, frame, force=True).to_dict()
    assert some == whole and whole["convergence"]["identified"] == told
    widths = [identified.widest(e.criterion.products) for e in asked]
    # twins: even some levels are many
    assert [w > 60 for w in widths] == {"twins": [True, True], "said twice": [True, False, True]}.get(
        name, [True, False]
    )
