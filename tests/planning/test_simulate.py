"""Outcomes drawn from a fit: their law, their form, and that the sentence fits them again."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.estimation.assumed import assumed_of, changed, drawn_residual, model_at
from builders import inspections, make_trees, trial

SENTENCES = [
    "yield = rain + sun; each orchard: intercept + rain",
    "yield = rain; each orchard (diagonal): intercept + rain; spread = sun",
    "yield = rain; each orchard: intercept",
]


@pytest.mark.parametrize("sentence", SENTENCES)
@pytest.mark.parametrize("method", ["reml", "ml"])
def test_a_model_at_its_own_parameters_is_the_fit(sentence, method):
    core = bo.fit(sentence, make_trees(rows=150), method=method).core
    made = model_at(core.design, core.settings.search, assumed_of(core.model), np.random.default_rng(1))
    assert made.evaluation.b == pytest.approx(core.evaluation.b, rel=1e-8)
    assert made.evaluation.sigma2 == pytest.approx(core.evaluation.sigma2, rel=1e-8)
    assert made.evaluation.b_covariance == pytest.approx(core.evaluation.b_covariance, rel=1e-7)


def test_a_model_at_its_own_parameters_with_correlated_residuals():
    core = bo.fit("yield = week; each tree: intercept; within tree: ar1(week)", trial()).core
    made = model_at(core.design, core.settings.search, assumed_of(core.model), np.random.default_rng(1))
    assert made.evaluation.b_covariance == pytest.approx(core.evaluation.b_covariance, rel=1e-7)
    other = changed(assumed_of(core.model), core.design, {"rho": 0.25, "sd(residual)": 2.0, "sd(tree: intercept)": 0.5})
    there = model_at(core.design, core.settings.search, other, np.random.default_rng(1))
    again = assumed_of(there)
    assert again.own[0] == pytest.approx(0.25) and again.sigma2 == pytest.approx(4.0)
    assert np.sqrt(again.covariances[0][0, 0]) == pytest.approx(0.5)


@pytest.mark.parametrize("family", ["poisson", "binomial", "negative-binomial"])
def test_generalized_parameters_come_back(family):
    frame = inspections()
    outcome = "aphids" if family != "binomial" else "found"
    frame["found"] = (frame.aphids > frame.aphids.median()).astype(int)
    core = bo.fit(f"{outcome} = spray + rain; each orchard: intercept", frame, family=family).core
    made = model_at(core.design, core.settings.search, assumed_of(core.model), np.random.default_rng(1))
    assert made.evaluation.theta == pytest.approx(core.evaluation.theta, rel=1e-8, abs=1e-10)


def test_drawn_outcomes_have_the_moments_of_the_model():
    core = bo.fit("yield = rain; each orchard: intercept", make_trees(rows=60), name="m")
    drawn = core.simulate(4000, seed=3).to_frame()
    y = drawn["yield"].to_numpy().reshape(4000, 60)
    design, e = core.core.design, core.core.evaluation
    codes = design.blocks[0].unit.codes
    v = float(e.covariance(0)[0, 0]) * (codes[:, None] == codes) + e.sigma2 * np.eye(60)
    assert y.mean(axis=0) == pytest.approx(core.core.model.fixed_part(), abs=5 * np.sqrt(v[0, 0] / 4000))
    made = np.cov(y.T)
    assert np.abs(made - v).max() < 6 * v[0, 0] / np.sqrt(2000)
    assert list(drawn.columns[:1]) == ["draw"] and drawn.draw.tolist() == np.repeat(np.arange(1, 4001), 60).tolist()
    assert drawn.rain.tolist()[:60] == make_trees(rows=60).rain.tolist()


@pytest.mark.slow
def test_correlated_and_spread_residuals_are_drawn():
    frame = trial()
    model = bo.fit("yield = week; each tree: intercept; within tree: ar1(week); spread = week", frame)
    core = model.core
    made = changed(
        assumed_of(core.model),
        core.design,
        {"rho": 0.6, "sd(residual)": 0.5, "spread week": 0.2, "sd(tree: intercept)": 0.0},
    )
    rng, design = np.random.default_rng(2), core.design
    drawn = np.array([drawn_residual(design, made, rng) for _ in range(6000)])
    week, tree = frame.week.to_numpy(float), pd.factorize(frame.tree)[0]
    sd = 0.5 * np.exp(0.2 * week)
    v = np.outer(sd, sd) * 0.6 ** np.abs(week[:, None] - week) * (tree[:, None] == tree)
    assert np.abs(np.cov(drawn.T) - v).max() < 6 * v.max() / np.sqrt(6000)


def test_the_same_sentence_fits_what_was_drawn(quick):
    frame = make_trees(rows=300)
    frame["yield"] = np.exp(frame["yield"] / 10)
    frame.loc[3, "rain"] = np.nan
    frame.to_csv(quick.folder / "t.csv", index=False)
    sentence = "log(yield) = rain; each orchard: intercept"
    assert quick("fit", "t.csv", sentence, "--save", "m").code == 0
    done = quick("simulate", "m", "--draws", "2", "--to", "d.csv", "--json", "--seed", "5")
    assert done.code == 0 and done.json["outcome"] == "yield" and done.json["rows"] == 299
    drawn = pd.read_csv(quick.folder / "d.csv")
    assert drawn.shape == (598, frame.shape[1] + 1) and (drawn["yield"] > 0).all()
    assert quick("simulate", "m", "--draws", "2", "--to", "d.parquet", "--seed", "5").code == 0
    assert np.allclose(pd.read_parquet(quick.folder / "d.parquet")["yield"], drawn["yield"])
    assert quick("fit", "d.csv", sentence, "--where", "draw = 1").code == 0
    quick("simulate", "m", "--draws", "2", "--to", "e.csv", "--seed", "5")
    assert (quick.folder / "e.csv").read_bytes() == (quick.folder / "d.csv").read_bytes()
    frame.head(7).drop(columns="yield").to_csv(quick.folder / "new.csv", index=False)
    assert quick("simulate", "m", "--new", "new.csv", "--to", "n.csv").code == 0
    assert len(pd.read_csv(quick.folder / "n.csv")) == 6


@pytest.mark.slow
def test_outcomes_come_as_they_were_measured(quick):
    frame = inspections(n=200)
    frame["seen"] = np.where(frame.aphids > 2, "yes", "no")
    frame["grade"] = pd.cut(frame.aphids, [-1, 1, 4, 1e9], labels=["few", "some", "many"])
    frame.to_csv(quick.folder / "t.csv", index=False)
    for outcome, family, kind in (
        ("seen", "binomial", {"yes", "no"}),
        ("grade", "ordinal", {"few", "some", "many"}),
        ("aphids", "poisson", None),
    ):
        grades = ("--grades", "few,some,many") if family == "ordinal" else ()
        assert (
            quick(
                "fit", "t.csv", f"{outcome} = rain; each orchard: intercept", "--family", family, *grades, "--save", "m"
            ).code
            == 0
        )
        assert quick("simulate", "m", "--draws", "30", "--to", "d.csv").code == 0
        drawn, seen = pd.read_csv(quick.folder / "d.csv")[outcome], frame[outcome]
        if kind is None:
            assert drawn.dtype.kind == "i" and abs(drawn.mean() / seen.mean() - 1) < 0.35
            continue
        assert set(drawn) == kind
        for level in kind:
            assert abs((drawn == level).mean() - (seen == level).mean()) < 0.12


def test_slips(quick):
    make_trees(rows=60).to_csv(quick.folder / "t.csv", index=False)
    quick("fit", "t.csv", "yield = rain; each orchard: intercept", "--save", "m")
    assert "add --to drawn.csv" in quick("simulate", "m").err
    assert "above zero" in quick("simulate", "m", "--draws", "0", "--to", "d.csv").err
    make_trees(rows=60).head(5).drop(columns="rain").to_csv(quick.folder / "n.csv", index=False)
    assert "no column 'rain'" in quick("simulate", "m", "--new", "n.csv", "--to", "d.csv").err
    assert not (quick.folder / "d.csv").exists()
