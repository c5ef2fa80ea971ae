"""What must not depend on names, units, coding or wording: each case once gave another answer.

Where a number is held against a figure, that comes from a closed form, a dense evaluation or the definition written out.
"""

from __future__ import annotations

import pickle

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
import relations


def plots(seed=0, units=12, rows=6):
    r = np.random.default_rng(seed)
    g = np.repeat(np.arange(units), rows)
    n = len(g)
    frame = pd.DataFrame({"bed": [f"b{i}" for i in g], "month": np.tile(np.arange(float(rows)), units), "sun": r.normal(size=n),
                          "a": r.choice(list("abc"), n), "b": r.choice(list("xyz"), n)})  # fmt: skip
    frame["y"] = r.normal(size=n) + r.normal(size=units)[g] + 0.2 * r.normal(size=units)[g] * frame["month"]
    return frame


def by_term(fit, **options):
    return {t["term"]: (t["num_df"], t["value"], t["den_df"]) for t in fit.terms(**options).to_dict()["tests"]}


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.slow
def test_one_model_told_in_two_ways_answers_alike(seed, monkeypatch, capsys):
    monkeypatch.setattr("sys.argv", ["relations.py", "120", str(5000 + 100 * seed)])
    assert relations.main() == 0, capsys.readouterr().out


# -- comparing


def test_a_covariate_in_another_unit_changes_no_comparison():
    frame = plots()
    one = bo.fit("y = month; each bed: intercept", frame, name="one")
    seen = []
    for sentence in ("y = month", "y = rescale(month, 12)", "let years = rescale(month, 12); y = years"):
        two = bo.fit(f"{sentence}; each bed: intercept + month", frame, name="two")
        test = one.compare(two).to_dict()["tests"][0]
        seen.append([test[k] for k in ("chisq", "p", "p_boundary", "df")])
    assert seen[1] == seen[2] == pytest.approx(seen[0], rel=1e-6) and seen[0][0] > 0


def test_one_model_in_two_wordings_ties_in_weights_and_words():
    frame = plots()
    one = bo.fit("y = month; each bed: intercept + month", frame, name="one")
    two = bo.fit("y = rescale(month, 12); each bed: intercept + rescale(month, 12)", frame, name="two")
    d = one.compare(two).to_dict()
    assert d["method"] == "REML" and d["models"][0]["aic"] == pytest.approx(d["models"][1]["aic"], abs=1e-6)
    assert [m["akaike_weight"] for m in d["models"]] == [pytest.approx(0.5, abs=1e-6)] * 2
    assert any("one and two alike" in n for n in d["notes"]) and any(
        "same model in other words" in n for n in d["notes"]
    )


def test_a_let_name_is_looked_through():
    frame = plots()
    one = bo.fit("let q = exp(sun); y = q; each bed: intercept", frame, name="one")
    two = bo.fit("let q = rescale(sun, 2); y = q; each bed: intercept", frame, name="two")
    d = one.compare(two).to_dict()
    assert d["method"] == "ML" and not any("same model" in n for n in d["notes"])


@pytest.mark.parametrize(("small", "large", "nested", "boundary"), [
    ("within bed: exchangeable", "each bed: intercept; within bed: ar1(month)", True, False),
    ("within bed: ar1(month)", "each bed: intercept; within bed: ar1(month)", True, True),
    ("within bed: exchangeable", "within bed: unstructured(month)", True, False),
    ("each bed: intercept; within bed: ar1(month)", "within bed: unstructured(month)", True, False),
    ("within bed: exchangeable", "within bed: ar1(month)", False, False),
    ("spread = a", "spread = b", False, False),
    ("spread = a", "spread = a + b", True, False),
])  # fmt: skip
def test_what_is_nested_and_what_lies_at_an_edge(small, large, nested, boundary):
    frame = plots(3, units=25)
    fits = [bo.fit(f"y = sun; {c}", frame, name=n) for c, n in ((small, "small"), (large, "large"))]
    test = fits[0].compare(fits[1]).to_dict()["tests"][0]
    assert test["nested"] is nested and (test["p_boundary"] is not None) is boundary


# -- tests of terms


