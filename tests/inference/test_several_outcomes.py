"""Several outcomes in one sentence, against dense matrices and by relations."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
import dense
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.variances.components import components
from bold_orchard.sentence.parse import read_sentence


def harvest(seed=6, n=150, units=15, gaps=0.33):
    r = np.random.default_rng(seed)
    g, rain = r.integers(0, units, n), r.normal(0, 1, n)
    u = r.multivariate_normal([0, 0], [[4, 1.2], [1.2, 1]], units)
    e = r.multivariate_normal([0, 0], [[3, -0.8], [-0.8, 0.5]], n)
    frame = pd.DataFrame({"orchard": [f"o{i}" for i in g], "rain": rain, "soil": r.choice(["clay", "sand"], n)})
    frame["yield"] = 10 + rain + u[g, 0] + e[:, 0]
    frame["sugar"] = 5 - 0.3 * rain + u[g, 1] + e[:, 1] + (frame["soil"] == "sand") * 0.4
    frame.loc[r.random(n) < gaps, "yield"] = np.nan
    frame.loc[r.random(n) < gaps, "sugar"] = np.nan
    return frame


def made(sentence, frame, **settings):
    return fit(sentence, Table(frame, "t", len(frame)), Settings(**settings))


def by_hand(frame, slopes=False):
    """y, X, the columns of a unit's joint effects, unit codes, rows and outcomes, one row for each value observed."""
    parts = []
    for k, name in enumerate(("yield", "sugar")):
        own = frame[frame[name].notna()]
        x = np.zeros((len(own), 5))
        x[:, 2 * k], x[:, 2 * k + 1] = 1.0, own["rain"]
        if k:
            x[:, 4] = own["soil"] == "sand"
        z = np.zeros((len(own), 4 if slopes else 2))
        z[:, (2 * k) if slopes else k] = 1.0
        if slopes:
            z[:, 2 * k + 1] = own["rain"]
        parts.append(
            (own[name].to_numpy(), x, z, own["orchard"].to_numpy(), own.index.to_numpy(), np.full(len(own), k))
        )
    y, x, z, unit, row, outcome = (np.concatenate(p) for p in zip(*parts))
    return y, x, z, pd.factorize(unit)[0], row, outcome


@pytest.mark.slow
@pytest.mark.parametrize("method", ["reml", "ml"])
@pytest.mark.parametrize("slopes", [False, True])
def test_likelihood_estimates_and_errors_are_those_of_the_stacked_dense_model(method, slopes):
    frame = harvest()
    f = made(
        f"yield, sugar = rain + sugar: soil; each orchard: intercept{' + rain' if slopes else ''}", frame, method=method
    )
    y, x, z, unit, row, outcome = by_hand(frame, slopes)
    r = np.array(f.result.residual.parameters["covariance"])
    inside = r[np.ix_(outcome, outcome)] * (row[:, None] == row[None, :])
    v = dense.covariance(len(y), [(unit, z)], [np.array(f.result.random[0].covariance)], inside)
    assert f.result.fit.deviance == pytest.approx(dense.deviance(y, x, v, method == "reml"), abs=1e-6)
    b, c = dense.estimates(y, x, v)
    told = {t.term: t for t in f.result.fixed}
    for k, term in enumerate(
        ("yield: intercept", "yield: rain", "sugar: intercept", "sugar: rain", "sugar: soil[sand]")
    ):
        assert (told[term].estimate, told[term].se) == pytest.approx((b[k], np.sqrt(c[k, k])), rel=1e-6)
    if not slopes:

        def deviance(t):
            low, own = np.array([[t[0], 0], [t[1], t[2]]]), np.array([[t[3], 0], [t[4], t[5]]])
            residual = (own @ own.T)[np.ix_(outcome, outcome)] * (row[:, None] == row[None, :])
            return dense.deviance(
                y, x, dense.covariance(len(y), [(unit, z)], [low @ low.T], residual), method == "reml"
            )

        low, own = np.linalg.cholesky(np.array(f.result.random[0].covariance)), np.linalg.cholesky(r)
        at = np.array([low[0, 0], low[1, 0], low[1, 1], own[0, 0], own[1, 0], own[1, 1]])
        assert dense.search(deviance, at * 1.02).fun >= f.result.fit.deviance - 1e-6
    assert f.result.rows.observed == {
        "yield": int(frame["yield"].notna().sum()),
        "sugar": int(frame["sugar"].notna().sum()),
    }
    assert f.result.rows.used == int(frame[["yield", "sugar"]].notna().any(axis=1).sum())
    assert f.result.fit.bic - f.result.fit.deviance == pytest.approx(np.log(len(y)) * f.result.fit.n_parameters)


