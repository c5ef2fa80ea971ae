"""Means, contrasts, groups, components, predictions and carried effects from draws: each figure against the draws themselves."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import special

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from builders import diaries, inspections

MANY = {"chains": 1, "warmup": 100, "draws": 160, "seed": 3}
MODELS = {
    "slopes": ("yield = rain + soil; each tree: intercept + rain", "diary", {}),
    "nested": (
        "yield = rain + soil + rain*soil; each orchard: intercept; each tree in orchard: intercept",
        "diary",
        {},
    ),
    "scatter": ("yield = rain; each tree: intercept + spread; spread = soil", "diary", {}),
    "vary": ("yield = rain; each tree (vary with soil): intercept; spread = rain", "diary", {"weights": "w"}),
    "ar1": ("yield = rain + soil; each tree: intercept; within tree: ar1(season)", "diary", {}),
    "occasions": ("yield = rain; within tree: unstructured(season)", "short", {}),
    "trials": ("scab of fruits = rain + spray; each orchard: intercept", "pests", {"family": "binomial"}),
    "counts": ("aphids = rain + spray; each orchard: intercept", "pests", {"family": "negative-binomial"}),
    "grades": ("grade = rain + spray; each orchard: intercept", "pests", {"family": "ordinal"}),
}
UNITS = [m for m in MODELS if m != "occasions"]


@pytest.fixture(scope="module")
def frames():
    diary = diaries(units=14, rows=6, seed=9)
    return {"diary": diary, "short": diary[diary["season"] < 3], "pests": inspections(n=130, units=8)}


@pytest.fixture(scope="module")
def made(frames):
    kept = {}

    def of(name):
        if name not in kept:
            sentence, data, options = MODELS[name]
            fit = bo.fit(sentence, frames[data], name=name, **options)
            posterior = fit.sample(**MANY)
            kept[name] = fit, posterior, {k: np.asarray(v) for k, v in posterior.result.kept().items()}
        return kept[name]

    return of


def told(values, found, mean, sd, ci):
    assert found[mean] == pytest.approx(values.mean(), rel=1e-9, abs=1e-12)
    assert found[sd] == pytest.approx(values.std(ddof=1), rel=1e-9, abs=1e-12)
    assert found[ci] == pytest.approx(np.quantile(values, [0.025, 0.975]), rel=1e-9, abs=1e-12)


@pytest.mark.few(1)
@pytest.mark.parametrize("name", MODELS)
def test_every_command_answers_from_draws(made, frames, name):
    """Each one can be printed, drawn and read back; what comes from draws says so."""
    fit, posterior, _ = made(name)
    term = "spray" if MODELS[name][1] == "pests" else None
    answers = [
        fit.components(posterior=posterior),
        fit.predict(posterior=posterior),
        fit.terms(contrast="rain", posterior=posterior),
    ]
    answers += [fit.groups(posterior=posterior)] if name in UNITS else []
    answers += [fit.means(term, posterior=posterior)] if term else []
    for answer in answers:
        d = answer.to_dict()
        assert d["posterior"] == {"file": name, "chains": 1, "draws": MANY["draws"]}
        assert f"{MANY['draws']} draws of the posterior" in str(answer)
        assert type(answer.result).from_dict(d).document == d
        assert answer.figure() is not None


def test_means_are_the_combinations_of_the_draws(made):
    fit, posterior, draws = made("slopes")
    likely, d = (fit.means("soil", posterior=p).to_dict() for p in (None, posterior))
    rain = likely["covariates"]["rain"]
    clay = draws["intercept"] + rain * draws["rain"]
    sand = clay + draws["soil[sand]"]
    for values, mean in zip((clay, sand), d["means"]):
        told(values, mean, "mean", "se", "ci")
        assert mean["df"] is None
    pair = d["pairs"][0]
    told(sand - clay, pair, "difference", "se", "ci")
    assert pair["chance_above"] == np.mean(sand > clay) and pair["p"] is None and pair["statistic"] is None
    for one, other in zip(likely["means"], d["means"]):
        assert other["mean"] == pytest.approx(one["mean"], abs=0.6 * one["se"])
        assert other["levels"] == one["levels"]


def test_slopes_by_level_and_held_values(made):
    fit, posterior, draws = made("nested")
    d = fit.means("soil", slope="rain", posterior=posterior).to_dict()
    told(draws["rain"], d["means"][0], "mean", "se", "ci")
    told(draws["rain"] + draws["rain*soil[sand]"], d["means"][1], "mean", "se", "ci")
    held = fit.means("soil", hold={"rain": [0.0, 1.0]}, posterior=posterior).to_dict()["means"]
    told(draws["intercept"] + draws["rain"], held[2], "mean", "se", "ci")


@pytest.mark.slow
def test_means_on_the_outcomes_own_scale(made):
    fit, posterior, draws = made("trials")
    d = fit.means("spray", ratios=True, posterior=posterior).to_dict()
    rain = d["covariates"]["rain"]
    eta = draws["intercept"] + rain * draws["rain"] + draws["spray[sulphur]"]
    sulphur = next(m for m in d["means"] if m["levels"] == {"spray": "sulphur"})
    told(special.expit(eta), sulphur, "outcome", "outcome_se", "outcome_ci")
    x, w = np.polynomial.hermite_e.hermegauss(41)
    over = special.expit(eta[:, None] + draws["sd(orchard: intercept)"][:, None] * x) @ (w / w.sum())
    assert sulphur["population"] == pytest.approx(over.mean(), rel=1e-8)
    first = next(k for k in draws if k.startswith("spray[") and k != "spray[sulphur]")
    base = ({"none", "copper", "sulphur"} - {"sulphur", first[6:-1]}).pop()
    pair = next(p for p in d["pairs"] if {p["a"], p["b"]} == {base, "sulphur"})
    sign = -1.0 if pair["a"] == base else 1.0
    assert pair["ratio"] == pytest.approx(np.exp(sign * draws["spray[sulphur]"]).mean(), rel=1e-9)


@pytest.mark.slow
def test_chances_of_grades(made):
    fit, posterior, draws = made("grades")
    d = fit.means("spray", posterior=posterior).to_dict()
    rain = d["covariates"]["rain"]
    eta = rain * draws["rain"]
    cuts = np.array([v for k, v in draws.items() if k.startswith("threshold[")])
    base = next(m for m in d["means"] if m["levels"] == {"spray": fit.core.design.table.labels("spray").texts[0]})
    known = [k for k in draws if k.startswith("spray[")]
    eta = eta + (draws[f"spray[{base['levels']['spray']}]"] if f"spray[{base['levels']['spray']}]" in known else 0.0)
    below = np.vstack([np.zeros(MANY["draws"]), special.expit(cuts - eta), np.ones(MANY["draws"])])
    for values, row in zip(np.diff(below, axis=0), base["chances"]):
        told(values, row, "chance", "se", "ci")
    assert sum(c["chance"] for c in base["chances"]) == pytest.approx(1.0)
    told(eta - cuts.mean(axis=0), base, "mean", "se", "ci")


def test_contrasts(made):
    fit, posterior, draws = made("slopes")
    d = fit.terms(contrast=["sand - clay = 0.5", "2*rain"], posterior=posterior).to_dict()
    one, two = d["contrasts"]
    told(draws["soil[sand]"], one, "estimate", "se", "ci")
    assert one["chance_above"] == np.mean(draws["soil[sand]"] > 0.5) and one["against"] == 0.5
    told(2 * draws["rain"], two, "estimate", "se", "ci")
    assert d["tests"] == []


def above(draws, groups, here, level, term):
    """Effects of the units that a level lies in."""
    parents = [
        g for g in groups if g is not here and here["group"].endswith(f" in {g['group']}") and term in g["terms"]
    ]
    return sum(draws[f"{g['group']} {level.split(' in ')[-1]}: {term}"] for g in parents)


@pytest.mark.few(3)
@pytest.mark.parametrize("name", UNITS)
def test_groups_are_those_of_the_posterior(made, name):
    fit, posterior, draws = made(name)
    own, d = posterior.to_dict()["groups"], fit.groups(posterior=posterior).to_dict()["groups"]
    for here, there in zip(own, d, strict=True):
        for one, other in zip(here["rows"], there["rows"], strict=True):
            for term in here["terms"]:
                assert other["effects"][term] == pytest.approx(one["effects"][term], rel=1e-9, abs=1e-12)
                assert other["se"][term] == pytest.approx(one["sd"][term], rel=1e-9)
                assert other["ci"][term] == pytest.approx(one["ci"][term], rel=1e-9)
                u = draws[f"{here['group']} {one['level']}: {term}"]
                if term != "spread":
                    whole = u + draws.get(term, 0.0) + above(draws, own, here, one["level"], term)
                    assert other["coefficients"][term] == pytest.approx(whole.mean())
                    assert other["coefficients_ci"][term] == pytest.approx(np.quantile(whole, [0.025, 0.975]))
        ranks = sorted(r["rank"] for r in there["rows"])
        assert ranks == list(range(1, len(ranks) + 1))
        for row in there["rows"]:
            assert 1 <= row["rank_ci"][0] <= row["rank_ci"][1] <= len(ranks)


def test_what_is_left_out_is_said(made, monkeypatch):
    """Fewer draws for predictions, no order of very many levels: neither happens in silence."""
    from bold_orchard.sampling.answers import groups, predictions

    fit, posterior, _ = made("slopes")
    monkeypatch.setattr(predictions, "MOST_DRAWS", 100)
    some = fit.predict(posterior=posterior).to_dict()
    assert f"100 of the {MANY['draws']} draws, evenly spaced" in some["notes"][0] and some["posterior"]["draws"] == 100
    monkeypatch.setattr(groups, "MOST_RANKED", 10)
    d = fit.groups(posterior=posterior).to_dict()
    assert "places have no intervals" in d["notes"][0] and "rank_ci" not in d["groups"][0]["rows"][0]


def test_a_units_own_residual_sd(made, frames):
    fit, posterior, draws = made("scatter")
    rows = fit.groups(posterior=posterior).to_dict()["groups"][0]["rows"]
    soil = frames["diary"].groupby("tree")["soil"].first()
    for row in rows:
        own = draws["sd(residual)"] * np.exp(draws[f"tree {row['level']}: spread"])
        own = own * np.exp(draws["spread soil[sand]"] * (soil[row["level"]] == "sand"))
        assert row["residual_sd"] == pytest.approx(own.mean(), rel=1e-9)
        assert row["residual_sd_ci"] == pytest.approx(np.quantile(own, [0.025, 0.975]), rel=1e-9)


@pytest.mark.few(3)
@pytest.mark.parametrize("name", MODELS)
def test_components_stand_where_those_of_the_likelihood_do(made, name):
    """The same rows in the same order; each figure is the mean over draws of what the likelihood's would be there."""
    fit, posterior, draws = made(name)
    likely, d = (fit.components(posterior=p).to_dict() for p in (None, posterior))
    keys = ("group", "kind", "term", "term2")
    if name != "occasions":
        assert [[r[k] for k in keys] for r in d["components"]] == [[r[k] for k in keys] for r in likely["components"]]
    assert [i["group"] for i in d["icc"]] == [i["group"] for i in likely["icc"]]
    for row in d["components"]:
        if row["kind"] == "variance":
            sd = draws[f"sd({row['group']}: {row['term']})"]
            told(sd**2, row, "estimate", "se", "ci")
            assert row["sd"] == pytest.approx(sd.mean(), rel=1e-9)
        if row["kind"] == "covariance":
            assert row["correlation"] == pytest.approx(
                draws[f"correlation({row['group']}: {row['term']}, {row['term2']})"].mean()
            )
    assert sum(r["share"] for r in d["components"] if r["share"] is not None) <= 1.0 + 1e-9
    for i in d["icc"]:
        assert i["ci"][0] <= i["value"] <= i["ci"][1]
    for which in ("marginal", "conditional"):
        assert 0.0 <= d["r2"][f"{which}_ci"][0] <= d["r2"][which] <= d["r2"][f"{which}_ci"][1] <= 1.0