def test_terms_that_nest_are_tested_as_far_as_they_are_told():
    frame = plots(1, units=12)
    frame["region"] = frame["bed"].map(lambda b: "nsw"[int(b[1:]) % 3])
    fit = bo.fit("y = region + bed", frame)
    found = by_term(fit, type=2)
    assert found["region"] == (None, None, None) and found["bed"][0] == 9  # 11 less the two of regions
    assert "told apart" in next(t["why"] for t in fit.terms().to_dict()["tests"] if t["term"] == "region")
    y, s = frame["y"], frame.groupby("bed")["y"]
    within = float(((y - s.transform("mean")) ** 2).sum()) / (72 - 12)
    means = frame.groupby("region")["y"].transform("mean")
    between = float(((s.transform("mean") - means) ** 2).sum()) / 9
    assert found["bed"][1] == pytest.approx(between / within, rel=1e-9)


def test_an_aliased_covariate_is_not_tested():
    frame = plots().assign(twice=lambda f: 2 * f.sun + 1)
    assert by_term(bo.fit("y = sun + twice + a", frame))["sun"] == (None, None, None)
    assert by_term(bo.fit("y = sun + twice + a", frame), type=1)["sun"][0] == 1


@pytest.mark.parametrize("kind", [1, 2, 3])
def test_a_product_alone_does_not_test_the_intercept_and_order_does_not_matter(kind):
    frame = plots(2)
    one, two = (by_term(bo.fit(f"y = {s}; each bed: intercept", frame), type=kind)["a*b"] for s in ("a*b", "b*a"[::-1]))
    assert one[0] == 8 and one == tuple(pytest.approx(v, rel=1e-6) for v in two)


@pytest.mark.parametrize("kind", [1, 2, 3])
def test_an_empty_cell_is_tested_alike_from_every_baseline(kind):
    frame = plots(4, units=20)
    frame = frame[~((frame.a == "b") & (frame.b == "z"))]
    found = [by_term(bo.fit("y = a + b + a*b; each bed: intercept", frame, baseline=base), type=kind)
             for base in ({}, {"a": "b"}, {"a": "c", "b": "z"})]  # fmt: skip
    assert found[0]["a*b"][0] == 3
    for other in found[1:]:
        for term, values in found[0].items():
            assert other[term] == tuple(pytest.approx(v, rel=1e-6) for v in values)


def test_a_balanced_split_plot_of_two_blocks_has_its_exact_df():
    r = np.random.default_rng(3)
    frame = pd.DataFrame(
        [(b, w, s) for b in range(2) for w in range(3) for s in range(4)], columns=["block", "whole", "split"]
    )
    frame["plot"] = frame.block.astype(str) + "-" + frame.whole.astype(str)
    plot = frame.groupby("plot").ngroup().to_numpy()
    frame["y"] = r.normal(size=24) + 2 * r.normal(size=6)[plot] + r.normal(size=2)[frame.block]
    frame = frame.assign(whole=frame.whole.map(str), split=frame.split.map(str), block=frame.block.map(str))
    for method in ("satterthwaite", "kenward-roger"):
        fit = bo.fit("y = whole + split + whole*split; each block: intercept; each plot: intercept", frame, df=method)
        found = by_term(fit)
        assert found["whole"][2] == pytest.approx(2, rel=1e-4) and found["split"][2] == pytest.approx(9, rel=1e-4)
        classical = {row["source"]: row["f"] for row in fit.anova().to_dict()["rows"]}
        if not fit.result.convergence.boundary:
            assert found["whole"][1] == pytest.approx(classical["whole"], rel=1e-4)


def test_kenward_roger_at_two_error_df_is_the_exact_f():
    r = np.random.default_rng(5)
    frame = pd.DataFrame({"tree": np.repeat([f"t{i}" for i in range(5)], 4), "arm": np.repeat(list("aabbc"), 4)})
    frame["y"] = r.normal(size=20) + 2 * r.normal(size=5).repeat(4)
    value = by_term(bo.fit("y = arm; each tree: intercept", frame, df="kenward-roger"))["arm"]
    means = frame.groupby("tree")["y"].mean()
    arm = pd.Series(list("aabbc"), means.index)
    inside = sum(((m - m.mean()) ** 2).sum() for _, m in means.groupby(arm)) / 2
    grand = means.mean()
    between = sum(len(m) * (m.mean() - grand) ** 2 for _, m in means.groupby(arm)) / 2
    assert value == (2, pytest.approx(between / inside, rel=1e-5), pytest.approx(2, rel=1e-5))


