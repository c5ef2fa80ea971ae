"""Power against noncentral F in balanced designs, against simulation, and what must not change it."""

from __future__ import annotations

import shlex

import numpy as np
import pytest
from scipy import special, stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.planned import power
from bold_orchard.planning.layouts import Size, resized
from builders import inspections, make_trees

BETWEEN = """sentence = "yield = spray; each orchard: intercept; each tree in orchard: intercept"
[units]
orchard = [6, 10, 16]
"tree in orchard" = [3, 6]
rows = [2, 4]
[columns]
spray = "levels(no, yes) by orchard"
[effects]
intercept = 20
"spray[yes]" = 2
[variation]
"sd(orchard: intercept)" = 1
"sd(tree in orchard: intercept)" = 1
"sd(residual)" = 2
"""


@pytest.fixture
def study(tmp_path):
    def write(text):
        path = tmp_path / "design.toml"
        path.write_text(text)
        return str(path)

    return write


def exact(q, df, noncentral, alpha=0.05):
    return stats.ncf.sf(stats.f.isf(alpha, q, df), q, df, noncentral)


@pytest.mark.parametrize("df", ["satterthwaite", "kenward-roger"])
def test_the_formula_is_exact_between_units(study, df):
    made = power(study(BETWEEN), quick=True, df=df)
    assert len(made.designs) == 12
    for d in made.designs:
        j, t, n = d["units"]["orchard"], d["units"]["tree in orchard"], d["rows"]
        noncentral = j * 2.0**2 / (4 * (1 + 1 / t + 4 / (t * n)))
        assert d["effects"][0]["power_formula"] == pytest.approx(exact(1, j - 2, noncentral), abs=1e-9)
        assert d["total_rows"] == j * t * n
        assert {d["effects"][0][k] for k in ("power", "low", "high", "runs", "failed")} == {None}


def test_the_formula_is_exact_inside_units_and_for_several_coefficients(study):
    text = BETWEEN.replace("by orchard", "by tree").replace("levels(no, yes)", "levels(no, half, yes)").replace(
        '"spray[yes]" = 2', '"spray[half]" = 1\n"spray[yes]" = 2'
    ).replace("[3, 6]", "[3, 6, 9]")  # fmt: skip
    for d in power(study(text), quick=True).designs:
        j, t, n = d["units"]["orchard"], d["units"]["tree in orchard"], d["rows"]
        means = np.array([0.0, 1.0, 2.0])
        noncentral = j * t / 3 * float(np.sum((means - means.mean()) ** 2)) / (1 + 4 / n)
        assert d["effects"][0]["power_formula"] == pytest.approx(exact(2, j * (t - 1) - 2, noncentral), abs=1e-6)


def test_slopes_are_tested_against_their_own_variation(study):
    text = """sentence = "yield = dose; each tree: intercept + dose"
    units = {tree = [8, 15], rows = 6}
    columns = {dose = [-1, 0, 1]}
    effects = {intercept = 5, dose = 0.4}
    variation = {"sd(tree: intercept)" = 1, "sd(tree: dose)" = 0.5, "sd(residual)" = 1}"""
    for d in power(study(text), quick=True).designs:
        j = d["units"]["tree"]
        noncentral = 0.4**2 * j / (0.25 + 1.0 / 4)  # sum of dose^2 is 4 in a tree
        assert d["effects"][0]["power_formula"] == pytest.approx(exact(1, j - 1, noncentral), abs=1e-6)


@pytest.mark.slow
def test_simulation_agrees_with_the_formula_and_knows_its_error(study):
    made = power(study(BETWEEN), runs=40, seed=4)
    beyond = 0
    for d in made.designs:
        e = d["effects"][0]
        k = round(e["power"] * e["runs"])
        assert e["low"] == pytest.approx(special.betaincinv(k, 41 - k, 0.025)) and e["low"] < e["power"] < e["high"]
        beyond += not e["low"] <= e["power_formula"] <= e["high"]
    assert beyond <= 2  # 12 intervals of 95%


