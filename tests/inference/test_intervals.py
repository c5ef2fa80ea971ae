"""Profile, Wald and bootstrap intervals against dense profiles, closed forms and what the model says of itself."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest
from scipy import optimize, stats

import dense
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.equations import residual_covariance, write_out
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.intervals.intervals import intervals
from bold_orchard.inference.variances.quantities import quantities
from builders import make_trees


def table_of(frame):
    return Table(frame, "t", len(frame))


def by_name(document):
    return {p["parameter"]: p for p in document["parameters"]}


def dense_deviance(frame, reml=True, fixed=None):
    """(sd0, sd1, r, sigma) -> deviance of intercept + rain per orchard; ``fixed`` holds one coefficient: (place, value)."""
    codes = pd.factorize(frame["orchard"])[0]
    z = np.column_stack([np.ones(len(frame)), frame["rain"]])
    x, y = z, frame["yield"].to_numpy()
    if fixed is not None:
        x, y = np.delete(z, fixed[0], axis=1), y - fixed[1] * z[:, fixed[0]]

    def value(sd0, sd1, r, sigma):
        g = np.array([[sd0**2, r * sd0 * sd1], [r * sd0 * sd1, sd1**2]])
        return dense.deviance(y, x, dense.covariance(len(y), [(codes, z)], [g], sigma**2), reml)

    return value


def free(v):
    """Unbounded coordinates -> (sd0, sd1, r, sigma)."""
    return np.exp(v[0]), np.exp(v[1]), np.tanh(v[2]), np.exp(v[3])


def least(f, start, held=None):
    """Minimum over the other coordinates with one held at a value."""
    others = [i for i in range(4) if held is None or i != held[0]]

    def at(w):
        v = np.empty(4)
        v[others] = w
        if held is not None:
            v[held[0]] = held[1]
        return f(*free(v))

    return dense.search(at, np.asarray(start)[others]).fun


@pytest.mark.few(2)
@pytest.mark.parametrize(("place", "name"), [(0, "sd(orchard: intercept)"), (2, "correlation(orchard: intercept, rain)"),
                                             (3, "sd(residual)")])  # fmt: skip
def test_a_profile_is_the_dense_one(place, name):
    frame = make_trees(5, orchards=10, rows=60, slope_sd=0.9, orchard_sd=1.5)
    made = fit("yield = rain; each orchard: intercept + rain", table_of(frame))
    row = by_name(intervals(made, "profile"))[name]
    sd, r = made.result["random"][0]["sd"], made.result["random"][0]["correlation"][0][1]
    start = np.array([np.log(sd[0]), np.log(sd[1]), np.arctanh(r), np.log(made.result["residual"]["sd"])])
    f = dense_deviance(frame)
    back = [np.log, np.log, np.arctanh, np.log][place]
    for end in ("low", "high"):
        assert abs(row[end]) > 1e-3
        rise = least(f, start, (place, back(row[end]))) - made.evaluation.deviance
        assert rise == pytest.approx(stats.chi2.ppf(0.95, 1), abs=2e-4), end


def test_fixed_effects_follow_the_ml_deviance():
    frame = make_trees(5, orchards=10, rows=60, slope_sd=0.9, orchard_sd=1.5)
    made = fit("yield = rain; each orchard: intercept + rain", table_of(frame))
    ml = fit("yield = rain; each orchard: intercept + rain", table_of(frame), Settings(method="ml"))
    row = by_name(intervals(made, "profile", 0.9))["rain"]
    sd, r = ml.result["random"][0]["sd"], ml.result["random"][0]["correlation"][0][1]
    start = np.array([np.log(sd[0]), np.log(sd[1]), np.arctanh(r), np.log(ml.result["residual"]["sd"])])
    for end in ("low", "high"):
        rise = least(dense_deviance(frame, False, (1, row[end])), start) - ml.evaluation.deviance
        assert rise == pytest.approx(stats.chi2.ppf(0.9, 1), abs=2e-4)


def test_few_levels_are_said_to_shorten_profiles():
    for orchards, told in ((10, True), (24, False)):
        made = fit("yield = rain; each orchard: intercept", table_of(make_trees(5, orchards=orchards, rows=96)))
        notes = intervals(made, "profile")["notes"]
        assert any(f"Orchard has {orchards} levels" in n and "--method wald" in n for n in notes) is told
        assert not any("levels:" in n for n in intervals(made, "wald")["notes"])


def test_without_units_the_profiles_have_closed_forms():
    frame = make_trees(1)
    made = fit("yield = rain", table_of(frame), Settings(method="ml"))
    n, rss = len(frame), made.evaluation.rss
    found = by_name(intervals(made, "profile"))
    q = stats.chi2.ppf(0.95, 1)
    rise = lambda s: n * np.log(s**2) + rss / s**2 - (n * np.log(rss / n) + n) - q  # noqa: E731
    hat = np.sqrt(rss / n)
    assert found["sd(residual)"]["low"] == pytest.approx(optimize.brentq(rise, 0.3 * hat, hat), rel=1e-5)
    assert found["sd(residual)"]["high"] == pytest.approx(optimize.brentq(rise, hat, 3 * hat), rel=1e-5)
    width = np.sqrt(n * np.expm1(q / n)) * made.result["fixed"][1]["se"]
    assert found["rain"]["high"] - found["rain"]["estimate"] == pytest.approx(width, rel=1e-5)


@pytest.mark.few(1)
@pytest.mark.parametrize("sentence", [
    "yield = rain; each noise: intercept + sun", "yield = rain; each orchard (diagonal): intercept + sun",
    "yield = rain; each orchard (exchangeable): intercept + sun", "yield = rain; each orchard (identity): intercept + sun",
    "yield = rain; each orchard: intercept; within orchard: ar1(week)", "yield = rain; within orchard: exchangeable",
    "yield = rain; each orchard: intercept; spread = soil + sun", "yield = rain; each orchard: intercept; each season: intercept",
])  # fmt: skip
def test_every_end_is_where_the_deviance_has_risen_enough(sentence):
    """The profile's definition, checked by a search of another kind over the criterion itself."""
    frame = make_trees(3, orchards=12, rows=150, slope_sd=0.5)
    r = np.random.default_rng(4)
    frame["week"], frame["soil"] = frame.groupby("orchard").cumcount() + 1, r.choice(["a", "b"], 150)
    frame["season"], frame["noise"] = r.integers(0, 5, 150).astype(str), r.integers(0, 10, 150).astype(str)
    made = fit(sentence, table_of(frame))
    found = by_name(intervals(made, "profile"))
    e, c = made.evaluation, made.criterion
    for q in quantities(made):
        row = found[q.parameter.label]
        assert row["low"] is not None and row["high"] is not None, q.parameter
        assert row["low"] <= row["estimate"] <= row["high"]
        for end in (row["low"], row["high"]):
            if end in q.ends:
                continue

            def objective(psi):
                try:
                    there = c.at(psi[:-1])
                except np.linalg.LinAlgError:  # it left the model
                    return 1e6
                there = there.with_sigma2(float(np.exp(psi[-1])))
                return there.deviance - e.deviance

            held = {"type": "eq", "fun": lambda psi, q=q, end=end: 10 * (q.back(q.at(psi)) - end) / max(abs(end), 0.1)}
            r, rises = np.random.default_rng(1), []
            for _ in range(6):
                start = e.psi + np.r_[r.normal(0.0, 0.2, len(e.theta)), 0.0]
                done = optimize.minimize(objective, start, method="SLSQP", constraints=[held],
                                         options={"ftol": 1e-11, "maxiter": 400})  # fmt: skip
                rises += [done.fun] if abs(held["fun"](done.x)) < 1e-6 else []
            assert min(rises) == pytest.approx(stats.chi2.ppf(0.95, 1), abs=1e-3), (q.parameter, end)