@pytest.mark.few(4)
@pytest.mark.parametrize("name", ["slopes", "ar1", "trials", "vary", "counts", "grades"])
def test_shares_at_one_draw_are_those_of_a_fit_with_these_values(made, name):
    """Every draw put at the likelihood's estimates: ICC and R squared are then the likelihood's own, to rounding."""
    fit, _posterior, draws = made(name)
    estimates = {p["parameter"]: p["estimate"] for p in fit.intervals("wald").to_dict()["parameters"]}
    estimates |= {r["term"]: r["estimate"] for r in fit.to_dict()["fixed"]}
    whole = pd.DataFrame({k: np.full(40, estimates[k]) if k in estimates else v[:40] for k, v in draws.items()})
    whole["chain"] = 1
    from bold_orchard.sampling.answers.draws import Draws
    from bold_orchard.sampling.answers.variation import components

    d = components(Draws(fit.core, {k: whole[k].to_numpy() for k in whole}, "still")).document
    likely = fit.components().to_dict()
    for here, there in zip(d["icc"], likely["icc"], strict=True):
        assert here["value"] == pytest.approx(there["value"], rel=1e-6)
        assert here["share"] == pytest.approx(there["share"], rel=1e-6)
    assert d["r2"]["marginal"] == pytest.approx(likely["r2"]["marginal"], rel=1e-6)
    assert d["r2"]["conditional"] == pytest.approx(likely["r2"]["conditional"], rel=1e-6)
    for here, there in zip(d["components"], likely["components"], strict=True):
        assert here["estimate"] == pytest.approx(there["estimate"], rel=1e-6), here["term"]


