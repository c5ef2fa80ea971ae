"""The installed program on files: what it prints, what its JSON promises, what it leaves behind."""

from __future__ import annotations

import csv
import json

import numpy as np
import pandas as pd
import pytest

FIT_KEYS = ["schema", "name", "model", "outcome", "family", "link", "method", "rows", "groups", "fixed", "fixed_covariance",
            "random", "residual", "fit", "convergence", "notes"]  # fmt: skip
EMPTY = "yield = intercept; each orchard: intercept"
RAIN = "yield = centre(rain) + pruning; each orchard: intercept"
SLOPES = "yield = centre(rain) + pruning; each orchard: intercept + centre(rain)"
CODES = ("--missing", "-999", "--baseline", "pruning=none")


@pytest.fixture
def fitted(orchard, harvest):
    """Three saved fits of the harvest."""
    for name, sentence in (("empty", EMPTY), ("rain", RAIN), ("slopes", SLOPES)):
        extra = CODES if name != "empty" else CODES[:2]
        done = orchard("fit", "harvest.csv", sentence, *extra, "--save", name)
        assert done.code == 0, done.err
        assert f"saved as {name}.fit.json" in done.err
    return orchard


def test_fit_json_is_the_contract(orchard, harvest):
    d = orchard("fit", "harvest.csv", SLOPES, *CODES, "--json").json
    assert list(d)[: len(FIT_KEYS)] == FIT_KEYS
    assert d["schema"] == "bold-orchard/fit/1" and d["method"] == "REML" and d["family"] == "gaussian"
    assert d["rows"] == {
        "read": 1440,
        "used": 1427,
        "dropped": [{"column": "yield", "rows": 13}],
        "filled": [],
    }
    assert d["groups"] == [{"group": "orchard", "levels": 24, "smallest": 58, "median": 59.5, "largest": 60}]
    assert [r["term"] for r in d["fixed"]] == ["intercept", "centre(rain)", "pruning[hard]", "pruning[light]"]
    for r in d["fixed"]:
        assert r["ci"][0] < r["estimate"] < r["ci"][1] and r["statistic"] == pytest.approx(r["estimate"] / r["se"])
    part = d["random"][0]
    assert (part["group"], part["structure"], part["terms"]) == (
        "orchard",
        "unstructured",
        ["intercept", "centre(rain)"],
    )
    g = np.array(part["covariance"])
    np.testing.assert_allclose(part["sd"], np.sqrt(np.diag(g)))
    np.testing.assert_allclose(part["correlation"][0][1], g[0, 1] / np.sqrt(g[0, 0] * g[1, 1]))
    f = d["fit"]
    assert f["n_parameters"] == 4 + 3 + 1 and f["deviance"] == -2 * f["loglik"]
    assert f["aic"] == pytest.approx(f["deviance"] + 2 * 8) and f["bic"] == pytest.approx(
        f["deviance"] + 8 * np.log(1427)
    )
    assert d["convergence"]["converged"] is True and d["convergence"]["boundary_terms"] == []


@pytest.mark.slow
def test_the_page_says_what_a_reader_needs(orchard, harvest):
    out = orchard("fit", "harvest.csv", SLOPES, *CODES).out
    flowing = " ".join(out.split())
    for words in ("13 without yield", "pruning: hard vs none", "(its mean)", "pruning = none", "Where an orchard's intercept",
                  "restricted log-likelihood", "Converged: after"):  # fmt: skip
        assert words in flowing, words
    assert max(map(len, out.splitlines())) <= 80 and "*" not in out.replace("rain*", "")


