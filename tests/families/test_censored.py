"""Censored outcomes: derivatives, brute-force integrals, limits as numbers and columns, what is predicted."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import integrate, stats

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.families.base import Data
from bold_orchard.families.censored import CENSORED
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.predict import predict
from bold_orchard.inference.prediction.residuals import residuals
from bold_orchard.sentence.parse import read_sentence


def plots(seed=1, n=90, units=9):
    r = np.random.default_rng(seed)
    plot, dose = r.integers(0, units, n), r.normal(size=n)
    y = 1 + 0.6 * dose + 0.7 * r.normal(size=units)[plot] + 0.8 * r.normal(size=n)
    limit = r.choice([0.3, 0.8], n)
    return pd.DataFrame({"plot": [f"p{k}" for k in plot], "dose": dose, "full": y, "limit": limit, "residue": np.maximum(y, limit),
                         "top": np.minimum(y, 2.0), "both": np.clip(y, 0.2, 2.0), "amount": np.maximum(np.exp(y), 1.5)})  # fmt: skip


def made(sentence, frame, family=None, **more):
    return fit(sentence, Table(frame, "t", len(frame)), Settings(options=Options(family=family), **more))


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize("name", ["gaussian", "lognormal", "student"])
def test_derivatives_are_those_of_the_log_likelihood(name, weighted):
    r = np.random.default_rng(2)
    y = np.exp(r.normal(size=50)) if name == "lognormal" else r.normal(size=50)
    low, high = np.full(50, np.quantile(y, 0.3)), np.full(50, np.quantile(y, 0.8))
    data = Data(np.clip(y, low, high), None, r.uniform(0.5, 2, 50) if weighted else None, low, high)
    family = CENSORED[name]({"lognormal": "log"}.get(name, "identity"), data)
    eta, extra, h = 0.8 * r.normal(size=50), np.log([0.7, 4.0])[: len(family.start()[1])], 1e-5
    here, up, down = (family.derivatives(e, extra) for e in (eta, eta + h, eta - h))
    for k in range(3):
        np.testing.assert_allclose((up[k] - down[k]) / (2 * h), here[k + 1], atol=2e-7)
    for k, parts in enumerate(family.extras(eta, extra)):
        ends = [family.derivatives(eta, extra + side * np.eye(len(extra))[k]) for side in (h, -h)]
        for j, part in enumerate(parts):
            np.testing.assert_allclose((ends[0][j] - ends[1][j]) / (2 * h), part, atol=2e-6)


@pytest.mark.few(1)
@pytest.mark.parametrize(
    "column, low, high", [("residue", "limit", "none"), ("top", "none", "2"), ("both", "0.2", "2")]
)
def test_the_log_likelihood_is_the_integral_over_the_units(column, low, high):
    frame = plots()
    f = made(f"censored({column}, {low}, {high}) = dose; each plot: intercept", frame, points=25)
    sd, s = f.result.random[0].sd[0], np.sqrt(f.result.residual.dispersion)
    a, b = (r.estimate for r in f.result.fixed)
    below = frame["limit"] if low == "limit" else 0.2 if low == "0.2" else -np.inf
    above = 2.0 if high == "2" else np.inf
    total = 0.0
    for _, own in frame.assign(low=below, high=above).groupby("plot"):

        def density(u, own=own):
            eta = a + b * own["dose"] + u
            one = np.where(own[column] <= own["low"], stats.norm.cdf(own["low"], eta, s),
                           np.where(own[column] >= own["high"], stats.norm.sf(own["high"], eta, s), stats.norm.pdf(own[column], eta, s)))  # fmt: skip
            return np.prod(one) * stats.norm.pdf(u, 0, sd)

        total += np.log(integrate.quad(density, -6 * sd, 6 * sd, epsabs=0, epsrel=1e-10, limit=200)[0])
    assert f.result.fit.loglik == pytest.approx(total, abs=1e-6)
    assert f.result.rows.censored.below == int((frame[column] <= below).sum())
    assert f.result.rows.censored.above == int((frame[column] >= above).sum())


def test_limits_that_no_row_reaches_are_the_plain_model():
    frame = plots()
    one = made("censored(full, -50, 50) = dose; each plot: intercept", frame)
    two = made("full = dose; each plot: intercept", frame, method="ml")
    assert one.result.fit.loglik == pytest.approx(two.result.fit.loglik, abs=1e-7)
    np.testing.assert_allclose(
        [r.estimate for r in one.result.fixed], [r.estimate for r in two.result.fixed], rtol=1e-5
    )
    assert one.result.residual.dispersion == pytest.approx(two.result.residual.variance, rel=1e-4)
    log = made("censored(amount, 0.001) = dose; each plot: intercept", frame, "lognormal")
    assert log.result.fit.loglik == pytest.approx(
        made("amount = dose; each plot: intercept", frame, "lognormal").result.fit.loglik, abs=1e-7
    )


def test_what_is_written_at_or_below_the_limit_does_not_matter():
    frame = plots()
    one = made("censored(residue, limit) = dose; each plot: intercept", frame)
    frame.loc[frame["residue"] <= frame["limit"], "residue"] = -7.0
    two = made("censored(residue, limit) = dose; each plot: intercept", frame)
    assert one.result.fit.loglik == pytest.approx(two.result.fit.loglik, abs=1e-9)
    three = made("censored(residue, limit) = dose; each plot: intercept", frame.sample(frac=1, random_state=1))
    assert one.result.fit.loglik == pytest.approx(three.result.fit.loglik, abs=1e-8)


def test_estimates_come_back_and_predictions_are_of_the_outcome_itself():
    frame = plots(3, 1500, 60)
    whole = made("full = dose; each plot: intercept", frame, method="ml")
    cut = made("censored(residue, limit) = dose; each plot: intercept", frame)
    naive = made("residue = dose; each plot: intercept", frame, method="ml")
    b = [m.result.fixed[1].estimate for m in (whole, cut, naive)]
    assert abs(b[1] - b[0]) < 0.03 < abs(b[2] - b[0])
    told = predict(cut, Table(frame, "t", len(frame)))
    assert (told.predicted < frame["limit"]).mean() > 0.1
    white = residuals(cut).standardised
    assert abs(white.mean()) < 0.1 and white.std() == pytest.approx(1.0, abs=0.05)


@pytest.mark.parametrize(
    "sentence, family, why",
    [
        ("censored(residue) = dose", None, "lower limit"),
        ("censored(residue, none) = dose", None, "needs a limit"),
        ("censored(residue, 'x') = dose", None, "a number, a column or none"),
        ("full = censored(residue, 0.5)", None, "is an outcome"),
        ("censored(residue, 0.5) = dose; each plot: intercept", "gamma", "not for gamma"),
        ("censored(residue, 3, 2) = dose", None, "not below the upper one in row"),
        ("censored(residue, 90) = dose", None, "at or beyond a limit"),
    ],
)
def test_what_no_limit_is_is_refused(sentence, family, why):
    with pytest.raises((SentenceError, OrchardError), match=why):
        made(sentence, plots(), family)


def test_the_sentence_reads_back():
    for text in (
        "censored(residue, 0.5) = dose",
        "censored(time, none, limit) = dose",
        "censored([the time], -3, [top one]) = dose",
    ):
        assert read_sentence(text).written == text == read_sentence(read_sentence(text).written).written


@pytest.mark.slow
def test_every_command_answers(tmp_path, orchard):
    plots().to_csv(tmp_path / "plots.csv", index=False)
    orchard("fit", "plots.csv", "censored(residue, limit) = dose; each plot: intercept", "--save", "m")
    for words in (["components"], ["intervals"], ["terms"], ["groups"], ["predict", "--new-observation"], ["check"], ["equations"], ["explain"], ["table"],
                  ["simulate", "--csv", "s.csv"], ["show"], ["power", "--quick"], ["draw", "--along", "dose", "--figure", "d.png"]):  # fmt: skip
        done = orchard(words[0], "m", *words[1:], "--json")
        assert done.code == 0 and done.json, (words, done.err)


def test_likelihoods_of_limits_compare_with_their_like_only():
    frame = plots()
    one = made("censored(residue, limit) = dose; each plot: intercept", frame)
    plain = made("residue = dose; each plot: intercept", frame, method="ml")
    heavy = made("censored(residue, limit) = dose; each plot: intercept", frame, "student")
    with pytest.raises(OrchardError, match="some of them known as limits"):
        compare([plain, one.called("one")])
    assert compare([one, heavy.called("heavy")]).to_dict()["tests"][0]["df"] == 1