def test_a_posterior_tells_icc_and_r_squared_itself(made):
    fit, posterior, _draws = made("slopes")
    shares = {s["quantity"]: s for s in posterior.to_dict()["shares"]}
    d = fit.components(posterior=posterior).to_dict()
    assert list(shares) == ["icc(tree)", "r2(marginal)", "r2(conditional)"]
    assert shares["icc(tree)"]["mean"] == pytest.approx(d["icc"][0]["value"])
    assert shares["r2(marginal)"]["low"] == pytest.approx(d["r2"]["marginal_ci"][0])
    assert shares["icc(tree)"]["likelihood_estimate"] == fit.components().to_dict()["icc"][0]["value"]
    assert "ICC of tree" in str(posterior) and "marginal R²" in str(posterior)


# -- predictions


def test_predictions_of_the_rows_at_hand(made, frames):
    fit, posterior, draws = made("slopes")
    d = fit.predict(posterior=posterior).to_frame()
    for i in (0, 7, 40):
        row = frames["diary"].iloc[i]
        eta = draws["intercept"] + row["rain"] * draws["rain"] + draws["soil[sand]"] * (row["soil"] == "sand")
        whole = eta + draws[f"tree {row['tree']}: intercept"] + row["rain"] * draws[f"tree {row['tree']}: rain"]
        told(whole, {"m": d["predicted"][i], "s": d["se"][i], "c": [d["low"][i], d["high"][i]]}, "m", "s", "c")
        assert d["predicted_average"][i] == pytest.approx(eta.mean())
        assert d["residual"][i] == pytest.approx(row["yield"] - whole.mean())