def test_the_truths_of_the_generator_are_found(orchard, harvest):
    from bold_orchard.demo.generate import HARVEST

    sentence = (
        "yield = centre(rain) + pruning + soil; each orchard: intercept + centre(rain); each tree in orchard: intercept"
    )
    d = orchard("fit", "harvest.csv", sentence, *CODES, "--json").json
    rows = {r["term"]: r for r in d["fixed"]}
    for term, truth in (("centre(rain)", "rain"), ("pruning[hard]", "hard"), ("pruning[light]", "light")):
        assert abs(rows[term]["estimate"] - HARVEST[truth]) < 3 * rows[term]["se"]
    assert d["residual"]["sd"] == pytest.approx(HARVEST["residual_sd"], rel=0.08)
    assert d["random"][0]["sd"][0] == pytest.approx(HARVEST["orchard_sd"], rel=0.4)
    assert d["random"][1]["sd"][0] == pytest.approx(HARVEST["tree_sd"], rel=0.3)


@pytest.mark.slow
def test_show_prints_the_same_as_fit(fitted):
    fit = fitted("fit", "harvest.csv", RAIN, *CODES, "--json").json
    show = fitted("show", "rain", "--json").json
    assert show == fit | {"name": "rain"}
    wide, narrow = (
        fitted("show", "rain.fit.json", "--json", "--confidence", c).json["fixed"][1]["ci"] for c in ("0.99", "0.5")
    )
    assert wide[0] < narrow[0] < narrow[1] < wide[1]


@pytest.mark.slow
def test_compare_refits_by_ml_and_orders_by_size(fitted):
    d = fitted("compare", "slopes", "empty", "rain", "--json").json
    assert d["schema"] == "bold-orchard/compare/1" and d["method"] == "ML" and d["rows"] == 1427
    assert sorted(d["refitted"]) == ["empty", "rain", "slopes"]
    assert [m["name"] for m in d["models"]] == ["empty", "rain", "slopes"]
    ml = fitted("fit", "harvest.csv", RAIN, *CODES, "--method", "ml", "--json").json
    assert d["models"][1]["loglik"] == pytest.approx(ml["fit"]["loglik"], abs=1e-7)
    assert sum(m["akaike_weight"] for m in d["models"]) == pytest.approx(1)
    for m in d["models"]:
        k, n = m["n_parameters"], 1427
        assert m["aicc"] == pytest.approx(m["aic"] + 2 * k * (k + 1) / (n - k - 1))
    first, second = d["tests"]
    assert (first["smaller"], first["larger"], first["df"], first["p_boundary"]) == ("empty", "rain", 3, None)
    assert second["chisq"] == pytest.approx(2 * (d["models"][2]["loglik"] - d["models"][1]["loglik"]))
    assert second["bayes_factor"] == pytest.approx(np.exp((d["models"][1]["bic"] - d["models"][2]["bic"]) / 2))
    proportion = {(v["group"], v["term"]): v["proportion"] for v in first["variance_explained"]}
    assert 0 < proportion["residual", "residual"] < 1


def test_compare_keeps_reml_when_only_random_parts_differ(fitted):
    d = fitted("compare", "slopes", "rain", "--json").json
    assert d["method"] == "REML" and d["refitted"] == []
    test = d["tests"][0]
    from scipy import stats

    x = test["chisq"]
    assert test["df"] == 2 and test["p"] == pytest.approx(stats.chi2.sf(x, 2))
    assert test["p_boundary"] == pytest.approx(0.5 * stats.chi2.sf(x, 1) + 0.5 * stats.chi2.sf(x, 2))


def test_compare_refuses_different_rows_and_outcomes(fitted):
    fitted("fit", "harvest.csv", EMPTY, "--missing", "-999", "--where", "season > 1", "--save", "later")
    done = fitted("compare", "empty", "later")
    assert done.code == 3 and "rows and 'later'" in done.err and "only in 'empty'" in done.err
    fitted("fit", "harvest.csv", "rain = intercept; each orchard: intercept", "--save", "wet")
    done = fitted("compare", "empty", "wet")
    assert done.code == 3 and "different outcomes" in done.err