def test_an_end_on_the_boundary_is_the_boundary():
    frame = make_trees(2, orchards=8, rows=80)
    r = np.random.default_rng(0)
    frame["noise"] = r.integers(0, 8, 80).astype(str)
    made = fit("yield = rain; each orchard: intercept; each noise: intercept", table_of(frame))
    assert "noise" in made.result["convergence"]["boundary_terms"]
    profile, wald = (by_name(intervals(made, m))["sd(noise: intercept)"] for m in ("profile", "wald"))
    assert profile["estimate"] == 0 and profile["low"] == 0 and profile["high"] > 0.1
    assert wald["low"] == 0 and wald["high"] is None


def test_wald_limits_are_on_the_scales_promised():
    frame = make_trees(5, orchards=10, rows=60, slope_sd=0.9, orchard_sd=1.5)
    made = fit("yield = rain; each orchard: intercept + rain", table_of(frame))
    found = by_name(intervals(made, "wald"))
    sd = found["sd(orchard: intercept)"]
    assert sd["low"] * sd["high"] == pytest.approx(sd["estimate"] ** 2)
    r = found["correlation(orchard: intercept, rain)"]
    assert np.arctanh(r["low"]) + np.arctanh(r["high"]) == pytest.approx(2 * np.arctanh(r["estimate"]))
    assert [found["rain"]["low"], found["rain"]["high"]] == pytest.approx(made.result["fixed"][1]["ci"])


