"""Fits with missing covariates: against exact conditionals, complete data and plain fits; what is kept; what is refused; every command."""

from __future__ import annotations

import json
import pickle

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.imputing import chain
from bold_orchard.imputing.gaps import gaps_of
from bold_orchard.imputing.impute import imputed
from bold_orchard.inference.coefficients.rubin import joint_df, joint_test, pooled
from bold_orchard.inference.fit import Imputing
from bold_orchard.sentence.parse import read_sentence

SENTENCE = "yield = rain + bees + rain * bees + height + soil; each orchard: intercept + rain"


@pytest.fixture
def short(monkeypatch):
    """Chains too short to be believed, for what does not depend on their draws."""
    for name, value in {"SETTLING": 3, "APART": 2, "LEAST": 4}.items():
        monkeypatch.setattr(chain, name, value)


def trees(seed=3, orchards=20, rows=12, gaps=True):
    """Trees in orchards; gaps of two measurements depend on the yield, those of the orchards' height and of the soil on nothing."""
    r = np.random.default_rng(seed)
    at, n = np.repeat(np.arange(orchards), rows), orchards * rows
    height = r.normal(size=orchards)[at]
    rain = 0.7 * r.normal(size=orchards)[at] + r.normal(size=n)
    bees = 0.5 * rain + r.normal(size=n)
    sand = r.random(n) < 0.4
    u = r.normal(size=(orchards, 2)) * [0.8, 0.3]
    y = 1 + 0.5 * rain + 0.3 * bees + 0.2 * rain * bees + 0.4 * height - 0.5 * sand + u[at, 0] + u[at, 1] * rain
    y += r.normal(size=n)
    frame = pd.DataFrame({"orchard": [f"o{k}" for k in at], "rain": rain, "bees": bees, "height": height, "yield": y})
    frame["soil"] = np.where(sand, "sand", "clay")
    if gaps:
        push = 1 / (1 + np.exp(-2 * (y - 1)))
        frame.loc[r.random(n) < 0.6 * push, "rain"] = np.nan
        frame.loc[r.random(n) < 0.3, "bees"] = np.nan
        frame.loc[np.isin(at, r.choice(orchards, 4, False)), "height"] = np.nan
        frame.loc[r.random(n) < 0.1, "soil"] = None
    return frame


@pytest.mark.slow
def test_draws_are_those_of_the_exact_conditional_distribution():
    """Of a straight line between two normal variables: x given y is normal, with moments in closed form."""
    r, n = np.random.default_rng(1), 2_000
    x = r.normal(2, 1.5, n)
    y = 1 + 0.8 * x + r.normal(0, 1, n)
    gap = r.random(n) < 0.6 / (1 + np.exp(-(y - 2.6)))
    frame = pd.DataFrame({"x": np.where(gap, np.nan, x), "y": y})
    made = imputed(
        read_sentence("y = x"), Table(frame, "t", n), Options(), SearchOptions(), Imputing(40, (), 2), lambda d, t: None
    )
    precision = 1 / 1.5**2 + 0.8**2
    mean = (2 / 1.5**2 + 0.8 * (y[gap] - 1)) / precision
    away = made.filled[0].values - mean
    assert made.filled[0].agrees and made.filled[0].missing == gap.sum()
    assert away.mean() == pytest.approx(0.0, abs=0.1) and away.std() == pytest.approx(precision**-0.5, rel=0.06)
    assert np.polyfit(mean, away.mean(axis=0), 1)[0] == pytest.approx(0.0, abs=0.1)