def test_an_error_component_at_zero_is_said_with_the_other_answer():
    r = np.random.default_rng(11)
    frame = pd.DataFrame({"bed": np.repeat([f"b{i}" for i in range(6)], 8), "arm": np.repeat(list("ababab"), 8)})
    noise = r.normal(size=48)
    noise -= pd.Series(noise).groupby(frame.bed).transform("mean").to_numpy() * 0.9  # beds differ less than chance
    frame["y"] = noise + 0.5 * (frame.arm == "a")
    fit = bo.fit("y = arm; each bed: intercept", frame)
    d, classical = fit.terms().to_dict(), fit.anova().to_dict()["rows"][0]
    assert fit.result.random[0].sd == [0.0] and d["tests"][0]["stratum"] == "bed"
    note = next(n for n in d["notes"] if "estimated as zero" in n)
    assert f"p {classical['p']:.3g}" in note and "on 1 and 4 df" in note


# -- what rows cannot tell


def test_a_row_off_an_alias_or_in_an_empty_cell_has_no_prediction():
    frame = plots(4, units=20).assign(twice=lambda f: 2 * f.sun)
    frame = frame[~((frame.a == "b") & (frame.b == "z"))]
    new = pd.DataFrame({"bed": "b1", "sun": [0.0, 1.0], "twice": [0.0, 5.0], "a": ["b", "b"], "b": ["z", "x"]})
    for base in ({}, {"a": "b"}):
        d = bo.fit("y = a*b + a + b; each bed: intercept", frame, baseline=base).predict(new).to_dict()
        assert d["rows"][0]["predicted"] is None and d["rows"][1]["predicted"] is not None
        assert any("row (1)" in n and "tell" in n for n in d["notes"])
    d = bo.fit("y = sun + twice; each bed: intercept", frame).predict(new).to_dict()
    assert d["rows"][0]["predicted"] is not None and d["rows"][1]["predicted"] is None


VISITS = pd.DataFrame([(f"t{g}", f"v{v}", float(v)) for g in range(20) for v in ([0, 1, 3] if g % 2 else [0, 2, 3])], columns=["tree", "visit", "time"])  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("clause", [
    "within tree: unstructured(visit)", "each tree: intercept; within tree: exchangeable", "each tree: intercept; within tree: unstructured(two)",
    "each tree: intercept; within tree: ar1(two)", "each tree: intercept; each twin: intercept",
])  # fmt: skip
def test_covariances_that_no_rows_tell_are_reported(seed, clause):
    r = np.random.default_rng(seed)
    frame = VISITS.assign(
        y=r.normal(size=60) + r.normal(size=20).repeat(3), twin=VISITS.tree.str.replace("t", "u"), two=VISITS.time
    )
    if "two" in clause:
        frame = frame[frame.time.isin([0.0, 3.0])]
    fit = bo.fit(f"y = intercept; {clause}", frame, force=True)
    assert not fit.result.convergence.identified and any("cannot tell" in n for n in fit.notes)


@pytest.mark.few(1)
@pytest.mark.parametrize("seed", [0, 2, 3])
def test_a_singular_covariance_of_rows_is_a_boundary_not_a_failure(seed, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "g.csv").write_text("term,intercept\nintercept,2.0\n")
    r = np.random.default_rng(seed)
    frame = pd.DataFrame({"bed": np.repeat([f"b{i}" for i in range(15)], 3), "visit": np.tile(list("abc"), 15)})
    frame["y"] = r.normal(size=45) * 0.4 + 0.3 * r.normal(size=15).repeat(3)
    fit = bo.fit(
        'y = intercept; each bed (given "g.csv"): intercept; within bed: unstructured(visit)', frame, force=True
    )
    c = fit.result.convergence
    assert c.converged and c.identified and c.boundary and c.boundary_terms == ["bed"]
    assert np.isfinite(fit.coefficients["se"]).all()


def test_a_likelihood_without_a_maximum_is_said_to_be_that():
    frame = pd.DataFrame({"lab": list("aaaaab"), "y": [1.0, 2.0, 1.5, 1.2, 2.2, 9.0], "x": [0.0, 1, 2, 3, 4, 5]})
    fit = bo.fit("y = x; spread = lab", frame, method="ml", force=True)
    assert not fit.converged and any("no maximum" in n for n in fit.notes)


