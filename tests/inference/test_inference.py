"""Degrees of freedom, terms and means against the classical answers of balanced designs and dense versions."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import dense
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.inference.coefficients.contrasts import contrast
from bold_orchard.inference.coefficients.means import means
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Settings, fit


def table_of(frame):
    return Table(frame, "t", len(frame))


def split_plot(seed=0, blocks=8, a=3, b=4):
    r = np.random.default_rng(seed)
    frame = pd.DataFrame(
        [(i, j, k) for i in range(blocks) for j in range(a) for k in range(b)], columns=["block", "a", "b"]
    )
    plot = frame["block"] * a + frame["a"]
    frame["plot"] = plot
    frame["yield"] = (2 * r.normal(size=blocks)[frame["block"]] + 1.5 * r.normal(size=blocks * a)[plot]
                      + 0.5 * frame["a"] + 0.3 * frame["b"] * frame["a"] + r.normal(size=len(frame)))  # fmt: skip
    frame["pruning"], frame["soil"] = [f"p{v}" for v in frame["a"]], [f"s{v}" for v in frame["b"]]
    return frame


def mean_squares(frame):
    """The classical split-plot table by sums of squares: F and denominators of a, b, a*b."""
    y = frame["yield"].to_numpy().reshape(frame["block"].nunique(), frame["a"].nunique(), -1)
    n, a, b = y.shape
    grand = y.mean()
    ya, yb, yab = y.mean(axis=(0, 2)), y.mean(axis=(0, 1)), y.mean(axis=0)
    yn, yna = y.mean(axis=(1, 2)), y.mean(axis=2)
    ms_a = n * b * ((ya - grand) ** 2).sum() / (a - 1)
    ms_plot = b * ((yna - yn[:, None] - ya[None] + grand) ** 2).sum() / ((n - 1) * (a - 1))
    ms_b = n * a * ((yb - grand) ** 2).sum() / (b - 1)
    ms_ab = n * ((yab - ya[:, None] - yb[None] + grand) ** 2).sum() / ((a - 1) * (b - 1))
    rest = y - yna[:, :, None] - yab[None] + ya[None, :, None]
    df = a * (n - 1) * (b - 1)
    ms_e = (rest**2).sum() / df
    return {"pruning": (ms_a / ms_plot, a - 1, (n - 1) * (a - 1)), "soil": (ms_b / ms_e, b - 1, df),
            "pruning*soil": (ms_ab / ms_e, (a - 1) * (b - 1), df)}  # fmt: skip


@pytest.mark.parametrize("kind", [1, 2, 3])
def test_a_split_plot_has_the_classical_f_and_df(kind):
    frame = split_plot()
    made = fit("yield = cross(pruning, soil); each block: intercept; each plot: intercept", table_of(frame))
    assert made.converged and not made.result["convergence"]["boundary"]
    classical = mean_squares(frame)
    for test in terms(made, kind)["tests"]:
        f, num, den = classical[test["term"]]
        assert test["value"] == pytest.approx(f, rel=1e-6) and test["num_df"] == num
        assert test["den_df"] == pytest.approx(den, rel=1e-6)
        assert test["p"] == pytest.approx(stats.f.sf(f, num, den), rel=1e-5)


def test_random_coefficient_growth_has_units_less_one_df():
    r = np.random.default_rng(4)
    units, weeks = 14, np.arange(6.0)
    frame = pd.DataFrame({"tree": np.repeat(np.arange(units), 6), "week": np.tile(weeks, units)})
    u = r.normal(size=(units, 2)) * [2, 0.8]
    frame["yield"] = (
        5 + u[frame["tree"], 0] + (1 + u[frame["tree"], 1]) * frame["week"] + 0.7 * r.normal(size=len(frame))
    )
    made = fit("yield = week; each tree: intercept + week", table_of(frame))
    slopes = [np.polyfit(g["week"], g["yield"], 1)[0] for _, g in frame.groupby("tree")]
    row = made.result["fixed"][1]
    assert row["df"] == pytest.approx(units - 1, rel=1e-6)
    assert row["se"] == pytest.approx(np.std(slopes, ddof=1) / np.sqrt(units), rel=1e-6)


def test_a_mixed_two_way_layout_tests_the_fixed_factor_against_the_interaction():
    r = np.random.default_rng(2)
    a, b, n = 4, 6, 3
    frame = pd.DataFrame([(i, j, k) for i in range(a) for j in range(b) for k in range(n)], columns=["i", "j", "k"])
    cell = r.normal(size=(a, b))
    frame["yield"] = (
        frame["i"] + 1.5 * r.normal(size=b)[frame["j"]] + cell[frame["i"], frame["j"]] + 0.6 * r.normal(size=len(frame))
    )
    frame["sort"], frame["cell"] = [f"s{v}" for v in frame["i"]], frame["i"] * b + frame["j"]
    made = fit("yield = sort; each j: intercept; each cell: intercept", table_of(frame))
    y = frame["yield"].to_numpy().reshape(a, b, n).mean(axis=2)
    ms_a = b * n * ((y.mean(axis=1) - y.mean()) ** 2).sum() / (a - 1)
    ms_ab = n * ((y - y.mean(axis=1)[:, None] - y.mean(axis=0)[None] + y.mean()) ** 2).sum() / ((a - 1) * (b - 1))
    test = terms(made)["tests"][0]
    assert test["value"] == pytest.approx(ms_a / ms_ab, rel=1e-6) and test["den_df"] == pytest.approx(
        (a - 1) * (b - 1), rel=1e-6
    )


def test_unbalanced_df_equals_a_dense_version():
    """Satterthwaite by differences of dense quantities alone, in variances instead of theta."""
    from builders import make_trees

    frame = make_trees(seed=2, rows=60)
    made = fit("yield = rain + sun; each orchard: intercept", table_of(frame))
    y, x = frame["yield"].to_numpy(), np.column_stack([np.ones(60), frame["rain"], frame["sun"]])
    codes = frame["orchard"].astype("category").cat.codes.to_numpy()
    one = np.ones((60, 1))

    def v(s):
        return dense.covariance(60, [(codes, one)], [np.array([[s[0]]])], s[1])

    s = np.array([made.result["random"][0]["covariance"][0][0], made.result["residual"]["variance"]])
    h = 1e-3 * s
    steps = np.diag(h)

    def deviance(t):
        return dense.deviance(y, x, v(t), True)

    hessian = np.array([[(deviance(s + a + b) - deviance(s + a - b) - deviance(s - a + b) + deviance(s - a - b)) / (4 * a.sum() * b.sum())
                         for a in steps] for b in steps])  # fmt: skip
    cov = 2 * np.linalg.inv(hessian)
    for i, row in enumerate(made.result["fixed"]):
        g = np.array(
            [
                (dense.estimates(y, x, v(s + a))[1][i, i] - dense.estimates(y, x, v(s - a))[1][i, i]) / (2 * a.sum())
                for a in steps
            ]
        )
        c = dense.estimates(y, x, v(s))[1][i, i]
        assert row["df"] == pytest.approx(2 * c**2 / (g @ cov @ g), rel=1e-4)


def test_chi_squared_normal_and_residual_denominators():
    made = fit("yield = pruning + soil; each block: intercept; each plot: intercept", table_of(split_plot()))
    f, wald = terms(made, 3, "residual")["tests"][0], terms(made, 3, chisq=True)["tests"][0]
    assert f["den_df"] == 96 - 6 and wald["statistic"] == "chisq" and wald["den_df"] is None
    assert wald["value"] == pytest.approx(2 * f["value"]) and wald["p"] == pytest.approx(
        stats.chi2.sf(wald["value"], 2)
    )
    assert terms(made, 3, "normal")["tests"][0] == wald


def test_types_differ_as_they_should_on_unbalanced_data():
    """Ordinary least squares: each type as a difference of residual sums of squares."""
    frame = split_plot().sample(frac=0.7, random_state=1).assign(x=lambda d: np.arange(len(d)) % 5)
    made = fit("yield = pruning + soil + pruning*soil + x", table_of(frame))
    y = frame["yield"].to_numpy()

    def rss(*names):
        part = fit("yield = " + (" + ".join(names) or "intercept"), table_of(frame)).design.fixed.values
        x = np.column_stack(part)
        return float(((y - x @ np.linalg.lstsq(x, y, rcond=None)[0]) ** 2).sum())

    s2 = made.result["residual"]["variance"]
    one = {t["term"]: t for t in terms(made, 1)["tests"]}
    two = {t["term"]: t for t in terms(made, 2)["tests"]}
    three = {t["term"]: t for t in terms(made, 3)["tests"]}
    assert one["pruning"]["value"] == pytest.approx((rss() - rss("pruning")) / 2 / s2)
    assert one["soil"]["value"] == pytest.approx((rss("pruning") - rss("pruning", "soil")) / 3 / s2)
    assert two["pruning"]["value"] == pytest.approx((rss("soil", "x") - rss("pruning", "soil", "x")) / 2 / s2)
    assert two["x"]["value"] == pytest.approx(three["x"]["value"]) == one["x"]["value"]
    assert three["pruning*soil"]["value"] == pytest.approx(two["pruning*soil"]["value"])
    # type 3 of a main effect: drop its sum-to-zero columns from the full model
    p = [(frame["pruning"] == f"p{i}").to_numpy(float) - (frame["pruning"] == "p0") for i in (1, 2)]
    s = [(frame["soil"] == f"s{i}").to_numpy(float) - (frame["soil"] == "s0") for i in (1, 2, 3)]
    both = [a * b for a in p for b in s]
    full, less = ([np.ones(len(y)), frame["x"], *part, *s, *both] for part in (p, []))
    rest = [float(np.linalg.lstsq(np.column_stack(m).astype(float), y, rcond=None)[1][0]) for m in (less, full)]
    assert three["pruning"]["value"] == pytest.approx((rest[0] - rest[1]) / 2 / s2)


def test_means_of_a_balanced_design_are_the_raw_means():
    frame = split_plot()
    made = fit("yield = cross(pruning, soil); each block: intercept; each plot: intercept", table_of(frame))
    d = means(made, "pruning")
    raw = frame.groupby("pruning")["yield"].mean()
    assert {m["levels"]["pruning"]: m["mean"] for m in d["means"]} == pytest.approx(raw.to_dict())
    n, a, b = 8, 3, 4
    y = frame["yield"].to_numpy().reshape(n, a, b).mean(axis=2)
    ms = b * ((y - y.mean(axis=1)[:, None] - y.mean(axis=0)[None] + y.mean()) ** 2).sum() / ((n - 1) * (a - 1))
    assert d["sed"]["min"] == pytest.approx(np.sqrt(2 * ms / (n * b)), rel=1e-6) == d["sed"]["max"]
    pair = d["pairs"][0]
    assert (pair["a"], pair["b"]) == ("p1", "p0") and pair["difference"] == pytest.approx(raw["p1"] - raw["p0"])
    q = stats.studentized_range
    assert pair["p_adjusted"] == pytest.approx(q.sf(abs(pair["statistic"]) * np.sqrt(2), 3, 14), rel=1e-4)
    width = q.ppf(0.95, 3, 14) / np.sqrt(2) * pair["se"]
    np.testing.assert_allclose(pair["ci"], [pair["difference"] - width, pair["difference"] + width], rtol=1e-5)
    cells = means(made, "pruning*soil", correction="none")
    assert cells["means"][5]["mean"] == pytest.approx(frame.query("pruning == 'p1' and soil == 's1'")["yield"].mean())
    assert cells["means"][5]["levels"] == {"pruning": "p1", "soil": "s1"}


@pytest.mark.parametrize("method", ["sidak", "bonferroni", "holm", "none"])
def test_adjustments(method):
    made = fit("yield = soil; each block: intercept", table_of(split_plot()), Settings(df="residual"))
    d = means(made, "soil", correction=method)
    p = np.array([r["p"] for r in d["pairs"]])
    m = len(p)
    wanted = {"sidak": 1 - (1 - p) ** m, "bonferroni": np.minimum(1, m * p), "none": p}
    if method == "holm":
        order = np.argsort(p)
        stepped = np.empty(m)
        stepped[order] = np.minimum(1, np.maximum.accumulate(p[order] * (m - np.arange(m))))
        wanted["holm"] = stepped
    np.testing.assert_allclose([r["p_adjusted"] for r in d["pairs"]], wanted[method], rtol=1e-8)
    level = {"sidak": 0.95 ** (1 / m), "bonferroni": 1 - 0.05 / m}.get(method, 0.95)
    r = d["pairs"][0]
    assert (r["ci"][1] - r["ci"][0]) / 2 / r["se"] == pytest.approx(stats.t.ppf(0.5 + level / 2, r["df"]), rel=1e-8)


def test_covariates_slopes_and_functions_in_means():
    frame = split_plot().assign(rain=lambda d: np.random.default_rng(1).gamma(4, 2, len(d)))
    made = fit(
        "yield = pruning + power(rain, 2) + pruning*rain + split(rain, block); each block: intercept",
        table_of(frame),
        Settings(df="normal"),
    )
    made = fit("yield = pruning + log(rain) + pruning*log(rain); each block: intercept", table_of(frame))
    b = {r["term"]: r["estimate"] for r in made.result["fixed"]}
    at = means(made, "pruning", {"rain": [5.0]})["means"][1]
    assert at["mean"] == pytest.approx(
        b["intercept"] + b["pruning[p1]"] + np.log(5) * (b["log(rain)"] + b["pruning[p1]*log(rain)"])
    )
    assert at["levels"] == {"pruning": "p1", "rain": 5.0}
    slope = means(made, "pruning", {"rain": [5.0]}, slope="rain")["means"][1]["mean"]
    assert slope == pytest.approx((b["log(rain)"] + b["pruning[p1]*log(rain)"]) / 5, rel=1e-5)


def test_contrasts_of_a_persons_own():
    frame = split_plot().assign(rain=lambda d: np.arange(len(d)) % 7)
    made = fit("yield = pruning + soil + rain; each block: intercept", table_of(frame))
    pair = contrast(made, "p2 - p1", "residual", 0.95)
    d = means(made, "pruning", correction="none", df_method="residual")["pairs"][2]
    assert (pair["estimate"], pair["se"], pair["p"]) == pytest.approx((d["difference"], d["se"], d["p"]))
    rain = next(r for r in made.result["fixed"] if r["term"] == "rain")
    one = contrast(made, "2 * rain = 0.5", "satterthwaite", 0.95)
    assert one["estimate"] == pytest.approx(2 * rain["estimate"]) and one["statistic"] == pytest.approx(
        (2 * rain["estimate"] - 0.5) / (2 * rain["se"])
    )
    assert contrast(made, "[pruning[p1]]", "residual", 0.9)["estimate"] == pytest.approx(
        made.result["fixed"][1]["estimate"]
    )
    for text, words in (("p1 - p9", "did you mean"), ("rain - rain", "cancel"), ("rain * soil", "no term or level")):
        with pytest.raises(OrchardError, match=words):
            contrast(made, text, "residual", 0.95)


@pytest.mark.parametrize("baseline", ["p0", "p1", "p2"])
def test_differences_from_the_baseline_are_the_coefficients(baseline):
    """The later level less the earlier: signs agree with the table of coefficients under any baseline."""
    settings = Settings(options=Options(baselines={"pruning": baseline}))
    made = fit("yield = pruning + soil; each block: intercept", table_of(split_plot()), settings)
    pairs = {(p["a"], p["b"]): p["difference"] for p in means(made, "pruning", correction="none")["pairs"]}
    for row in made.result["fixed"]:
        if row["term"].startswith("pruning["):
            assert pairs[row["term"].removeprefix("pruning[").removesuffix("]"), baseline] == pytest.approx(
                row["estimate"]
            )


@pytest.mark.slow
def test_bad_terms_levels_and_failed_fits(orchard, harvest):
    orchard("fit", "harvest.csv", "yield = rain + pruning; each orchard: intercept", "--missing", "-999", "--save", "m")
    for arguments, words in ((("means", "m", "prunning"), "did you mean 'pruning'"), (("means", "m", "pruning", "--hold", "sun=3"), "no column 'sun'"),
                             (("terms", "m", "--contrast", "hrad - light"), "did you mean 'hard'"),
                             (("terms", "m", "--contrast", "hard -"), "cannot be read")):  # fmt: skip
        done = orchard(*arguments)
        assert done.code == 3 and words in done.err, done.err
    assert orchard("means", "m", "pruning", "--hold", "rain").code == 2
    orchard(
        "fit",
        "harvest.csv",
        "yield = rain; each orchard: intercept",
        "--missing",
        "-999",
        "--method",
        "ml",
        "--save",
        "ml",
    )
    refused = orchard("terms", "ml", "--df", "kenward-roger")
    assert refused.code == 2 and "rests on REML" in refused.err
    d = orchard("terms", "m", "--json", "--csv", "terms.csv").json
    assert [t["term"] for t in d["tests"]] == ["rain", "pruning"] and d["schema"] == "bold-orchard/terms/1"
    assert set(d["tests"][0]) == {"term", "statistic", "value", "num_df", "den_df", "p", "stratum"}
    d = orchard("means", "m", "pruning", "--json", "--figure", "means.png").json
    assert [m["levels"]["pruning"] for m in d["means"]] == ["hard", "light", "none"] and (
        orchard.folder / "means.png"
    ).exists()
    saved = (orchard.folder / "m.fit.json").read_text().replace('"converged": true', '"converged": false')
    (orchard.folder / "m.fit.json").write_text(saved)
    assert orchard("terms", "m").code == 3 and orchard("terms", "m", "--force").code == 4


@pytest.mark.parametrize("kind", [1, 2, 3])
def test_powers_have_tests_of_their_own_as_if_written_one_by_one(kind):
    frame = split_plot().assign(rain=lambda d: np.arange(len(d)) * 7 % 11 / 2.0)
    joint = fit("yield = power(rain, 3) + pruning; each block: intercept", table_of(frame))
    apart = fit("yield = rain + calc(rain^2) + calc(rain^3) + pruning; each block: intercept", table_of(frame))
    whole = terms(joint, kind)["tests"]
    assert [p["term"] for p in whole[0]["parts"]] == ["rain", "rain^2", "rain^3"] and whole[0]["num_df"] == 3
    assert "parts" not in whole[1]
    for part, other in zip(whole[0]["parts"], terms(apart, kind)["tests"]):
        assert (part["value"], part["den_df"]) == pytest.approx((other["value"], other["den_df"]), rel=1e-6)
    crossed = terms(fit("yield = cross(power(rain, 2), pruning); each block: intercept", table_of(frame)), kind)[
        "tests"
    ]
    assert [p["term"] for p in crossed[-1]["parts"]] == ["rain*pruning", "rain^2*pruning"]
    assert sum(p["num_df"] for p in crossed[-1]["parts"]) == crossed[-1]["num_df"]
