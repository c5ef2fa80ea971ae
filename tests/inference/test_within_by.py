"""Residual covariances of every level of a column: where the fixed part is the level's own too, they are separate fits."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.predict import predict
from bold_orchard.inference.variances.components import components


def trial(seed=1, trees=36, lost=0.1):
    """Trees under three sprays, seen at four visits unless they drop out; rows shuffled."""
    r = np.random.default_rng(seed)
    rows = []
    for t in range(trees):
        k = t % 3
        rho, sd, e = [0.2, 0.5, 0.7][k], [1.0, 2.0, 0.7][k], 0.0
        for visit in range(1, 5):
            e = rho * e + r.normal() * (np.sqrt(1 - rho**2) if visit > 1 else 1.0)
            if r.random() > lost:
                rows.append(
                    (
                        f"t{t}",
                        ["none", "oil", "sulphur"][k],
                        visit,
                        visit + r.uniform(0, 0.3),
                        10 + 0.3 * visit + sd * e,
                    )
                )
    frame = pd.DataFrame(rows, columns=["tree", "spray", "visit", "week", "yield"])
    return frame.sample(frac=1.0, random_state=seed).reset_index(drop=True)


def made(sentence, frame, **settings):
    return fit(sentence, Table(frame, "t", len(frame)), Settings(**settings))


STRUCTURES = ["ar1(visit)", "exchangeable", "toeplitz(visit)", "unstructured(visit)", "exponential(week)"]


@pytest.mark.few(4)
@pytest.mark.parametrize("df", ["satterthwaite", "kenward-roger"])
@pytest.mark.parametrize("structure", STRUCTURES)
def test_a_model_that_shares_nothing_between_levels_is_their_separate_fits(structure, df):
    frame = trial()
    whole = made(f"yield = cross(visit, spray); within tree by spray: {structure}", frame, df=df)
    parts = [made(f"yield = visit; within tree: {structure}", own, df=df) for _, own in frame.groupby("spray")]
    assert whole.result.fit.loglik == pytest.approx(sum(p.result.fit.loglik for p in parts), abs=1e-6)
    told = whole.result.residual.parameters
    assert told["by"] == "spray" and [x["level"] for x in told["levels"]] == ["none", "oil", "sulphur"]
    for level, part in zip(told["levels"], parts):
        assert level["variance"] == pytest.approx(part.result.residual.variance, rel=1e-4)
        for key, value in part.result.residual.parameters.items():
            if key != "occasions":
                np.testing.assert_allclose(level["parameters"][key], value, rtol=1e-3, atol=1e-4)
    for mine, own in zip(
        whole.result.fixed[:1] + [r for r in whole.result.fixed if r.term == "visit"], parts[0].result.fixed
    ):
        assert (mine.estimate, mine.se) == pytest.approx((own.estimate, own.se), rel=1e-4)
        assert mine.df == pytest.approx(own.df, rel=2e-3)


@pytest.mark.few(1)
@pytest.mark.parametrize("structure", ["ar1(visit)", "unstructured(visit)"])
def test_components_list_every_variance_and_correlation_with_errors(structure):
    frame = trial()
    whole = made(f"yield = cross(visit, spray); within tree by spray: {structure}", frame)
    alone = made(f"yield = visit; within tree: {structure}", frame[frame["spray"] == "oil"])
    rows = {(c.kind, c.term.removeprefix("oil, ").replace("[oil]", ""), (c.term2 or "").removeprefix("oil, ")): c
            for c in components(whole).components if c.group == "residual" and "oil" in c.term}  # fmt: skip
    rows |= {(c.kind, c.term, ""): c for c in components(whole).components if c.term == "rho[oil]"}
    if structure == "unstructured(visit)":
        assert len(rows) == 4 + 6
        for c in components(alone).components:
            if c.group == "residual" and c.kind in ("variance", "covariance"):
                mine = rows[c.kind, c.term, c.term2 or ""]
                assert (mine.estimate, mine.se) == pytest.approx((c.estimate, c.se), rel=2e-3)
                if c.kind == "covariance":
                    assert mine.correlation_se == pytest.approx(c.correlation_se, rel=2e-3)
                    np.testing.assert_allclose(mine.correlation_ci, c.correlation_ci, rtol=5e-3, atol=1e-3)
    else:
        assert rows["variance", "oil", ""].estimate == pytest.approx(alone.result.residual.variance, rel=1e-4)


def test_nested_in_it_are_the_same_without_by_and_with_fewer_levels():
    frame = trial()
    frame["sprayed"] = np.where(frame["spray"] == "none", "no", "yes")
    models = [made(f"yield = visit; within tree{by}: ar1(visit)", frame) for by in ("", " by sprayed", " by spray")]
    tests = compare([m.called(n) for m, n in zip(models, "abc")])["tests"]
    assert [t["df"] for t in tests] == [2, 2] and all(t["p"] is not None for t in tests)
    assert models[0].result.fit.deviance >= models[1].result.fit.deviance >= models[2].result.fit.deviance


def test_levels_renamed_and_rows_permuted_change_nothing():
    frame = trial()
    sentence = "yield = visit + spray; each tree: intercept; within tree by spray: ar1(visit)"
    one = made("yield = visit + spray; within tree by spray: ar1(visit)", frame)
    frame["spray"] = frame["spray"].map({"none": "z", "oil": "y", "sulphur": "x"})
    two = made("yield = visit + spray; within tree by spray: ar1(visit)", frame.sample(frac=1, random_state=3))
    assert one.result.fit.loglik == pytest.approx(two.result.fit.loglik, abs=1e-6)
    assert one.result.residual.variance == pytest.approx(two.result.residual.variance, rel=1e-5)
    assert made(sentence, frame).result.fit.n_parameters == 4 + 1 + 6


def test_predictions_take_the_level_s_own_variance_and_correlation():
    frame = trial(lost=0.0)
    frame.loc[::7, "yield"] = np.nan
    whole = made("yield = cross(visit, spray); within tree by spray: ar1(visit)", frame)
    new = predict(whole, Table(frame, "t", len(frame)), new_observation=True)
    for level, own in frame.groupby("spray"):
        alone = made("yield = visit; within tree: ar1(visit)", own)
        told = predict(alone, Table(own, "t", len(own)), new_observation=True)
        here = (frame["spray"] == level).to_numpy()
        np.testing.assert_allclose(new.predicted[here], told.predicted, rtol=1e-4)
        np.testing.assert_allclose(new.se[here], told.se, rtol=1e-3)


@pytest.mark.parametrize(
    "change, why",
    [
        (lambda f: f.assign(spray=np.where(f["visit"] == 2, "oil", f["spray"])), "differs inside tree"),
        (
            lambda f: f.assign(spray=np.where(f["tree"] == "t3", "lime", f["spray"])).query(
                "tree != 't3' or visit == 1"
            ),
            "no tree has two rows",
        ),
    ],
)
def test_a_column_that_cannot_part_the_units_is_refused(change, why):
    frame = change(trial(lost=0.0))
    with pytest.raises(OrchardError, match=why):
        made("yield = visit; within tree by spray: exchangeable", frame)


@pytest.mark.slow
def test_every_command_answers(tmp_path, orchard):
    trial().to_csv(tmp_path / "trial.csv", index=False)
    orchard(
        "fit", "trial.csv", "yield = visit + spray; within tree by spray: ar1(visit); spread = visit", "--save", "m"
    )
    for words in (["components"], ["intervals", "--method", "wald"], ["means", "spray"], ["check"], ["predict"], ["equations"], ["explain"], ["table"],
                  ["simulate", "--csv", "s.csv"], ["terms"], ["show"], ["power", "--quick"]):  # fmt: skip
        done = orchard(words[0], "m", *words[1:])
        assert done.code == 0, (words, done.err)
    assert orchard("sample", "m").code == 3