@pytest.mark.slow
@pytest.mark.parametrize("family", [None, "binomial"])
def test_gaps_that_depend_on_the_outcome_do_not_bend_the_answer(family):
    frame, whole = trees(orchards=40), trees(orchards=40, gaps=False)
    options = {}
    if family:
        options = {"family": family, "success": "1"}
        for f in (frame, whole):
            f["yield"] = (f["yield"] > 1).astype(int)
    made = bo.fit(SENTENCE, frame, impute=12, **options)
    full, complete = bo.fit(SENTENCE, whole, **options), bo.fit(SENTENCE, frame, **options)
    assert made.converged and made.result.rows.used == 480 and complete.result.rows.used < 300
    estimates = np.array([[r.estimate for r in f.result.fixed] for f in (made, full, complete)])
    errors = np.array([r.se for r in made.result.fixed])
    assert (np.abs(estimates[0] - estimates[1]) < 2 * errors).all()
    assert abs(estimates[0, 0] - estimates[1, 0]) < 0.6 * abs(estimates[2, 0] - estimates[1, 0])
    assert (errors > [0.97 * r.se for r in full.result.fixed]).all()
    told = made.result.imputation
    assert [c.level for c in told.columns] == ["row", "row", "orchard", "row"]
    assert all(0 < f.fraction < 0.8 for f in told.fraction_missing)


def test_nothing_missing_is_the_plain_fit_to_the_last_digit():
    frame = trees(gaps=False)
    made, plain = (bo.fit(SENTENCE, frame, impute=n).to_dict() for n in (5, None))
    told = made.pop("imputation")
    assert told["columns"] == [] and {f["fraction"] for f in told["fraction_missing"]} == {0.0}
    assert made.pop("notes")[:-1] == plain.pop("notes") and made == plain


@pytest.mark.slow
def test_one_gap_hardly_moves_the_likelihood_ratio():
    frame = trees(gaps=False)
    full = bo.compare(*(bo.fit(s, frame, method="ml", name=s) for s in ("yield = rain; each orchard: intercept", "yield = rain + bees; each orchard: intercept + rain")))  # fmt: skip
    frame.loc[5, "rain"] = np.nan
    names = {
        "small": "yield = rain; each orchard: intercept",
        "large": "yield = rain + bees; each orchard: intercept + rain",
    }
    made = bo.compare(*(bo.fit(s, frame, name=n, impute=5) for n, s in names.items()))
    one, two = made.to_dict()["tests"][0], full.to_dict()["tests"][0]
    assert one["df"] == two["df"] == 3 and one["chisq"] == pytest.approx(two["chisq"], rel=0.03)
    assert one["p_boundary"] < one["p"] and one["den_df"] > 100


@pytest.mark.slow
def test_likelihoods_of_counts_and_slopes_are_compared_by_the_tables_together(short):
    frame = trees()
    frame["moths"] = np.random.default_rng(3).poisson(np.exp(0.3 + 0.3 * frame["yield"]))
    small, large = (bo.fit(f"moths = rain{more}; each orchard: intercept", frame, family="poisson", impute=4, name=n) for n, more in (("a", ""), ("b", " + height")))  # fmt: skip
    test = bo.compare(large, small).to_dict()["tests"][0]
    wald = large.result.fixed[2]
    assert test["smaller"] == "a" and test["df"] == 1 and test["chisq"] == pytest.approx(wald.statistic**2, abs=1.0)
    with pytest.raises(OrchardError, match="did not draw"):
        bo.compare(
            small, bo.fit("moths = bees * soil; each orchard: intercept", frame, family="poisson", impute=4, name="c")
        )
    with pytest.raises(OrchardError, match="without --impute"):
        bo.compare(small, bo.fit("moths = height; each orchard: intercept", frame, family="poisson", name="d"))
    with pytest.raises(OrchardError, match="pooled over"):
        bo.compare(small, large, leave_out="orchard")


@pytest.fixture(scope="module")
def made():
    """A pooled fit, its completed tables, and the plain fits of these."""
    with pytest.MonkeyPatch.context() as patch:
        for name, value in {"SETTLING": 5, "APART": 5, "LEAST": 10}.items():
            patch.setattr(chain, name, value)
        fit = bo.fit(SENTENCE, trees(), impute=6, name="pooled")
    tables = fit.completed_tables()
    return fit, [bo.fit(SENTENCE, t) for _, t in tables.groupby("imputation")]