def test_joint_tests_are_those_of_both_coefficients_together():
    f = made("yield, sugar = rain + soil; each orchard: intercept", harvest(), df="normal")
    tests = {t["term"]: t for t in terms(f)["tests"]}
    assert list(tests) == ["yield: rain", "yield: soil", "sugar: rain", "sugar: soil", "joint: rain", "joint: soil"]
    names = [r.term for r in f.result.fixed]
    at = [names.index("yield: rain"), names.index("sugar: rain")]
    b, c = np.array([r.estimate for r in f.result.fixed])[at], np.array(f.result.fixed_covariance)[np.ix_(at, at)]
    assert tests["joint: rain"]["value"] == pytest.approx(b @ np.linalg.solve(c, b), rel=1e-8)
    assert tests["joint: rain"]["num_df"] == 2


def test_order_of_outcomes_rows_and_scale_change_nothing_but_their_names():
    frame = harvest()
    one = made("yield, sugar = rain; each orchard: intercept", frame)
    other = frame.sample(frac=1, random_state=3)
    other["yield"] = 100 * other["yield"] - 7
    two = made("sugar, yield = rain; each orchard: intercept", other)
    a, b = ({r.term: r for r in m.result.fixed} for m in (one, two))
    assert (b["sugar: rain"].estimate, b["sugar: rain"].se, b["sugar: rain"].df) == pytest.approx(
        (a["sugar: rain"].estimate, a["sugar: rain"].se, a["sugar: rain"].df), rel=1e-4
    )
    assert b["yield: rain"].estimate == pytest.approx(100 * a["yield: rain"].estimate, rel=1e-5)
    r, s = one.result.residual.parameters["covariance"], two.result.residual.parameters["covariance"]
    assert s[1][0] == pytest.approx(100 * r[0][1], rel=1e-4)


def test_components_tell_correlations_across_outcomes_with_errors_and_icc_by_outcome():
    d = components(made("yield, sugar = rain; each orchard: intercept", harvest()))
    across = {c.group: c for c in d.components if c.kind == "covariance"}
    assert set(across) == {"orchard", "residual"} and (across["residual"].term, across["residual"].term2) == (
        "yield",
        "sugar",
    )
    assert all(
        c.correlation_se > 0 and c.correlation_ci[0] < c.correlation < c.correlation_ci[1] for c in across.values()
    )
    variance = {(c.group, c.term): c.estimate for c in d.components if c.kind == "variance"}
    for entry in d.icc:
        u, e = variance["orchard", f"{entry.outcome}: intercept"], variance["residual", entry.outcome]
        assert entry.value == pytest.approx(u / (u + e), rel=1e-6)


