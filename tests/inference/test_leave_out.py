"""Units left out: every score is that of a refit done by hand, its density written out or integrated by brute force."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import special, stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError
from bold_orchard.progress import silent
from bold_orchard.validation.leave_out import leave_out as leave_units_out
from builders import diaries, trial


def scores(*fits, leave_out, folds=None, seed=1):
    """Each fit's scores by its name."""
    made = leave_units_out([f.core for f in fits], leave_out, folds, seed, silent)
    return {one.name: one.document(leave_out) for one in made}


@pytest.fixture(scope="module")
def frame():
    made = trial(trees=32, keep=0.8)
    made["orchard"] = made["orchard"].astype(str)
    return made


SENTENCES = [
    "yield = centre(rain); each orchard: intercept + centre(rain); each tree in orchard: intercept",
    "yield = rain; each tree in orchard: intercept; each orchard: intercept; within tree: ar1(week); spread = soil",
]


@pytest.mark.few(1)
@pytest.mark.parametrize("sentence", SENTENCES)
def test_scores_are_those_of_refits_by_hand(frame, sentence):
    fit = bo.fit(sentence, frame, name="m", method="ml")
    found = scores(fit, leave_out="orchard")["m"]
    errors = []
    for entry in found["levels"]:
        left = frame["orchard"] == entry["level"]
        made = bo.fit(sentence, frame[~left], method="ml").to_dict()
        part = frame[left]
        b = {r["term"]: r["estimate"] for r in made["fixed"]}
        rain = part["rain"].to_numpy()
        x = rain - (frame[~left]["rain"].mean() if "centre" in sentence else 0.0)
        mean = b["intercept"] + b["centre(rain)" if "centre" in sentence else "rain"] * x
        same = part["tree"].to_numpy()[:, None] == part["tree"].to_numpy()
        v = np.zeros((len(part), len(part)))
        for r in made["random"]:
            z = np.column_stack([np.ones(len(part)), x][: len(r["terms"])])
            v += (z @ np.array(r["covariance"]) @ z.T) * (same if r["group"] == "tree in orchard" else 1.0)
        p, week = made["residual"]["parameters"], part["week"].to_numpy()
        r = np.where(same, p["rho"] ** np.abs(week[:, None] - week[None, :]), 0.0) if "rho" in p else np.eye(len(part))
        log_sd = np.zeros(len(part))
        for row in p.get("spread", []):
            log_sd += row["estimate"] * (part["soil"].to_numpy() == row["term"][5:-1])
        v += made["residual"]["variance"] * r * np.exp(log_sd[:, None] + log_sd)
        assert entry["log_score"] == pytest.approx(stats.multivariate_normal(mean, v).logpdf(part["yield"]), abs=1e-5)
        errors.append(part["yield"].to_numpy() - mean)
    assert found["rmse"] == pytest.approx(np.sqrt(np.mean(np.concatenate(errors) ** 2)), rel=1e-6)
    total = [e["log_score"] for e in found["levels"]]
    assert found["log_score"] == pytest.approx(sum(total)) and found["folds"] == len(total)
    assert found["se"] == pytest.approx(np.sqrt(len(total)) * np.std(total, ddof=1))


@pytest.mark.slow
def test_a_binomial_score_is_the_integral_over_the_unit():
    r = np.random.default_rng(3)
    frame = pd.DataFrame({"orchard": [f"o{i}" for i in np.repeat(np.arange(14), 12)], "rain": r.normal(size=168)})
    eta = 0.5 * frame["rain"] + np.repeat(r.normal(size=14), 12)
    frame["ripe"] = (r.random(168) < special.expit(eta)).astype(int)
    sentence = "ripe = rain; each orchard: intercept"
    fit = bo.fit(sentence, frame, family="binomial", points=25, name="m")
    found = scores(fit, leave_out="orchard")["m"]
    for entry in found["levels"][:4]:
        left = frame["orchard"] == entry["level"]
        made = bo.fit(sentence, frame[~left], family="binomial", points=25).result
        b, sd = [row.estimate for row in made.fixed], made.random[0].sd[0]
        grid = np.linspace(-9 * sd, 9 * sd, 6001)
        at = b[0] + b[1] * frame[left]["rain"].to_numpy()[:, None] + grid
        y = frame[left]["ripe"].to_numpy()[:, None]
        logs = np.where(y == 1, special.log_expit(at), special.log_expit(-at)).sum(axis=0) + stats.norm.logpdf(
            grid, scale=sd
        )
        assert entry["log_score"] == pytest.approx(np.log(np.trapezoid(np.exp(logs), grid)), abs=2e-5)


@pytest.mark.few(1)
@pytest.mark.parametrize("family", ["poisson", "ordinal", "gamma"])
def test_other_families_have_scores(family):
    frame = diaries(units=24)
    frame["yield"] = frame["yield"].clip(0.5)
    frame["outcome"] = {
        "poisson": np.round(frame["yield"]),
        "gamma": frame["yield"],
        "ordinal": pd.qcut(frame["yield"], 3, labels=["a", "b", "c"]),
    }[family]
    one = bo.fit("outcome = rain; each tree: intercept", frame, family=family, name="one")
    two = bo.fit("outcome = intercept; each tree: intercept", frame, family=family, name="two")
    found = scores(one, two, leave_out="tree", folds=4, seed=2)
    assert found["one"]["log_score"] > found["two"]["log_score"] and found["one"]["rmse"] < found["two"]["rmse"]
    again = scores(one, two, leave_out="tree", folds=4, seed=2)
    assert again == found and len(found["one"]["levels"]) == 24


def test_names_of_levels_and_order_of_rows_change_nothing(frame):
    fit = bo.fit(SENTENCES[0], frame, name="m")
    other = frame.sample(frac=1, random_state=2).assign(orchard=lambda f: "z" + f["orchard"])
    again = bo.fit(SENTENCES[0], other, name="m")
    one, two = (scores(f, leave_out="orchard")["m"] for f in (fit, again))
    assert two["log_score"] == pytest.approx(one["log_score"], abs=1e-5) and two["rmse"] == pytest.approx(
        one["rmse"], rel=1e-7
    )


def test_the_page_the_picture_and_what_cannot_be(frame, quick):
    frame.to_csv(quick.folder / "t.csv", index=False)
    quick("fit", "t.csv", "yield = rain; each orchard: intercept", "--save", "a")
    quick("fit", "t.csv", "yield = rain + soil; each orchard: intercept", "--save", "b")
    done = quick("compare", "a", "b", "--leave-out", "orchard", "--folds", "4", "--figure", "c.png")
    assert done.code == 0 and "not seen, in 4 folds" in done.out and "behind the best" in done.out
    for words, said in ((("--leave-out", "orchards"), "did you mean 'orchard'"), (("--folds", "3"), "name the unit"),
                        (("--leave-out", "orchard", "--folds", "99"), "from 2 to 8")):  # fmt: skip
        refused = quick("compare", "a", "b", *words)
        assert refused.code == 2 and said in refused.err
    scatter = bo.fit("yield = rain; each tree: intercept + spread", frame, force=True)
    with pytest.raises(OrchardError, match="spread of its own"):
        bo.compare(scatter, bo.fit("yield = rain; each tree: intercept", frame), leave_out="tree", force=True)