def test_the_smallest_design_is_that_of_fewest_rows(study):
    made = power(study(BETWEEN), quick=True, want=0.8)
    enough = [d for d in made.designs if d["effects"][0]["power_formula"] >= 0.8]
    least = min(enough, key=lambda d: d["total_rows"])
    assert made["smallest"] == {"units": least["units"], "rows": least["rows"]}
    none = power(study(BETWEEN), quick=True, want=0.99)
    assert none["smallest"] is None and any("No listed design" in n for n in none.notes)


def test_renamed_rescaled_and_recoded_studies_have_the_same_power(study):
    one = [d["effects"][0]["power_formula"] for d in power(study(BETWEEN), quick=True).designs]
    larger = BETWEEN.replace("= 2\n", "= 200\n").replace('intercept)" = 1', 'intercept)" = 100')
    renamed = BETWEEN.replace("no, yes", "zz, aa").replace("spray[yes]", "spray[aa]")
    assert "spray[aa]" in renamed
    for text in (larger, renamed):
        assert [d["effects"][0]["power_formula"] for d in power(study(text), quick=True).designs] == pytest.approx(
            one, abs=1e-9
        )


@pytest.mark.slow
def test_a_fit_as_pilot():
    fit = bo.fit("yield = rain + sun; each orchard: intercept", make_trees(rows=200), name="pilot")
    here = fit.power("rain = 0.5", "rain - sun = 0.2", quick=True).designs[0]
    assert here["units"] == {"orchard": 9} and here["total_rows"] == 200
    again = fit.power("rain=0.5", quick=True, units={"orchard": [4, 9, 30]}).designs
    values = [d["effects"][0]["power_formula"] for d in again]
    assert values[0] < values[1] < values[2] and again[2]["units"]["orchard"] == 30
    assert {d["rows"] for d in again} == {here["rows"]}  # that of the pilot: sizes differ in their units alone
    known = fit.core.known
    noncentral = 0.25 / known.covariance[1, 1]
    assert here["effects"][0]["power_formula"] == pytest.approx(
        exact(1, known.df(np.eye(3)[1:2]), noncentral), abs=2e-3
    )
    banded = fit.power("rain = 0.2", quick=True, uncertain=True).designs[0]["effects"][0]
    assert banded["uncertain_low"] < banded["power_formula"] < banded["uncertain_high"]


@pytest.mark.slow
def test_a_variance_is_found_by_its_boundary_law_and_nothing_at_its_level(study):
    text = """sentence = "yield = intercept; each tree: intercept"
    units = {tree = 12, rows = 5}
    effects = {intercept = 5}
    variation = {"sd(tree: intercept)" = 0.000001, "sd(residual)" = 1}"""
    made = power(study(text), "sd(tree: intercept)", runs=400, seed=2).designs[0]["effects"][0]
    assert made["power_formula"] is None and 0.02 < made["power"] < 0.08
    found = power(study(text), "sd(tree: intercept) = 1", runs=100, seed=2).designs[0]["effects"][0]
    lr = stats.f.sf(stats.f.isf(0.05, 11, 48) / 6.0, 11, 48)  # the exact F test of the same hypothesis
    assert found["low"] - 0.05 < lr < found["high"] + 0.05


@pytest.mark.few(1)
@pytest.mark.parametrize(
    ("family", "extra"), [("poisson", ""), ("binomial", ""), ("ordinal", 'grades = ["poor", "fair", "good"]\n')]
)
def test_other_families_are_imagined_too(study, family, extra):
    effects = (
        "intercept = 0.3\nspray = 0.8"
        if family != "ordinal"
        else '"threshold[poor|fair]" = -1\n"threshold[fair|good]" = 1\nspray = 1.2'
    )
    text = f"""sentence = "damage = spray; each tree: intercept"
family = "{family}"
{extra}[units]
tree = 16
rows = 8
[columns]
spray = [0, 1]
[effects]
{effects}
[variation]
"sd(tree: intercept)" = 0.5
"""
    e = power(study(text), runs=60).designs[0]["effects"][0]
    assert e["failed"] <= 3 and e["low"] - 0.06 < e["power_formula"] < e["high"] + 0.06