def test_models_that_are_not_nested_get_no_test(fitted):
    fitted("fit", "harvest.csv", "yield = soil; each orchard: intercept", "--missing", "-999", "--save", "soil")
    test = fitted("compare", "rain", "soil", "--json").json["tests"][0]
    assert test["nested"] is False and test["chisq"] is None and test["p"] is None


@pytest.mark.slow
def test_components_shares_and_icc(fitted):
    d = fitted("components", "slopes", "--json").json
    rows = {(c["group"], c["kind"], c["term"]): c for c in d["components"]}
    assert {c["kind"] for c in d["components"]} == {"variance", "covariance", "residual"}
    assert sum(c["share"] for c in d["components"] if c["share"] is not None) == pytest.approx(1)
    intercept, rest = rows["orchard", "variance", "intercept"], rows["residual", "residual", "residual"]
    assert d["icc"][0]["value"] == intercept["share"] == pytest.approx(1 - rest["share"])
    assert intercept["ci"][0] < intercept["estimate"] < intercept["ci"][1]
    # balanced up to 13 lost rows: the residual variance has SE sigma^2 sqrt(2/df)
    assert rest["se"] == pytest.approx(rest["estimate"] * np.sqrt(2 / (1427 - 24 * 2 - 2)), rel=0.02)
    assert 0 < d["r2"]["marginal"] < d["r2"]["conditional"] < 1


@pytest.mark.slow
def test_check_levels_and_its_csv(fitted):
    d = fitted("check", "slopes", "--json", "--csv", "r.csv").json
    assert [(e["level"], e.get("term")) for e in d["levels"]] == [
        ("rows", None),
        ("orchard", "intercept"),
        ("orchard", "centre(rain)"),
        ("rows", None),
        ("rows", None),
    ]
    assert [e["residuals"] for e in d["levels"] if e["level"] == "rows"] == ["conditional", "marginal", "within-group"]
    assert len(d["influence"]) == 24 and d["autocorrelation"] is None
    rows = pd.read_csv(fitted.folder / "r.csv")
    assert len(rows) == 1427
    np.testing.assert_allclose(rows["fitted"] + rows["residual"], rows["yield"])
    from scipy import stats

    assert d["levels"][0]["shapiro"]["w"] == pytest.approx(stats.shapiro(rows["residual"]).statistic, abs=1e-6)
    assert d["levels"][0]["skewness"] == pytest.approx(stats.skew(rows["residual"]))
    groups = [g["residual_standardised"].to_numpy() for _, g in rows.groupby("orchard")]
    assert d["spread"]["value"] == pytest.approx(stats.levene(*groups, center="median").statistic)
    assert d["spread"]["p"] == pytest.approx(stats.levene(*groups, center="median").pvalue)


@pytest.mark.slow
@pytest.mark.parametrize("ending", ["png", "svg", "pdf"])
def test_figures_are_written_whole(fitted, ending):
    for command in (("check", "slopes"), ("components", "slopes"), ("compare", "rain", "slopes"), ("show", "slopes"),
                    ("scout", "harvest.csv", "--unit", "orchard", "--outcome", "yield")):  # fmt: skip
        target = fitted.folder / f"{command[0]}.{ending}"
        done = fitted(*command, "--figure", target.name)
        assert done.code == 0, done.err
        assert target.read_bytes()[:4] in (b"\x89PNG", b"<?xm", b"%PDF") and target.stat().st_size > 4000
    assert not list(fitted.folder.glob(".*"))


def test_csv_of_fixed_effects_and_digits(orchard, harvest):
    done = orchard("fit", "harvest.csv", RAIN, *CODES, "--csv", "fixed.csv", "--digits", "7", "--quiet")
    rows = list(csv.DictReader((orchard.folder / "fixed.csv").open()))
    assert next(r["term"] for r in rows) == "intercept" and float(rows[1]["low"]) < float(rows[1]["high"])
    assert f"{float(rows[0]['estimate']):.5f}" in done.out and "Notes" not in done.out and done.err == ""