# -- shares


def shares(fit):
    d = fit.components().to_dict()
    return [*(i["value"] for i in d["icc"]), d["r2"]["marginal"], d["r2"]["conditional"]]


def test_shares_do_not_depend_on_baselines_weights_units_or_coding():
    frame = plots(6, units=15).assign(w=lambda f: 1.0 + f.index % 3)
    same = [
        [bo.fit("y = sun; each bed: intercept; spread = a", frame, baseline={"a": b}) for b in "abc"],
        [bo.fit("y = sun; each bed: intercept", frame.assign(w=k * frame.w), weights="w") for k in (1, 50)],
        [
            bo.fit(f"y = sun; each bed: intercept + {x}", frame)
            for x in ("month", "centre(month)", "rescale(month, 12)")
        ],
    ]
    for fits in same:
        first, *others = map(shares, fits)
        assert all(other == pytest.approx(first, rel=1e-5) for other in others)


def test_an_icc_by_level_where_each_has_a_variance_of_its_own():
    frame = plots(7, units=40)
    fit = bo.fit("y = sun; each bed: a", frame)
    g, s2 = np.diag(fit.result.random[0].covariance), fit.result.residual.variance
    own = fit.components().to_dict()["icc"][0]
    assert [r["value"] for r in own["by_level"]] == [pytest.approx(v / (v + s2)) for v in g]
    mean = g @ frame["a"].value_counts(normalize=True).sort_index().to_numpy()
    assert own["value"] == pytest.approx(mean / (mean + s2))