@pytest.mark.slow
def test_estimates_and_errors_are_rubins_of_the_completed_tables(made):
    fit, parts = made
    b = np.array([[r.estimate for r in f.result.fixed] for f in parts])
    v = np.array([f.result.fixed_covariance for f in parts])
    df = np.array([np.mean([f.result.fixed[k].df for f in parts]) for k in range(b.shape[1])])
    whole = pooled(b, v, df)
    rows = fit.result.fixed
    assert [r.estimate for r in rows] == pytest.approx(whole.estimate, rel=1e-6)
    assert [r.se for r in rows] == pytest.approx(np.sqrt(np.diag(whole.covariance)), rel=1e-6)
    assert [r.df for r in rows] == pytest.approx(whole.df, rel=1e-4)
    assert [f.fraction for f in fit.result.imputation.fraction_missing] == pytest.approx(whole.missing, rel=1e-4)
    sd = np.array([[s for p in f.result.random for s in p.sd] for f in parts])
    assert [s for p in fit.result.random for s in p.sd] == pytest.approx(np.exp(np.log(sd).mean(axis=0)), rel=1e-5)
    assert fit.result.residual.sd == pytest.approx(
        np.exp(np.mean([np.log(f.result.residual.sd) for f in parts])), rel=1e-5
    )


def test_terms_means_and_predictions_pool_those_of_the_completed_tables(made):
    fit, parts = made
    several = fit.terms(contrast="soil[sand] + 2 * rain").to_dict()
    each = [f.terms(contrast="soil[sand] + 2 * rain").to_dict()["contrasts"][0] for f in parts]
    pooled_one = pooled(np.array([[e["estimate"]] for e in each]), np.array([[[e["se"] ** 2]] for e in each]), np.array([np.mean([e["df"] for e in each])]))  # fmt: skip
    told = several["contrasts"][0]
    assert told["estimate"] == pytest.approx(pooled_one.estimate[0], rel=1e-6)
    assert told["se"] ** 2 == pytest.approx(pooled_one.covariance[0, 0], rel=1e-6) and told["df"] == pytest.approx(
        pooled_one.df[0], rel=1e-3
    )
    means, own = fit.means("soil", hold={"rain": 1.0, "bees": 0.0, "height": 0.0}).to_dict()["means"], []
    own = [f.means("soil", hold={"rain": 1.0, "bees": 0.0, "height": 0.0}).to_dict()["means"] for f in parts]
    assert [m["mean"] for m in means] == pytest.approx(np.mean([[m["mean"] for m in o] for o in own], axis=0), rel=1e-6)
    new = pd.DataFrame(
        {
            "orchard": ["o1", "new"],
            "rain": [0.5, 1.0],
            "bees": [1.0, 0.0],
            "height": [0.2, 0.1],
            "soil": ["sand", "clay"],
        }
    )
    at = fit.predict(new).to_frame()
    each_at = [f.predict(new).to_frame() for f in parts]
    predicted = np.array([f["predicted"] for f in each_at])
    assert at["predicted"].to_numpy() == pytest.approx(predicted.mean(axis=0), rel=1e-6)
    total = np.mean([f["se"] ** 2 for f in each_at], axis=0) + (1 + 1 / 6) * predicted.var(axis=0, ddof=1)
    assert (at["se"] ** 2).to_numpy() == pytest.approx(np.asarray(total), rel=1e-6)
    effects = fit.groups().to_dict()["groups"][0]["rows"][3]["effects"]["rain"]
    assert effects == pytest.approx(
        np.mean([f.groups().to_dict()["groups"][0]["rows"][3]["effects"]["rain"] for f in parts]), rel=1e-5
    )
    r2 = fit.components().to_dict()["r2"]["marginal"]
    assert r2 == pytest.approx(np.mean([f.components().to_dict()["r2"]["marginal"] for f in parts]), rel=1e-6)