@pytest.mark.slow
def test_trials_and_ar1_and_spread(study):
    text = """sentence = "fruit of flowers = bees; each tree: intercept"
    units = {tree = 20, rows = 4}
    columns = {bees = "normal(0, 1)", flowers = [10, 20]}
    effects = {intercept = 0, bees = 0.2}
    variation = {"sd(tree: intercept)" = 0.4}"""
    assert 0.4 < power(study(text), quick=True).designs[0]["effects"][0]["power_formula"] < 1
    text = """sentence = "girth = week; each tree: intercept; within tree: ar1(week); spread = week"
    units = {tree = 10, rows = 8}
    columns = {week = [1, 2, 3, 4, 5, 6, 7, 8]}
    effects = {intercept = 5, week = 0.1}
    variation = {"sd(tree: intercept)" = 1, "sd(residual)" = 0.5, rho = 0.4, "spread week" = 0.05}"""
    e = power(study(text), runs=60).designs[0]["effects"][0]
    assert e["low"] - 0.05 < e["power_formula"] < e["high"] + 0.05


def test_layouts_keep_what_is_inside_units():
    frame = make_trees(rows=90)
    frame["tree"] = frame.groupby("orchard").cumcount() // 3
    frame["soil"] = frame.orchard.map({o: i % 2 for i, o in enumerate(frame.orchard.unique())})
    fit = bo.fit("yield = rain + soil; each orchard: intercept; each tree in orchard: intercept", frame, force=True)
    rng = np.random.default_rng(1)
    for size in (
        Size({"orchard": 5}, None),
        Size({"orchard": 20}, None),
        Size({"orchard": 14, "tree in orchard": 2}, 4),
    ):
        made = resized(fit.core.design, size, rng).frame
        assert made.orchard.nunique() == size.units["orchard"]
        assert (made.groupby("orchard").soil.nunique() == 1).all()
        whole = frame.groupby("orchard").size()
        if size.rows is None:
            copies = made.groupby("orchard").size()
            assert all(n == whole[type(frame.orchard.iloc[0])(str(o).split("~")[0])] for o, n in copies.items())
        else:
            assert (made.groupby(["orchard", "tree"]).size() == 4).all()
            assert (made.groupby("orchard").tree.nunique() == 2).all()


@pytest.mark.slow
def test_the_command(quick, study):
    (quick.folder / "design.toml").write_text(BETWEEN)
    asked = shlex.split("power --design design.toml --units orchard=8 --rows 3 --runs 40 --json --want 0.2")
    done = quick(*asked)
    assert done.code == 0 and [d["units"]["orchard"] for d in done.json["designs"]] == [8, 8]
    assert quick(*asked).out == done.out
    inspections().to_csv(quick.folder / "t.csv", index=False)
    assert (
        quick("fit", "t.csv", "aphids = spray; each orchard: intercept", "--family", "poisson", "--save", "m").code == 0
    )
    page = quick("power", "m", "--runs", "20", "--units", "orchard=6,12", "--figure", "p.png", "--csv", "p.csv")
    assert page.code == 0 and "power by" in page.out and (quick.folder / "p.png").stat().st_size > 10_000
    assert len((quick.folder / "p.csv").read_text().splitlines()) == 3


