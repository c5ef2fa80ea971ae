"""No number beside a question it does not answer: cases met on unseen work, one each."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.codes import Seen
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.coefficients.means import means
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.reporting.pages.terms import terms_page


def written(folder, frame, name="t.csv"):
    frame.to_csv(folder / name, index=False)
    return name


def split_plot(seed=1):
    r = np.random.default_rng(seed)
    frame = pd.DataFrame(
        [(b, i, v) for b in range(1, 7) for i in ("drip", "none") for v in ("a", "b", "c")],
        columns=["block", "irrigation", "variety"],
    )
    own = r.normal(size=6)[frame["block"] - 1] + r.normal(size=12)[np.arange(36) // 3]
    return frame.assign(
        nitrogen=np.tile([0, 100], 18), y=10 + own + (frame["irrigation"] == "drip") + r.normal(size=36)
    )


def test_held_values_that_are_not_used_are_refused(orchard):
    data = written(orchard.folder, split_plot())
    orchard("fit", data, "y = irrigation + category(nitrogen); each block: intercept", "--save", "m")
    d = orchard("means", "m", "irrigation", "--hold", "nitrogen=0,100", "--json").json
    assert len({m["mean"] for m in d["means"]}) == 4
    for held, words in (("nitrogen=37", "no level '37'"), ("variety=a", "does not stand in the fixed part"), ("block=1", "does not stand"),
                        ("wind=3", "no column 'wind'"), ("irrigation=drip", "is the term")):  # fmt: skip
        done = orchard("means", "m", "irrigation", "--hold", held)
        assert done.code in (2, 3) and words in done.err and done.out == ""
    page = orchard("means", "m", "irrigation").out
    assert "Equal weights over the levels of category(nitrogen)" in page and "Covariates" not in page


@pytest.mark.parametrize(
    ("old", "new"), [("--pairs", "--differences"), ("--adjust", "--correction"), ("--at", "--hold")]
)
def test_older_words_answer_with_the_new_ones(quick, old, new):
    done = quick("means", "m", "pruning", old, "x")
    assert done.code == 2 and f"{old} is now written {new}" in done.err


def test_missing_codes_are_told_above_the_tables_with_the_option_to_paste(orchard, harvest):
    done = orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept")
    assert done.out.index("--missing yield=-999") < done.out.index("Average effects")
    d = orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--json").json
    assert "in 1 row," in d["warnings"][0] and d["warnings"][0] in d["notes"]
    clean = orchard(
        "fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "yield=-999", "--json"
    ).json
    assert clean["warnings"] == []


@pytest.mark.parametrize(
    ("values", "codes"),
    [([1, 2, 3, 4, -999], [-999]), ([10, 11, 12, 13, 999, 999], [999]), ([1, 2, 3, -99, -999], [-999, -99]), ([1, 2, 3, 4, 5], []),
     ([97, 98, 99, 100, 101], []), ([-3, -2, -1, 0, 1], []), ([0, 1, 2, 3, -9], [-9]), ([-999, -999], [])],
)  # fmt: skip
def test_codes_stand_far_from_the_other_values(values, codes):
    seen = Seen.of(np.array([*values, np.nan], dtype=float))
    assert seen.suspected() == {c: values.count(c) for c in codes}
    runs = Seen()
    for value in values:  # and in pieces of one row
        runs.add(np.array([value]))
    assert runs.suspected() == seen.suspected()


def test_nested_units_tell_correlation_and_share(orchard):
    r = np.random.default_rng(2)
    frame = pd.DataFrame({"orchard": np.repeat(np.arange(15), 12), "tree": np.tile(np.repeat([1, 2, 3], 4), 15)})
    cell = frame["orchard"] * 3 + frame["tree"] - 1
    frame["y"] = r.normal(size=15)[frame["orchard"]] + r.normal(size=45)[cell] + r.normal(size=180)
    orchard(
        "fit",
        written(orchard.folder, frame),
        "y = intercept; each orchard: intercept; each tree in orchard: intercept",
        "--save",
        "m",
    )
    d = orchard("components", "m", "--json").json
    parts = {c["group"]: c["estimate"] for c in d["components"]}
    total = sum(parts.values())
    icc = {i["group"]: (i["value"], i["share"]) for i in d["icc"]}
    assert icc["orchard"] == pytest.approx((parts["orchard"] / total,) * 2)
    own = parts["tree in orchard"] / total
    assert icc["tree in orchard"] == pytest.approx((own + parts["orchard"] / total, own))
    assert "also share the levels above" in orchard("components", "m").out


def test_explained_variance_only_where_the_clause_is_the_same(orchard, harvest):
    for name, random in (("one", "intercept"), ("two", "intercept + rain"), ("both", "intercept")):
        extra = " + pruning" if name == "both" else ""
        orchard(
            "fit", "harvest.csv", f"yield = rain{extra}; each orchard: {random}", "--missing", "-999", "--save", name
        )
    d = orchard("compare", "one", "two", "--json").json
    assert {v["group"]: v["proportion"] is None for v in d["tests"][0]["variance_explained"]} == {
        "orchard": True,
        "residual": False,
    }
    assert any("No share of explained variance for orchard" in n for n in d["notes"])
    d = orchard("compare", "one", "both", "--json").json
    assert all(v["proportion"] is not None for v in d["tests"][0]["variance_explained"])


def test_what_was_asked_for_is_in_the_csv(orchard, harvest):
    for name, fixed in (("a", "rain"), ("b", "rain + pruning")):
        orchard("fit", "harvest.csv", f"yield = {fixed}; each orchard: intercept", "--missing", "-999", "--save", name)
    d = orchard("means", "b", "pruning", "--differences", "--sed", "--csv", "m.csv", "--json").json
    table = pd.read_csv(orchard.folder / "m.csv")
    assert table["part"].value_counts().to_dict() == {"mean": 3, "difference": 3, "sed": 3}
    assert table[table["part"] == "difference"]["p_adjusted"].tolist() == pytest.approx(
        [p["p_adjusted"] for p in d["pairs"]]
    )
    d = orchard("compare", "a", "b", "--csv", "c.csv", "--json").json
    table = pd.read_csv(orchard.folder / "c.csv")
    assert table[table["part"] == "test"]["chisq"].tolist() == pytest.approx([d["tests"][0]["chisq"]])


def test_differences_within_a_factor_and_as_ratios(orchard):
    data = written(orchard.folder, split_plot())
    orchard("fit", data, "y = cross(irrigation, variety); each block: intercept", "--save", "m")
    whole = orchard("means", "m", "irrigation*variety", "--json").json["pairs"]
    own = orchard("means", "m", "irrigation*variety", "--within", "variety", "--json").json["pairs"]
    assert len(whole) == 15 and len(own) == 3
    assert all(
        p["p"] == pytest.approx(p["p_adjusted"], rel=1e-6) for p in own
    )  # one difference a variety: nothing to correct
    assert orchard("means", "m", "variety", "--within", "irrigation").code == 2
    assert orchard("means", "m", "variety", "--ratios").code == 2


def graded(seed=3, n=400):
    r = np.random.default_rng(seed)
    frame = pd.DataFrame({"unit": np.arange(n) % 20, "x": r.normal(size=n), "spray": r.choice(["no", "yes"], n)})
    latent = frame["x"] - 1.2 * (frame["spray"] == "yes") + 0.8 * r.normal(size=20)[frame["unit"]] + r.logistic(size=n)
    return frame.assign(y=np.array(["none", "mild", "severe"])[np.digitize(latent, [-0.5, 1.0])])


def test_grades_answer_with_chances_and_a_mean_grade(orchard):
    orchard(
        "fit",
        written(orchard.folder, graded()),
        "y = x + spray; each unit: intercept",
        "--family",
        "ordinal",
        "--save",
        "m",
    )
    d = orchard("means", "m", "spray", "--json").json
    fixed = {r["term"]: r["estimate"] for r in orchard("show", "m", "--json").json["fixed"]}
    cuts = np.array([fixed["threshold[none|mild]"], fixed["threshold[mild|severe]"]])
    x = graded()["x"].mean()
    for m in d["means"]:
        eta = fixed["x"] * x + fixed["spray[yes]"] * (m["levels"]["spray"] == "yes")
        chances = np.diff([0, *(1 / (1 + np.exp(eta - cuts))), 1])
        assert [c["chance"] for c in m["chances"]] == pytest.approx(list(chances), rel=1e-6)
        assert (
            m["outcome"] == pytest.approx(chances @ [1, 2, 3], rel=1e-6)
            and 1 < m["outcome_ci"][0] < m["outcome_ci"][1] < 3
        )
        assert m["mean"] == pytest.approx(eta - cuts.mean(), rel=1e-6)
        assert all(c["ci"][0] < c["chance"] < c["ci"][1] and c["se"] > 0 for c in m["chances"])
    assert sum(c["population"] for c in d["means"][0]["chances"]) == pytest.approx(1)
    page = orchard("means", "m", "spray").out
    assert "The chance of each grade" in page and "mean grade (1 = none, 3 = severe)" in page and "latent" in page
    rows = orchard("predict", "m", "--json").json["rows"]
    assert all(1 <= r["low"] <= r["predicted"] <= r["high"] <= 3 for r in rows)
    assert rows[0]["predicted"] == pytest.approx(
        sum((k + 1) * rows[0][f"probability[{g}]"] for k, g in enumerate(("none", "mild", "severe")))
    )


def test_a_chance_of_a_grade_has_the_error_of_simulated_coefficients(orchard):
    orchard(
        "fit",
        written(orchard.folder, graded()),
        "y = spray; each unit: intercept",
        "--family",
        "ordinal",
        "--save",
        "m",
    )
    d, shown = orchard("means", "m", "spray", "--json").json, orchard("show", "m", "--json").json
    b = np.array([r["estimate"] for r in shown["fixed"]])
    draws = np.random.default_rng(0).multivariate_normal(b, shown["fixed_covariance"], 200_000)
    below = 1 / (1 + np.exp(draws[:, 2:3] - draws[:, :2]))
    yes = next(m for m in d["means"] if m["levels"]["spray"] == "yes")
    assert yes["chances"][0]["se"] == pytest.approx(below[:, 0].std(), rel=0.03)
    assert yes["outcome_se"] == pytest.approx((3 - below.sum(axis=1)).std(), rel=0.03)


def test_new_observations_of_weighted_families_use_the_weights(orchard):
    r = np.random.default_rng(4)
    frame = pd.DataFrame({"g": np.arange(120) % 8, "w": np.tile([1.0, 100.0], 60)})
    frame["y"] = r.gamma(4 * frame["w"], 1 / (4 * frame["w"]))
    orchard(
        "fit",
        written(orchard.folder, frame),
        "y = intercept; each g: intercept",
        "--family",
        "gamma",
        "--weights",
        "w",
        "--save",
        "m",
    )
    rows = orchard("predict", "m", "--new-observation", "--json").json["rows"]
    wide = {w: np.mean([r["high"] - r["low"] for r in rows if r["w"] == w]) for w in (1.0, 100.0)}
    assert wide[1.0] > 4 * wide[100.0]


def test_matrices_of_a_generalized_fit_solve_for_its_effects(orchard):
    frame = graded().assign(count=np.random.default_rng(1).poisson(2, 400))
    data = written(orchard.folder, frame)
    for family, outcome in (("poisson", "count"), ("ordinal", "y")):
        orchard("fit", data, f"{outcome} = x; each unit: intercept", "--family", family, "--save", family)
        assert orchard("show", family, "--matrices", family).code == 0
        effects = [r["effects"]["intercept"] for r in orchard("groups", family, "--json").json["groups"][0]["rows"]]
        solved = pd.read_csv(orchard.folder / family / "solution.csv")["solution"]
        np.testing.assert_allclose(solved, effects, atol=1e-5)


def test_from_python_wrong_levels_are_errors_and_pages_print():
    frame = split_plot()
    table = Table(frame, "t", len(frame))
    with pytest.raises(UsageError, match="between 0 and 1, not 95"):
        fit("y = irrigation; each block: intercept", table, Settings(confidence=95))
    made = fit("y = irrigation; each block: intercept", table)
    assert terms_page(terms(made)).pieces
    with pytest.raises(OrchardError, match="between 0 and 1"):
        means(made, "irrigation", confidence=0.0)


def test_a_far_set_keeps_nine_digits():
    text = ("196.3052 196.1240 196.1890 196.2569 196.3403 196.3042 196.3825 196.1669 196.3257 196.0422 196.1303 196.2005 196.2889 "
            "196.0343 196.1811 196.2795 196.1748 196.1494 196.1485 195.9885 196.2119 196.1051 196.1850 196.0052 196.2090")  # fmt: skip
    y = np.array(text.split(), dtype=float)
    frame = pd.DataFrame({"g": np.repeat([f"i{k}" for k in range(5)], 5), "y": y})
    result = fit("y = intercept; each g: intercept", Table(frame, "t", 25)).result
    cells = y.reshape(5, 5) - 196.0
    msb, msw = 5 * cells.mean(axis=1).var(ddof=1), cells.var(axis=1, ddof=1).mean()
    assert msb == pytest.approx(1.27865654e-2, rel=1e-9)  # the certified mean square
    assert result["random"][0]["covariance"][0][0] == pytest.approx((msb - msw) / 5, rel=1e-9)
    assert result["residual"]["variance"] == pytest.approx(1.08318280e-2, rel=1e-9)


def test_a_given_covariance_needs_no_second_level_and_zero_counts_say_why(orchard):
    data = written(orchard.folder, split_plot().assign(farm="one", none=0))
    (orchard.folder / "g.csv").write_text(",intercept\nintercept,2\n")
    assert orchard("fit", data, 'y = irrigation; each farm (given "g.csv"): intercept').code == 0
    assert orchard("fit", data, "y = irrigation; each farm: intercept").code == 3
    done = orchard("fit", data, "none = irrigation; each block: intercept", "--family", "poisson")
    assert done.code == 3 and "minus infinity" in done.err


UNIDENTIFIED = [
    ("y = x; each g: intercept + x", "g (intercept, x) and the residual"),
    ("y = x; each g: intercept; each twin: intercept", "g (intercept) and twin (intercept)"),
    ("y = x + place; each place: intercept; each g: intercept", "place (intercept)"),
]


@pytest.mark.few(8)
@pytest.mark.parametrize("unit", [1.0, 1e5, 1e-5])
@pytest.mark.parametrize(("sentence", "names"), UNIDENTIFIED)
def test_components_that_nothing_tells_apart_are_named(quick, sentence, names, unit):
    r = np.random.default_rng(3)
    g = np.repeat(np.arange(30), 2)
    frame = pd.DataFrame(
        {"g": [f"g{i}" for i in g], "twin": g, "place": [f"p{i % 5}" for i in g], "x": np.tile([0.0, 1.0], 30)}
    )
    frame["y"] = unit * (1 + frame["x"] + r.normal(size=30)[g] + r.normal(size=60))
    done = quick("fit", written(quick.folder, frame), sentence, "--force", "--json")
    d = json.loads(done.out)
    assert done.code == 4 and not d["convergence"]["converged"] and not d["convergence"]["identified"]
    assert names in d["warnings"][0]
    page = quick("fit", "t.csv", sentence, "--force").out
    assert page.splitlines()[2].startswith("NOT IDENTIFIED") and "Converged" not in page
    fine = quick("fit", "t.csv", "y = x; each g: intercept", "--json")
    assert fine.code == 0 and fine.json["convergence"]["identified"]


def test_one_row_of_yes_or_no_a_level_tells_nothing(quick):
    frame = pd.DataFrame({"g": [f"g{i}" for i in range(40)], "y": np.arange(40) % 3 == 0}).astype({"y": int})
    data = written(quick.folder, frame)
    done = quick("fit", data, "y = intercept; each g: intercept", "--family", "binomial")
    assert done.code == 3 and "every g has one row" in done.err
    assert quick("fit", data, "y = intercept; each g: intercept", "--family", "binomial", "--force").code == 4


def test_columns_that_all_but_repeat_others_are_named(orchard):
    frame = split_plot().assign(x=np.arange(36) % 7)
    frame["z"] = frame["x"] + 1e-7 * (np.arange(36) % 5)
    data = written(orchard.folder, frame)
    notes = orchard("fit", data, "y = x + z; each block: intercept", "--json").json["notes"]
    assert any(
        n.startswith("z all but repeats the terms before (a part in 1e+07") or n.startswith("z all but repeats")
        for n in notes
    )
    for fixed in ("x", "power(x, 3)", "x + irrigation"):
        assert not any(
            "all but" in n for n in orchard("fit", data, f"y = {fixed}; each block: intercept", "--json").json["notes"]
        )