def test_robust_errors_are_pooled_too(made):
    fit, parts = made
    one = fit.terms(errors="robust").to_dict()["tests"][0]
    each = [f.terms(errors="robust").to_dict()["tests"][0]["value"] for f in parts]
    assert one["value"] < max(each) and one["den_df"] < 20


def test_of_equal_tables_the_joint_test_is_the_plain_one():
    b, v = np.tile([[1.0, -0.5]], (5, 1)), np.tile(np.array([[0.3, 0.1], [0.1, 0.2]]), (5, 1, 1))
    value, df = joint_test(b, v, 40.0)
    assert value == pytest.approx(b[0] @ np.linalg.solve(v[0], b[0]) / 2) and 35 < df < 40
    assert joint_df(0.0, 2, 5, None) == np.inf
    # Li, Raghunathan & Rubin (1991): v = 4 + (t - 4) (1 + (1 - 2 / t) / r)^2, t = k (m - 1)
    assert joint_df(0.5, 3, 5, None) == pytest.approx(4 + 8 * (1 + (1 - 2 / 12) / 0.5) ** 2)
    assert joint_df(0.5, 3, 5, 1e9) == pytest.approx(joint_df(0.5, 3, 5, None), rel=0.35)
    assert joint_df(0.5, 3, 5, 20.0) < 20.0


def test_a_column_of_the_unit_is_drawn_once_a_unit_and_filled_where_a_row_tells_it():
    frame = trees()
    frame.loc[frame.index[:3], "height"] = np.nan  # the other rows of this orchard tell it
    height = frame.loc[3, "height"]
    gaps = gaps_of(read_sentence(SENTENCE), Table(frame, "t", len(frame)), Options(), ())
    one = next(c for c in gaps.covariates if c.column == "height")
    assert one.unit == "orchard" and len(one.x) == 20
    assert np.isnan(height) or (one.x[one.cell[:3]] == height).all()
    assert np.isnan(height) or any("filled with the value of the same orchard" in n for n in gaps.notes)


def test_means_of_units_in_the_sentence_move_with_the_draws(short):
    made = bo.fit(
        "yield = centre(rain, orchard) + mean(rain, orchard) + zscore(bees); each orchard: intercept", trees(), impute=4
    )
    cells = made.core.cells
    designs = [f.design for f in made.core.imputations]
    for design in designs:
        table = design.table.frame
        mean = table.groupby("orchard")["rain"].transform("mean")
        at = design.fixed.names.index("mean(rain, orchard)")
        assert design.fixed.values[at] == pytest.approx(mean, rel=1e-12)
    assert len({tuple(d.memory["zscore(bees)"]) for d in designs}) == 1  # one coding in all tables
    assert len(np.unique(next(c for c in cells.gaps.covariates if c.column == "rain").block)) == 20


@pytest.mark.slow
def test_the_same_seed_the_same_digits_and_names_are_names(short):
    frame = trees()
    one, again, other = (bo.fit(SENTENCE, frame, impute=4, seed=s).result.fixed[1].estimate for s in (1, 1, 2))
    assert one == again != other
    odd = frame.rename(columns={"rain": "rain [mm]", "orchard": "in"}).replace(
        {"soil": {"clay": "a, b", "sand": "within"}}
    )
    names = "yield = [rain [mm]] + bees + [rain [mm]] * bees + height + soil; each [in]: intercept + [rain [mm]]"
    assert bo.fit(names, odd, impute=4, seed=1).result.fixed[1].estimate == pytest.approx(one, rel=1e-9)