def test_a_unit_never_seen_has_its_law(made):
    """Two rows of one new tree share the tree's effects: their difference knows nothing of the intercept's variance."""
    fit, posterior, draws = made("slopes")
    new = pd.DataFrame({"rain": [0.0, 0.0], "soil": ["clay", "clay"], "tree": ["new", "other"]})
    d = fit.predict(new, posterior=posterior).to_frame()
    law = np.sqrt(draws["intercept"].var() + np.mean(draws["sd(tree: intercept)"] ** 2))
    assert d["se"].to_numpy() == pytest.approx([law, law], rel=0.2)
    assert list(d["units_known"]) == ["not in the fit: tree"] * 2 or all("tree" in x for x in d["units_known"])
    far = fit.predict(new.assign(rain=[0.0, 50.0], tree="new"), posterior=posterior).to_frame()
    assert far["se"][1] > 20 * far["se"][0]


@pytest.mark.parametrize("name", ["slopes", "scatter", "vary", "ar1", "occasions"])
def test_one_more_observation_scatters_by_what_each_row_does(made, frames, name):
    """Half the interval's width is, as in a normal law of the row's own SD, near 1.96 SDs of mean and residual together."""
    fit, posterior, _ = made(name)
    known, mean = (fit.predict(new_observation=x, posterior=posterior).to_frame() for x in (True, False))
    likely = fit.predict(new_observation=True).to_frame()
    width, there = known["high"] - known["low"], likely["high"] - likely["low"]
    assert (width > mean["high"] - mean["low"]).all()
    assert np.median(width / there) == pytest.approx(1.0, abs=0.2)
    assert np.corrcoef(np.log(width), np.log(there))[0, 1] > (0.6 if name in ("scatter", "vary", "occasions") else -1)
    frame = frames[MODELS[name][1]]
    inside = (frame["yield"].to_numpy() > known["low"]) & (frame["yield"].to_numpy() < known["high"])
    assert 0.85 < inside.mean() <= 1.0