def test_a_covariance_from_a_file_counts_as_it_stands_there(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    frame = plots(8)
    labels = sorted(set(frame.bed))
    pd.DataFrame(9 * np.eye(12), labels, labels).rename_axis("bed").to_csv("nine.csv")
    given = bo.fit('y = sun; each bed (given units "nine.csv"): intercept', frame)
    s2 = given.result.residual.variance
    assert given.result.random[0].covariance == [[pytest.approx(9.0)]]
    assert given.components().to_dict()["icc"][0]["value"] == pytest.approx(9 / (9 + s2))
    known, plain = (bo.fit(f"y = sun; each bed{k}: intercept", frame) for k in (' (known "nine.csv")', ""))
    assert shares(known) == pytest.approx(shares(plain), rel=1e-6)


# -- names


@pytest.mark.slow
def test_two_clauses_of_one_unit_and_term_are_two_parameters(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    frame = plots(9, units=20)
    labels = sorted(set(frame.bed))
    kin = np.eye(20) + 0.5 * np.kron(np.eye(10), np.array([[0, 1], [1, 0]]))
    pd.DataFrame(kin, labels, labels).rename_axis("bed").to_csv("kin.csv")
    fit = bo.fit('y = sun; each bed: intercept; each bed (known "kin.csv"): intercept', frame, force=True)
    names = [r["parameter"] for r in fit.intervals("wald").to_dict()["parameters"]]
    assert len(set(names)) == len(names) == 5
    posterior = fit.sample(chains=2, warmup=100, draws=60)
    rows = {p["parameter"]: p["likelihood_estimate"] for p in posterior.to_dict()["parameters"]}
    sds = [p.sd[0] for p in fit.result.random]
    assert [rows["sd(bed: intercept)"], rows["sd(bed (known): intercept)"]] == [pytest.approx(s) for s in sds]
    drawn = fit.components(posterior=posterior).to_dict()["components"]
    assert drawn[0]["estimate"] != drawn[1]["estimate"]
    effects = fit.groups(posterior=posterior).to_dict()["groups"]
    assert effects[0]["rows"][0]["effects"] != effects[1]["rows"][0]["effects"]


def test_columns_called_like_parameters_stay_columns():
    r = np.random.default_rng(1)
    frame = (
        plots(10)
        .rename(columns={"sun": "rho", "a": "threshold"})
        .assign(spread=r.normal(size=72), intercept=r.normal(size=72))
    )
    fit = bo.fit("y = rho; within bed: exchangeable", frame)
    rows = fit.intervals("wald").to_dict()["parameters"]
    found = {row["parameter"]: row["estimate"] for row in rows}
    assert len(found) == len(rows) and found["rho"] == fit.result.residual.parameters["rho"]
    assert found["[rho]"] == fit.result.fixed[1].estimate and fit.result.fixed[1].term == "rho"
    counts = frame.assign(y=r.poisson(2, 72))
    ratios = bo.fit("y = threshold; each bed: intercept", counts, family="poisson", ratios=True).result.fixed
    assert all(row.ratio == pytest.approx(np.exp(row.estimate)) for row in ratios)
    terms = [
        row.term
        for row in bo.fit("y = [intercept] + [spread]; each bed: intercept + [spread]", frame, force=True).result.fixed
    ]
    assert terms == ["intercept", "[intercept]", "[spread]"]


def test_declared_orders_are_kept(tmp_path):
    r = np.random.default_rng(2)
    frame = plots(11, units=30)
    order = ["zz poor", "mid", "a best"]
    grade = pd.Categorical.from_codes(np.digitize(frame.sun + r.logistic(size=180), [-1, 1]), order, ordered=True)
    frame = frame.assign(grade=grade)
    frame.to_parquet(tmp_path / "t.parquet")
    for data in (frame, str(tmp_path / "t.parquet")):
        fit = bo.fit("grade = sun; each bed: intercept", data, family="ordinal")
        assert fit.result.levels == order and fit.coefficients.set_index("term").loc["sun", "estimate"] > 0
        assert [
            m["levels"]["grade"]
            for m in bo.fit("y = grade; each bed: intercept", data).means("grade").to_dict()["means"]
        ] == order


# -- the outcome's own scale


def test_means_over_units_use_the_slopes_variance_at_the_row_asked():
    r = np.random.default_rng(5)
    g = np.repeat(np.arange(30), 12)
    x = r.normal(size=360) + 1
    u = r.normal(size=(30, 2)) * [0.4, 0.5]
    frame = pd.DataFrame({"bed": [f"b{i}" for i in g], "x": x, "a": r.choice(list("pq"), 360)})
    frame["y"] = r.poisson(np.exp(0.2 + 0.3 * x + u[g, 0] + u[g, 1] * x))
    fit = bo.fit("y = x + a; each bed: intercept + x", frame, family="poisson")
    cov = np.array(fit.result.random[0].covariance)
    for m in fit.means("a", hold={"x": [0, 3]}).to_dict()["means"]:
        z = np.array([1.0, m["levels"]["x"]])
        assert m["population"] == pytest.approx(np.exp(m["mean"] + 0.5 * z @ cov @ z), rel=1e-6)


def test_errors_on_the_outcomes_scale_count_the_familys_own_parameters():
    frame = plots(12, units=20)
    frame["y"] = np.exp(frame["y"])
    fit = bo.fit("y = a; each bed: intercept", frame, family="lognormal")
    m = fit.means("a").to_dict()["means"][0]
    s2, known = np.exp(2.0 * fit.core.model.extra[0]), fit.core.known
    at = fit.core.criterion.extra.start
    var = known.parameter_covariance
    turn = np.concatenate([known.to_user[0], np.zeros(len(var) - len(known.to_user))])
    turn[at] = s2  # d (s^2 / 2) / d log s
    assert m["outcome_se"] == pytest.approx(m["outcome"] * np.sqrt(turn @ var @ turn), rel=1e-6)
    ends = np.log(np.array(m["outcome_ci"]) / m["outcome"])
    assert -ends[0] == pytest.approx(ends[1]) == pytest.approx(1.959964 * m["outcome_se"] / m["outcome"], rel=1e-6)


def test_average_effects_move_all_columns_of_a_variable():
    r = np.random.default_rng(6)
    frame = plots(13, units=30)
    frame["y"] = (r.random(180) < 1 / (1 + np.exp(-frame.sun - 0.5 * frame.sun**2 + (frame.a == "b")))).astype(int)
    fit = bo.fit("y = power(sun, 2) + a; each bed: intercept", frame, family="binomial", effects=True)
    found = {e["term"]: e["unit_specific"] for e in fit.result.to_dict()["average_effects"]}
    b = dict(zip(fit.coefficients["term"], fit.coefficients["estimate"].fillna(0.0)))
    a = [np.where(frame.a == level, b[f"a[{level}]"], 0.0) for level in "bc"]
    eta = b["intercept"] + b["sun"] * frame.sun + b["sun^2"] * frame.sun**2
    p = 1 / (1 + np.exp(-(eta + sum(a))))
    assert found["sun"] == pytest.approx(
        float(np.mean(p * (1 - p) * (b["sun"] + 2 * b["sun^2"] * frame.sun))), rel=1e-5
    )
    one, two = (1 / (1 + np.exp(-(eta + shift))) for shift in (0.0, b["a[b]"]))
    assert found["a[b]"] == pytest.approx(float(np.mean(two - one)), rel=1e-6)


def test_errors_of_effects_rest_on_the_observed_information():
    r = np.random.default_rng(5)
    g, x = np.repeat(np.arange(25), 10), r.normal(size=250)
    frame = pd.DataFrame(
        {"bed": [f"b{i}" for i in g], "x": x, "y": 0.3 * x + 0.6 * r.normal(size=25)[g] + r.standard_t(3, 250)}
    )
    fit = bo.fit("y = x; each bed: intercept", frame, family="student")
    model = fit.core.model
    design = np.column_stack([np.ones(250), x, g[:, None] == np.arange(25)])
    u = model.effects[0][0][:, 0]
    weight = -model.family.derivatives(design @ np.r_[model.evaluation.b, u], model.extra)[2]
    assert weight.min() < 0  # rows that an expected weight would have to stand in for
    hessian = design.T @ (weight[:, None] * design)
    hessian[2:, 2:] += np.eye(25) / model.evaluation.covariance(0)[0, 0]
    se = np.sqrt(np.diag(np.linalg.inv(hessian))[2:])
    assert [row["se"]["intercept"] for row in fit.groups().to_dict()["groups"][0]["rows"]] == pytest.approx(
        se, rel=1e-8
    )


def test_a_units_own_coefficients_hold_its_parents_in_groups_as_in_draw():
    frame = plots(14).assign(half=lambda f: f.month // 3)
    fit = bo.fit("y = sun; each bed: intercept; each half in bed: intercept", frame, force=True)
    beds, halves = fit.groups().to_dict()["groups"]
    above = {row["level"]: row["effects"]["intercept"] for row in beds["rows"]}
    b = fit.result.fixed[0].estimate
    for row in halves["rows"]:
        assert row["coefficients"]["intercept"] == pytest.approx(
            b + row["effects"]["intercept"] + above[row["level"].split(" in ")[1]]
        )


def test_fits_pickle_and_compare():
    frame = plots(15)
    frame.loc[3, "sun"] = np.nan
    fit = bo.fit("y = sun; each bed: intercept", frame)
    again = pickle.loads(pickle.dumps(fit))
    assert again == fit and hash(again) == hash(fit) and again.terms().to_dict() == fit.terms().to_dict()
    assert fit != bo.fit("y = intercept; each bed: intercept", frame)


def test_check_puts_rows_of_unlike_variance_on_one_scale_and_names_the_unit_that_is_missing():
    alarms = 0
    for seed in range(6):
        r = np.random.default_rng(seed)
        frame = plots(seed, units=20, rows=10).assign(w=r.uniform(0.05, 4, 200))
        frame["y"] = r.normal(size=20).repeat(10) + r.normal(size=200) / np.sqrt(frame.w)
        rows = bo.fit("y = sun; each bed: intercept", frame, weights="w").check(influence="none").to_dict()["findings"]
        alarms += any(f["check"] == "shape of rows" and f["speaks"] for f in rows)
    assert alarms <= 1  # of six clean sets; on the raw scale nearly all
    r = np.random.default_rng(1)
    trees = pd.DataFrame(
        [(f"o{o}", t, s) for o in range(12) for t in range(1, 9) for s in range(4)],
        columns=["orchard", "tree", "season"],
    )
    trees["sun"] = r.normal(size=len(trees))
    trees["graft"] = r.choice(["own", "dwarf"], 96).repeat(4)
    trees["y"] = r.normal(size=12).repeat(32) + 1.5 * r.normal(size=96).repeat(4) + r.normal(size=len(trees))
    found = bo.fit("y = sun; each orchard: intercept", trees).check(influence="none").to_dict()
    assert [f["unit"] for f in found["lacking"]] == ["tree in orchard"]
    assert any("each tree in orchard: intercept" in line for line in found["closing"]["try"])