@pytest.mark.few(1)
@pytest.mark.parametrize("sentence", [
    "yield = rain; each orchard: intercept + rain", "yield = rain; each orchard: intercept; within orchard: ar1(week)",
    "yield = rain; within orchard: exchangeable", "yield = rain; each orchard: intercept; spread = soil",
])  # fmt: skip
def test_simulated_outcomes_have_the_covariance_of_the_model(sentence):
    frame = make_trees(3, orchards=4, rows=16, slope_sd=0.8)
    frame["week"], frame["soil"] = frame.groupby("orchard").cumcount() + 1, np.resize(["a", "b"], 16)
    frame = frame.sample(frac=1, random_state=1).reset_index(drop=True)
    made = fit(sentence, table_of(frame))
    drawn = np.array([made.model.simulate(np.random.default_rng([1, i])) for i in range(8_000)])
    v = write_out(made)
    expected = v["Z"].values @ v["G"].values @ v["Z"].values.T + residual_covariance(made.model)
    scale = np.sqrt(np.outer(np.diag(expected), np.diag(expected)))
    assert np.abs((np.cov(drawn.T) - expected) / scale).max() < 0.08
    x = np.column_stack(made.design.fixed.values)
    assert np.abs(drawn.mean(axis=0) - x @ made.evaluation.b).max() < 0.08 * np.sqrt(np.diag(expected)).max()


@pytest.mark.slow
def test_the_bootstrap_repeats_by_seed_and_agrees_with_the_normal_where_it_should():
    frame = make_trees(7, orchards=20, rows=400)
    made = fit("yield = rain; each orchard: intercept", table_of(frame))
    one, two = (intervals(made, "bootstrap", samples=200, seed=3) for _ in range(2))
    assert one == two and "200 simulated" in one["notes"][0]
    wald, boot = by_name(intervals(made, "wald")), by_name(one)
    for name in ("rain", "sd(residual)"):
        width = wald[name]["high"] - wald[name]["low"]
        assert abs(boot[name]["high"] - wald[name]["high"]) < 0.25 * width
        assert abs(boot[name]["low"] - wald[name]["low"]) < 0.25 * width


@pytest.mark.slow
def test_the_command_writes_all_forms(orchard, harvest):
    orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m")
    d = orchard("intervals", "m", "--json", "--csv", "i.csv", "--figure", "i.png").json
    assert d["schema"] == "bold-orchard/intervals/1" and d["method"] == "profile" and d["confidence"] == 0.95
    assert {"parameter", "estimate", "low", "high"} <= set(d["parameters"][0])
    assert list(pd.read_csv(orchard.folder / "i.csv")["parameter"]) == [p["parameter"] for p in d["parameters"]]
    assert (orchard.folder / "i.png").stat().st_size > 10_000
    boot = orchard("intervals", "m", "--method", "bootstrap", "--samples", "40", "--figure", "b.svg")
    assert boot.code == 0 and "simulated outcomes" in boot.out and (orchard.folder / "b.svg").exists()
    assert orchard("intervals", "m", "--samples", "40").code == 2
    assert orchard("intervals", "m", "--method", "bootstrap", "--samples", "5").code == 2
    narrow = orchard("intervals", "m", "--method", "wald", "--confidence", "0.5", "--json").json
    assert narrow["parameters"][1]["high"] < d["parameters"][1]["high"]


def test_bad_requests():
    made = fit("yield = rain; each orchard: intercept", table_of(make_trees(1)))
    with pytest.raises(UsageError, match="the method is"):
        intervals(made, "magic")
    failed = replace(made, model=replace(made.model, found=replace(made.model.found, converged=False)))
    with pytest.raises(OrchardError, match="did not converge"):
        intervals(failed)
    assert intervals(failed, "wald", force=True)["parameters"]