def test_a_missing_outcome_is_predicted_given_the_row_s_other_one(tmp_path, orchard):
    frame = harvest()
    frame.to_csv(tmp_path / "h.csv", index=False)
    orchard("fit", "h.csv", "yield, sugar = rain + sugar: soil; each orchard: intercept", "--save", "m")
    told = orchard("predict", "m", "--json").json["rows"]
    assert len(told) == 2 * len(frame) and [r["outcome"] for r in told[:2]] == ["yield", "sugar"]
    f = made("yield, sugar = rain + sugar: soil; each orchard: intercept", pd.read_csv(tmp_path / "h.csv"))
    y, x, z, unit, row, outcome = by_hand(frame)
    r, g = np.array(f.result.residual.parameters["covariance"]), np.array(f.result.random[0].covariance)
    v = dense.covariance(len(y), [(unit, z)], [g], r[np.ix_(outcome, outcome)] * (row[:, None] == row[None, :]))
    b, _ = dense.estimates(y, x, v)
    codes = dict(zip(frame.loc[row, "orchard"], unit))
    for i in frame.index[frame["yield"].isna() & frame["sugar"].notna()][:5]:
        here, zi = np.array([1.0, frame.loc[i, "rain"], 0, 0, 0]), np.array([1.0, 0.0])
        across = (z @ g @ zi) * (unit == codes[frame.loc[i, "orchard"]]) + r[0, outcome] * (row == i)
        expected = here @ b + across @ np.linalg.solve(v, y - x @ b)
        assert told[2 * i]["predicted"] == pytest.approx(expected, rel=1e-6) and told[2 * i]["given_neighbours"] is True
    alone = orchard("predict", "m", "--outcome", "sugar", "--json").json["rows"]
    assert [a["predicted"] for a in alone] == pytest.approx([t["predicted"] for t in told[1::2]], rel=1e-9, nan_ok=True)


@pytest.mark.slow
def test_every_command_answers_by_outcome(tmp_path, orchard):
    harvest().to_csv(tmp_path / "h.csv", index=False)
    orchard("fit", "h.csv", "yield, sugar = rain + soil; each orchard: intercept", "--save", "m")
    means = orchard("means", "m", "soil", "--json").json["means"]
    assert [(m["outcome"], m["levels"]["soil"]) for m in means] == [
        ("yield", "clay"),
        ("yield", "sand"),
        ("sugar", "clay"),
        ("sugar", "sand"),
    ]
    assert [m["mean"] for m in orchard("means", "m", "soil", "--outcome", "sugar", "--json").json["means"]] == [
        m["mean"] for m in means[2:]
    ]
    for words in (["components"], ["intervals", "--method", "wald"], ["groups"], ["check"], ["equations"], ["explain"], ["table"], ["show"],
                  ["simulate", "--csv", "s.csv"], ["power", "--quick"], ["draw", "--along", "rain", "--outcome", "sugar", "--figure", "d.png"]):  # fmt: skip
        done = orchard(words[0], "m", *words[1:], "--json")
        assert done.code == 0 and done.json, (words, done.err)
    for kind in ("against", "effects", "panels", "coefficients"):
        assert orchard("draw", "m", "--kind", kind, "--figure", "d.png").code == 0, kind
    drawn = orchard("draw", "m", "--kind", "against", "--outcome", "sugar", "--figure", "d.png", "--json").json["rows"]
    told = {r["row"]: r for r in orchard("predict", "m", "--outcome", "sugar", "--json").json["rows"]}
    assert len(drawn) == sum(r["sugar"] is not None for r in told.values())
    for r in drawn:
        assert r["observed"] == told[r["row"]]["sugar"]
        assert r["predicted"] == pytest.approx(told[r["row"]]["predicted"], rel=1e-9)
    assert orchard("means", "m", "soil", "--outcome", "size").code == 2
    assert orchard("plan", "m", "--to", "m.toml").code == 0
    assert orchard("run", "m.toml", "--into", "again").code == 0
    again = orchard("show", "again/m", "--json").json
    first = orchard("show", "m", "--json").json
    assert again["fixed"] == first["fixed"] and again["random"] == first["random"]
    edited = orchard("fit", "--from", "m", "--drop", "soil", "--json").json
    assert edited["model"] == "yield, sugar = rain; each orchard: intercept"