@pytest.mark.parametrize("name", ["trials", "counts"])
def test_one_more_count(made, frames, name):
    fit, posterior, _ = made(name)
    d = fit.predict(new_observation=True, posterior=posterior).to_frame()
    frame = frames["pests"]
    y = (frame["scab"] / frame["fruits"] if name == "trials" else frame["aphids"]).to_numpy()
    assert 0.88 < np.mean((y >= d["low"]) & (y <= d["high"])) <= 1.0
    steps = d["low"] * (frame["fruits"].to_numpy() if name == "trials" else 1.0)
    assert np.allclose(steps[::7], np.round(steps[::7]), atol=0.51)


def test_grades_have_chances_and_no_new_observation(made):
    fit, posterior, _ = made("grades")
    d = fit.predict(posterior=posterior).to_frame()
    assert d[[c for c in d if c.startswith("probability[")]].sum(axis=1).to_numpy() == pytest.approx(np.ones(130))
    with pytest.raises(UsageError, match="read the probabilities"):
        fit.predict(new_observation=True, posterior=posterior)


# -- carried on, and what is refused


@pytest.mark.few(1)
@pytest.mark.parametrize("name", ["slopes", "scatter", "vary", "trials"])
def test_effects_are_carried_from_a_posterior(made, frames, name):
    """Near what is carried about the estimates, and the same for the same seed."""
    fit, posterior, _ = made(name)
    unit = "orchard" if name == "trials" else "tree"
    label = "t" if unit == "tree" else "o"
    r = np.random.default_rng(2)
    levels = [f"{label}{i}" for i in range(14 if unit == "tree" else 8)]
    effects = {row["level"]: row["effects"]["intercept"] for row in fit.groups().to_dict()["groups"][0]["rows"]}
    price = [2.0 * effects[k] + 0.3 * r.normal() for k in levels]
    second, text = pd.DataFrame({unit: levels, "price": price}), f"price = effect({unit}: intercept)"
    one, again, other = (
        fit.carry(second, text, imputations=12, seed=5, posterior=p).to_dict() for p in (posterior, posterior, None)
    )
    assert one == again
    at = [next(f for f in d["fixed"] if f["term"] == f"effect({unit}: intercept)") for d in (one, other)]
    assert at[0]["estimate"] == pytest.approx(at[1]["estimate"], abs=2.5 * (at[0]["se"] + at[1]["se"]))
    assert any("draws of its posterior" in n for n in one["notes"])