def test_data_from_standard_input_are_kept_with_the_fit(orchard, harvest):
    text = harvest.read_text()
    harvest.unlink()
    done = orchard("fit", "-", EMPTY, "--missing", "-999", "--save", "m", "--json", stdin=text)
    assert done.code == 0
    components = orchard("components", "m", "--json").json
    assert components["components"][0]["estimate"] == pytest.approx(
        done.json["random"][0]["covariance"][0][0], rel=1e-9
    )


def test_fill_mean_is_said_aloud(orchard, harvest):
    frame = pd.read_csv(harvest)
    frame.loc[:9, "rain"] = np.nan
    frame.to_csv(harvest, index=False)
    plain = orchard("fit", "harvest.csv", RAIN, *CODES, "--json").json
    filled = orchard("fit", "harvest.csv", RAIN, *CODES, "--fill-mean", "rain", "--json").json
    assert {"column": "rain", "rows": 10} in plain["rows"]["dropped"]
    assert filled["rows"]["filled"][0]["rows"] == 10 and filled["rows"]["used"] == 1427
    assert any("10 missing cells of rain" in n for n in filled["notes"])


def test_same_options_and_an_example_in_every_help(orchard):
    for command in ("scout", "fit", "show", "compare", "check", "components"):
        text = orchard(command, "--help").out
        for option in ("--json", "--csv", "--figure", "--to", "--digits", "--quiet"):
            assert option in text, (command, option)
        assert "examples:\n  orchard " + command in text
    overview = orchard().out
    assert all(c in overview for c in ("scout", "fit", "show", "compare", "check", "components", "demo"))


@pytest.mark.slow
def test_the_demo_runs_every_command_and_leaves_its_pictures(orchard):
    done = orchard("demo", "trial")
    assert done.code == 0, done.err
    assert done.out.count("\n$ orchard ") == 20
    left = {p.name for p in (orchard.folder / "trial").iterdir()}
    assert left >= {"harvest.csv", "blossom.csv", "pests.csv", "scout.png", "fit.png", "compare.png", "check.png",
                    "components.png", "empty.fit.json", "rain.fit.json", "slopes.fit.json", "study.toml", "report.html"}  # fmt: skip


def test_the_demo_spares_what_is_not_as_it_left_it(orchard, monkeypatch):
    from bold_orchard.cli import demo

    folder = orchard.folder / "trial"
    folder.mkdir()
    (folder / "groups.csv").write_text("mine")
    done = orchard("demo", "trial")
    assert done.code == 3 and "groups.csv is there already and is not as a demo left it" in done.err
    assert (folder / "groups.csv").read_text() == "mine" and not (folder / "fit.png").exists()
    monkeypatch.chdir(folder)
    demo.record(["groups.csv"])  # as if a demo had made it
    demo.check_own(folder, ["groups.csv"])
    (folder / "groups.csv").write_text("mine again")
    with pytest.raises(demo.OrchardError, match=r"groups\.csv"):
        demo.check_own(folder, ["fit.png", "groups.csv"])


def test_version_and_module_form(orchard):
    import subprocess
    import sys

    assert orchard("--version").out.startswith("bold-orchard ")
    done = subprocess.run([sys.executable, "-m", "bold_orchard", "--version"], capture_output=True, text=True)
    assert done.stdout == orchard("--version").out


def test_a_fit_that_fails_exits_with_4_and_looks_it(orchard):
    rows = "".join(f"u{i // 2},{i % 7},{(i // 2) * 3 % 17}\n" for i in range(40))
    (orchard.folder / "t.csv").write_text("unit,x,y\n" + rows)  # y is constant in every unit: sigma^2 runs to zero
    done = orchard("fit", "t.csv", "y = x; each unit: intercept")
    assert done.code == 4
    assert "NOT CONVERGED" in done.out and "do not use" in " ".join(done.out.lower().split())
    assert (
        json.loads(orchard("fit", "t.csv", "y = x; each unit: intercept", "--json").out)["convergence"]["converged"]
        is False
    )