@pytest.mark.parametrize(
    "sentence, why",
    [
        ("yield, yield = rain", "stands twice"),
        ("yield, sugar = size: rain", "one of several outcomes"),
        ("yield = sugar: rain", "one outcome"),
        ("yield, soil = rain; each orchard: intercept", "is text"),
        ("yield, sugar = rain; within orchard: exchangeable", "do not go with within"),
        ("yield, sugar = sugar", "cannot also be a term"),
        ("yield, sugar = [(row)]", "rename it"),
    ],
)
def test_what_several_outcomes_are_not_is_refused(sentence, why):
    with pytest.raises((SentenceError, OrchardError), match=why):
        made(sentence, harvest().assign(**({"(row)": 1.0} if "(row)" in sentence else {})))


@pytest.mark.slow
def test_the_order_of_outcomes_is_choice_of_words():
    one = bo.fit("yield, sugar = rain + soil; each orchard: intercept + rain", harvest(), method="ml")
    two = bo.fit("sugar, yield = rain + soil; each orchard: intercept + rain", harvest(), method="ml")
    assert one.result.fit.loglik == pytest.approx(two.result.fit.loglik, abs=1e-6)
    told = {r.term: r.estimate for r in one.result.fixed}
    assert {r.term: r.estimate for r in two.result.fixed} == pytest.approx(told, rel=1e-5)
    with pytest.raises(OrchardError, match="another order"):
        bo.compare(one, bo.fit("sugar, yield = rain", harvest(), method="ml", name="two"))


@pytest.mark.slow
def test_trends_curves_and_pictures_tell_outcomes_apart():
    frame = harvest()
    frame["dose"] = np.random.default_rng(2).choice(["0", "10", "20"], len(frame))
    fitted = bo.fit("yield, sugar = cross(category(dose), rain); each orchard: intercept", frame)
    both = fitted.means("dose", trend=True, curve="rain")
    d = both.to_dict()
    for name in ("yield", "sugar"):
        alone = fitted.means("dose", trend=True, curve="rain", outcome=name).to_dict()
        for key in ("trends", "curves"):
            assert [t for t in d[key] if t["outcome"] == name] == alone[key]
    assert "sugar: " in both.figure().axes[-1].get_ylabel()
    plain = fitted.means("dose").figure()
    assert [ax.get_ylabel().split(",")[0] for ax in plain.axes] == ["mean yield", "mean sugar"]


def test_a_fit_in_memory_is_built_upon():
    first = bo.fit("yield, sugar = rain + soil; each orchard: intercept", harvest())
    assert bo.refit(first, drop="soil").result.model == "yield, sugar = rain; each orchard: intercept"


def test_the_sentence_reads_back_and_stacked_ones_are_written_as_they_were():
    text = "yield, log(sugar) = rain + yield: soil; each orchard: intercept + rain"
    assert read_sentence(text).written == text
    f = made("yield, sugar = rain + sugar: soil; each orchard: intercept", harvest())
    assert f.design.sentence.written == "yield, sugar = rain + sugar: soil; each orchard: intercept"


def test_numbered_units_are_not_said_to_start_again_in_every_outcome():
    frame = harvest(gaps=0.0)
    frame["orchard"] = frame["orchard"].str[1:].astype(int) + 1
    assert not any(
        "start again" in note for note in bo.fit("yield, sugar = rain; each orchard: intercept", frame).notes
    )


def test_the_first_page_tells_icc_and_what_is_explained_as_components_do():
    frame = harvest(gaps=0.0)
    single = bo.fit("yield = rain; each orchard: intercept", frame)
    both = bo.fit("yield, sugar = rain; each orchard: intercept", frame)
    for made in (single, both):
        d, parts = made.to_dict(), made.components().to_dict()
        assert d["icc"] == parts["icc"] and d["r2"] == parts["r2"]
    assert "Explained (R²)" in str(single) and "(ICC): orchard (yield) " in str(both) and "Explained" not in str(both)
    page = str(bo.fit("yield = rain; within orchard: exchangeable", frame))
    assert "orchard: 15 levels, inside which residuals are correlated." in page and "deviance" in page