def test_what_cannot_be_answered_is_refused_in_a_line(made, tmp_path):
    fit, posterior, draws = made("slopes")
    other = made("nested")[0]
    with pytest.raises(
        OrchardError, match="draws of 'sd\\(tree: intercept\\)', which 'nested' does not have: it is another model's"
    ):
        other.means("soil", posterior=posterior)
    pd.DataFrame(draws).drop(columns="rain").to_csv(tmp_path / "less.csv", index=False)
    with pytest.raises(OrchardError, match="no draws of 'rain', so it is not a posterior of 'slopes'"):
        fit.means("soil", posterior=str(tmp_path / "less.csv"))
    with pytest.raises(UsageError, match="--df is of the likelihood"):
        fit.means("soil", df="normal", posterior=posterior)
    with pytest.raises(UsageError, match="--correction"):
        fit.means("soil", correction="holm", posterior=posterior)
    with pytest.raises(UsageError, match="--method"):
        fit.components("profile", posterior=posterior)
    with pytest.raises(UsageError, match="name one: --contrast"):
        fit.terms(posterior=posterior)
    with pytest.raises(UsageError, match="--keep wrote"):
        fit.groups(posterior="draws.xlsx")
    bare = pd.DataFrame(draws)[[c for c in draws if not c.startswith("tree t")]]
    bare.to_csv(tmp_path / "bare.csv", index=False)
    with pytest.raises(OrchardError, match="holds no effects of units"):
        fit.groups(posterior=str(tmp_path / "bare.csv"))
    assert fit.means("soil", posterior=str(tmp_path / "bare.csv")).to_dict()["posterior"]["draws"] == MANY["draws"]
    few = pd.DataFrame(draws).iloc[:9]
    few.to_csv(tmp_path / "few.csv", index=False)
    with pytest.raises(OrchardError, match="holds 9 draws"):
        fit.groups(posterior=str(tmp_path / "few.csv"))
    (tmp_path / "broken.parquet").write_bytes(b"PAR1 not really")
    with pytest.raises(OrchardError, match="broken or no table"):
        fit.groups(posterior=str(tmp_path / "broken.parquet"))
    odd = pd.DataFrame(draws).iloc[:100].assign(rain=np.nan)
    odd.to_parquet(tmp_path / "odd.parquet")
    with pytest.raises(OrchardError, match="not all numbers"):
        fit.groups(posterior=str(tmp_path / "odd.parquet"))