def test_a_fit_comes_back_from_its_file_and_from_a_pickle(made, tmp_path, monkeypatch):
    fit, _ = made
    monkeypatch.chdir(tmp_path)
    fit.save("kept")
    again = bo.open_fit("kept")
    for f in (again, pickle.loads(pickle.dumps(fit))):
        assert [r.se for r in f.result.fixed] == pytest.approx([r.se for r in fit.result.fixed], rel=1e-6)
        assert f.terms().tests[3]["p"] == pytest.approx(fit.terms().tests[3]["p"], rel=1e-5)
    saved = json.loads((tmp_path / "kept.fit.json").read_text())["saved"]["imputation"]
    assert len(saved["columns"][0]["values"]) == 6 and "tables" not in saved


@pytest.mark.parametrize(
    ("sentence", "options", "why"),
    [
        ("yield = rain; within orchard: exchangeable", {}, "errors that are correlated"),
        ("yield = rain; each orchard: intercept; spread = soil", {}, "SDs that vary"),
        ("yield = smooth(rain); each orchard: intercept", {}, "curves"),
        ("yield = rain; each orchard: intercept", {"impute": 1}, "2 completed tables"),
        ("yield = rain; each orchard: intercept", {"impute_with": ["beess"]}, "did you mean 'bees'"),
        ("yield = rain; each orchard: intercept", {"impute_with": ["orchard"]}, "the sentence has it already"),
        ("yield = rain; each orchard: intercept", {"fill_mean": ["rain"]}, "leave one of them out"),
        ("yield = empty; each orchard: intercept", {}, "too few to draw"),
        ("yield = flat; each orchard: intercept", {}, "the same in every row"),
    ],
)
def test_what_cannot_be_drawn_is_said(sentence, options, why):
    frame = trees().assign(empty=np.nan, flat=1.0)
    frame.loc[0, "flat"] = np.nan
    with pytest.raises(OrchardError, match=why):
        bo.fit(sentence, frame, **({"impute": 5} | options))
    with pytest.raises(UsageError, match="--impute 20"):
        bo.fit(SENTENCE, frame, impute_with=["bees"])


@pytest.mark.few(1)
@pytest.mark.parametrize(
    ("outcome", "options"),
    [
        ("moths", {"family": "poisson"}),
        ("moths", {"family": "negative-binomial"}),
        ("grade", {"family": "ordinal"}),
        ("fruit of counted", {}),
        ("censored(yield, 0)", {}),
        ("yield", {"family": "student"}),
    ],
)
def test_every_kind_of_outcome_draws(short, outcome, options):
    frame = trees()
    r = np.random.default_rng(3)
    frame["moths"] = r.poisson(np.exp(0.3 + 0.2 * frame["yield"]))
    frame["grade"] = pd.cut(frame["yield"], [-99, 0, 1.5, 99], labels=["poor", "fair", "good"]).astype(str)
    frame["counted"] = 12
    frame["fruit"] = r.binomial(12, 1 / (1 + np.exp(-frame["yield"])))
    if "student" in options.values():
        frame["yield"] += 0.5 * r.standard_t(3, len(frame))
    made = bo.fit(f"{outcome} = rain + height + soil; each orchard: intercept", frame, impute=4, points=1, grades=["poor", "fair", "good"] if outcome == "grade" else (), **options)  # fmt: skip
    assert made.result.rows.used == len(frame) and np.isfinite([row.se for row in made.result.fixed]).all()
    assert made.means("soil").means[0]["mean"] is not None
    assert np.isfinite(made.predict().to_frame()["predicted"]).all()


def test_what_helps_to_draw_stays_out_of_the_sentence(short):
    frame = trees()
    made = bo.fit("yield = rain + height; each orchard: intercept", frame, impute=4, impute_with=["bees", "soil"])
    assert [c.column for c in made.result.imputation.columns] == ["rain", "height", "bees", "soil"]
    assert [r.term for r in made.result.fixed] == ["intercept", "rain", "height"]
    assert made.result.imputation.beside == ["bees", "soil"]