@pytest.mark.parametrize(("arguments", "words"), [
    (("m", "--effect", "rian = 1"), "did you mean 'rain'"), (("m", "--effect", "rain = much"), "is a number"),
    (("m", "--units", "orchid=5"), "did you mean 'orchard'"), (("m", "--units", "orchard"), "UNIT=10,20,40"),
    (("m", "--rows", "many"), "whole numbers"), (("m", "--runs", "3"), "20 simulated"), (("m", "--want", "2"), "between 0 and 1"),
    ((), "saved fit or --design"), (("m", "--quick", "--effect", "sd(orchard: intercept)"), "leave --quick out"),
    (("m", "--effect", "sd(orchard: sun)"), "SDs of this model"), (("m", "--effect", "rain = 1", "--effect", "rain = 2"), "contradict"),
    (("--design", "none.toml"), "cannot be read"), (("m", "--alpha", "0"), "between 0 and 1"), (("m", "--units", "orchard=2"), "too few|cannot|gain"),
])  # fmt: skip
def test_slips_get_one_line(quick, arguments, words):
    make_trees(rows=120).to_csv(quick.folder / "t.csv", index=False)
    assert quick("fit", "t.csv", "yield = rain; each orchard: intercept", "--save", "m").code == 0
    done = quick("power", *arguments, *(() if "--runs" in arguments or "--quick" in arguments else ("--runs", "20")))
    if words.startswith("too few"):
        assert done.code in (0, 3) and "Traceback" not in done.err
        return
    assert done.code in (2, 3) and len(done.err.strip().splitlines()) in (1, 3)  # with the place below it
    assert words in done.err.splitlines()[0]


@pytest.mark.parametrize(("old", "new", "words"), [
    ('"spray[yes]" = 2\n', "", "lacks spray[yes]"), ('"sd(residual)" = 2\n', "", "lacks sd(residual)"), ("[effects]", "[efects]", "did you mean 'effects'"),
    ("levels(no, yes)", "leves(no, yes)", "did you mean 'levels'"), ("by orchard", "by orchid", "did you mean 'orchard'"),
    ('sentence = "yield', 'sentense = "yield', "did you mean 'sentence'"), ("= [6, 10, 16]", "= 0", "whole numbers"), ("= [6, 10, 16]", "= [6", "no TOML"),
    ('"spray[yes]" = 2', '"spray[maybe]" = 2', "spray[maybe]"), ('"sd(residual)" = 2', '"sd(residual)" = -1', "cannot be -1"),
    ("yield = spray", "yield = sprey", "sprey"), ('intercept = 20', 'intercept = "twenty"', "must be a number"),
])  # fmt: skip
def test_a_design_file_with_a_fault(study, old, new, words):
    assert old in BETWEEN
    with pytest.raises((OrchardError, UsageError)) as e:
        power(study(BETWEEN.replace(old, new)), quick=True)
    assert words in str(e.value)


def test_power_of_a_fit_does_not_depend_on_rows_names_or_units_of_measurement():
    frame = make_trees(rows=150)
    sentence = "yield = rain + sun; each orchard: intercept + rain"
    one = bo.fit(sentence, frame).power("rain = 0.3", "sun", quick=True).designs[0]["effects"]
    other = frame.sample(frac=1, random_state=3).assign(
        orchard=lambda f: "plot " + f.orchard.astype(str),
        rain=lambda f: 25.4 * f.rain,
        **{"yield": lambda f: 1000 * f["yield"] - 7},
    )
    two = bo.fit(sentence, other).power(f"rain = {0.3 * 1000 / 25.4}", "sun", quick=True).designs[0]["effects"]
    assert [e["power_formula"] for e in two] == pytest.approx([e["power_formula"] for e in one], abs=1e-6)


def test_a_contrast_and_its_coefficient_are_one_effect(study):
    text = BETWEEN.replace("levels(no, yes)", "levels(no, half, yes)").replace(
        '"spray[yes]" = 2', '"spray[half]" = 1\n"spray[yes]" = 2'
    )
    spelled = ("spray[yes] = 1.5", "spray: yes vs no = 1.5", "yes - no = 1.5", "spray[yes] - spray[half] = 0.5")
    made = power(study(text), *spelled[:3], quick=True).designs[0]["effects"]
    assert (
        made[0]["power_formula"] == pytest.approx(made[1]["power_formula"]) == pytest.approx(made[2]["power_formula"])
    )
    alone = [power(study(text), s, quick=True).designs[0]["effects"][0]["power_formula"] for s in spelled[:3]]
    assert alone == pytest.approx([made[0]["power_formula"]] * 3)