def test_chains_that_do_not_agree_are_told(made, tmp_path):
    fit, _, draws = made("slopes")
    apart = pd.DataFrame(draws)
    apart["chain"] = np.repeat([1, 2], MANY["draws"] // 2)
    apart["rain"] = apart["rain"] + 5.0 * (apart["chain"] == 2)
    apart.to_parquet(tmp_path / "apart.parquet")
    answer = fit.means("soil", posterior=str(tmp_path / "apart.parquet"))
    assert not answer.converged
    assert "do NOT agree on rain" in str(answer)
    with pytest.raises(OrchardError, match="do NOT agree"):
        fit.carry(pd.DataFrame({"tree": ["t0", "t1", "t2"], "price": [1.0, 2.0, 4.0]}), "price = effect(tree: intercept)",
                  posterior=str(tmp_path / "apart.parquet"))  # fmt: skip


@pytest.mark.parametrize("name", ["ar1", "occasions"])
def test_rows_without_an_outcome_are_given_their_unit_s_errors(made, frames, name):
    """At every draw the conditional mean of the row's error, by its unit's rows alone; of one more outcome its
    conditional SD too."""
    fit, posterior, draws = made(name)
    frame = frames[MODELS[name][1]].reset_index(drop=True)
    new = (
        frame.groupby("tree", sort=False)
        .head(1)
        .assign(season=9 if name == "ar1" else 1, rain=0.3)
        .drop(columns="yield")
    )
    answer = fit.predict(new, posterior=posterior)
    found, count = answer.to_frame(), len(draws["intercept"])
    assert found["given_neighbours"].all() and "given the observed errors of their" in str(answer)
    soil = "soil[sand]" in draws
    for (_, row), told_of in list(zip(new.iterrows(), found.to_dict("records")))[:5]:
        own = frame[frame["tree"] == row["tree"]]
        both = pd.concat([own, row.to_frame().T])
        means = np.empty(count)
        for d in range(count):
            b = {k: draws[k][d] for k in ("intercept", "rain")}
            u = draws[f"tree {row['tree']}: intercept"][d] if name == "ar1" else 0.0
            eta = b["intercept"] + b["rain"] * both["rain"].astype(float).to_numpy() + u
            eta = eta + (draws["soil[sand]"][d] * (both["soil"] == "sand").to_numpy(float) if soil else 0.0)
            r = covariance_at(draws, d, name, both["season"].astype(int).to_numpy())
            means[d] = eta[-1] + r[-1, :-1] @ np.linalg.solve(r[:-1, :-1], own["yield"].to_numpy() - eta[:-1])
        assert told_of["predicted"] == pytest.approx(means.mean(), rel=1e-7, abs=1e-9)
        assert told_of["se"] == pytest.approx(means.std(ddof=1), rel=1e-6)
    wide, plain = (fit.predict(new, posterior=posterior, new_observation=n, seed=1).to_frame() for n in (True, False))
    assert (wide["high"] - wide["low"] >= plain["high"] - plain["low"] - 1e-9).all()
    if name == "ar1":  # far from all that is observed nothing is left to tell
        far = fit.predict(new.assign(season=4000), posterior=posterior).to_frame()
        assert not np.allclose(far["predicted"], plain["predicted"])


def covariance_at(draws, d, name, season):
    if name == "ar1":
        gap = np.abs(season[:, None] - season)
        return draws["sd(residual)"][d] ** 2 * draws["rho"][d] ** gap
    sds = np.array([draws[k][d] for k in sorted(k for k in draws if k.startswith("sd(residual"))])
    r = np.eye(len(sds))
    for i in range(len(sds)):
        for j in range(i):
            r[i, j] = r[j, i] = draws[
                f"correlation(residual: {i}, {j})"
                if f"correlation(residual: {i}, {j})" in draws
                else f"correlation(residual: {j}, {i})"
            ][d]
    return (r * np.outer(sds, sds))[np.ix_(season, season)]


def test_means_of_several_outcomes_are_the_combinations_of_the_draws(frames):
    frame = frames["diary"].assign(sugar=lambda f: 3 - 0.5 * f["yield"] + np.cos(np.arange(len(f))))
    fit = bo.fit("yield, sugar = rain + sugar: soil; each tree: intercept", frame, name="both")
    posterior = fit.sample(chains=1, warmup=80, draws=60, seed=3)
    draws = {k: np.asarray(v) for k, v in posterior.result.kept().items()}
    d = fit.means("soil", posterior=posterior, hold={"rain": 0.5}).to_dict()
    assert [(m["outcome"], m["levels"]["soil"]) for m in d["means"]] == [
        (o, s) for o in ("yield", "sugar") for s in ("clay", "sand")
    ]
    for m in d["means"]:
        values = draws[f"{m['outcome']}: intercept"] + 0.5 * draws[f"{m['outcome']}: rain"]
        values = values + (
            draws["sugar: soil[sand]"] if m["outcome"] == "sugar" and m["levels"]["soil"] == "sand" else 0
        )
        told(values, m, "mean", "se", "ci")
    parts = fit.components(posterior=posterior).to_dict()
    assert all(c["share"] is None for c in parts["components"]) and parts["r2"]["marginal"] is None
    of = {(c["group"], c["term"], c["term2"]): c for c in parts["components"]}
    assert set(of) >= {(c["group"], c["term"], c["term2"]) for c in fit.components().to_dict()["components"]}
    for entry in parts["icc"]:
        between, within = (
            draws[f"sd({p}: {entry['outcome']}{t})"] ** 2 for p, t in (("tree", ": intercept"), ("residual", ""))
        )
        told(
            between / (between + within),
            entry | {"sd": (between / (between + within)).std(ddof=1)},
            "value",
            "sd",
            "ci",
        )
        assert of["residual", entry["outcome"], None]["estimate"] == pytest.approx(within.mean(), rel=1e-9)
    assert [e["outcome"] for e in parts["icc"]] == ["yield", "sugar"]
    one = fit.means("soil", posterior=posterior, outcome="sugar", hold={"rain": 0.5}).to_dict()
    assert [m["mean"] for m in one["means"]] == [m["mean"] for m in d["means"] if m["outcome"] == "sugar"]


@pytest.mark.parametrize("content", [b"\xff\xfea,b\n1,2\n", b"a,a\n1,2\n", b"", b"PAR1 nothing"])
def test_files_of_draws_that_are_broken_are_told_in_a_line(made, tmp_path, content):
    fit, _, _ = made("slopes")
    for ending in (".csv", ".parquet", ".arrow"):
        path = tmp_path / f"m{ending}"
        path.write_bytes(content)
        with pytest.raises(OrchardError, match="make it with: orchard sample"):
            fit.components(posterior=str(path))