@pytest.mark.slow
def test_the_commands(quick, short):
    trees().assign(weight=1.0).to_csv(quick.folder / "t.csv", index=False)
    done = quick("fit", "t.csv", SENTENCE, "--impute", 4, "--save", "big", "--keep", "c.parquet", "--json")
    assert done.code == 0 and done.json["imputation"]["draws"] == 4 and done.json["df_method"] == "barnard-rubin"
    assert done.json["fit"]["loglik"] is None and done.json["rows"]["used"] == 240
    assert len(pd.read_parquet(quick.folder / "c.parquet")) == 4 * 240
    assert (
        quick("fit", "--from", "big", "--drop", "height", "--save", "small", "--json").json["imputation"]["draws"] == 4
    )
    for words in (["show"], ["terms"], ["means", "soil", "--differences", "--letters"], ["groups"], ["predict"], ["explain"], ["equations"],
                  ["components"], ["intervals", "--method", "wald"], ["table"], ["report", "--to", "r.html"], ["plan", "--to", "p.toml"]):  # fmt: skip
        made = quick(words[0], "big", *words[1:], "--json")
        assert made.code == 0 and made.json, (words, made.err)
        assert "nan" not in made.out.lower(), words
    assert quick("compare", "small", "big", "--json").json["tests"][0]["den_df"] > 0
    assert "Barnard and Rubin" in quick("table", "big", "small").out
    for words in (
        ["check"],
        ["draw"],
        ["sample"],
        ["power"],
        ["anova"],
        ["simulate", "--to", "s.csv"],
        ["intervals"],
        ["components", "--tests"],
    ):
        made = quick(words[0], "big", *words[1:])
        assert made.code == 3 and "pooled over 4 completed tables" in made.err and made.err.count("\n") == 1, words
    plan = (quick.folder / "p.toml").read_text()
    assert "impute = 4" in plan and '"check"' not in plan
    assert quick("run", "p.toml").code == 0
    assert quick("fit", "t.csv", SENTENCE, "--keep", "k.csv").code == 2
    assert quick("fit", "t.csv", SENTENCE, "--impute", 4, "--keep", "t.csv").code == 2
    assert "drawn 4 times" in quick("show", "big").out


def test_the_picture_of_draws_shows_numbers_and_shares(made):
    fit, _ = made
    answer = fit.draw(kind="imputed")
    told = {v.column: v for v in answer.result.imputed}
    rain = fit.completed_tables().assign(gap=np.tile(trees()["rain"].isna(), 6))
    assert told["rain"].drawn_mean == pytest.approx(rain.loc[rain["gap"], "rain"].mean())
    assert told["rain"].observed_sd == pytest.approx(trees()["rain"].std(ddof=0)) and told["height"].missing == 4
    assert sum(told["soil"].drawn_shares) == pytest.approx(1.0) and told["soil"].levels == ["clay", "sand"]
    assert len(answer.figure().axes) == 4
    with pytest.raises(OrchardError, match="drew nothing"):
        bo.fit("yield = rain; each orchard: intercept", trees()).draw(kind="imputed")


def test_rows_that_make_no_such_model_are_told_and_not_drawn_by(short, monkeypatch):
    def never(design, table):
        raise OrchardError("no such model")

    monkeypatch.setattr("bold_orchard.imputing.analysis.recoded", never)
    with pytest.raises(OrchardError, match="sweeps"):
        bo.fit("yield = rain; each orchard: intercept", trees(), impute=4)


@pytest.mark.parametrize("term", ["log(wet)", "sqrt(wet)", "calc(1 / wet)"])
def test_values_that_a_function_does_not_take_are_never_drawn(short, term):
    frame = trees()
    frame["wet"] = 2.2 + frame["rain"].clip(-2, 3)  # near zero, and hardly skewed
    made = bo.fit(f"yield = {term} + bees; each orchard: intercept", frame, impute=4)
    assert np.isfinite([row.se for row in made.result.fixed]).all()
    if term != "calc(1 / wet)":
        assert (made.completed_tables()["wet"] > 0).all()
