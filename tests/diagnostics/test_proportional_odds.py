"""The check of proportional odds against the likelihood ratio of a dense model with coefficients at every boundary."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import optimize, special

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.diagnostics.checks import check
from bold_orchard.diagnostics.proportional_odds import proportional_odds
from bold_orchard.inference.fit import Settings, fit


def graded(turn, n=900, seed=3):
    """Russet of fruits in four grades; rain acts by 0.6, and by ``turn`` more at the last boundary."""
    r = np.random.default_rng(seed)
    frame = pd.DataFrame({"orchard": r.integers(0, 15, n), "rain": r.normal(size=n), "dew": r.normal(size=n)})
    noise = r.logistic(size=n)
    eta = 0.6 * frame.rain - 0.4 * frame.dew
    above = np.column_stack([eta + 1.0 + noise > 0, eta + noise - 0.3 > 0, eta + turn * frame.rain + noise - 1.2 > 0])
    frame["russet"] = np.cumprod(above, axis=1).sum(axis=1)
    return frame


def fitted(frame, sentence="russet = rain + dew"):
    return fit(sentence, Table(frame, "t", len(frame)), Settings(options=Options(family="ordinal")))


def dense(frame, free):
    """Maximum of the log-likelihood with rain's coefficient free at every boundary, or common."""
    y, x, z = frame.russet.to_numpy(), frame.rain.to_numpy(), frame.dew.to_numpy()

    def minus(v):
        below = special.expit(v[:3] - x[:, None] * (v[4:7] if free else v[4]) - z[:, None] * v[3])
        whole = np.column_stack([np.zeros(len(y)), below, np.ones(len(y))])
        return -np.log(np.maximum(np.diff(whole, axis=1)[np.arange(len(y)), y], 1e-12)).sum()

    start = np.array([-1.0, 0.3, 1.2, -0.4, 0.6, 0.6, 0.6])[: 7 if free else 5]
    return optimize.minimize(minus, start, method="BFGS")


@pytest.mark.parametrize("turn", [0.0, 0.3])
def test_the_score_is_near_the_likelihood_ratio_and_the_boundaries_near_their_estimates(turn):
    frame = graded(turn)
    rain, dew = proportional_odds(fitted(frame))
    wide, narrow = dense(frame, True), dense(frame, False)
    assert rain["df"] == 2 and rain["chisq"] == pytest.approx(2 * (narrow.fun - wide.fun), rel=0.15, abs=0.3)
    estimates = [b["estimate"] for b in rain["boundaries"]]
    np.testing.assert_allclose(estimates, wide.x[4:7], atol=0.06)
    assert [b["boundary"] for b in rain["boundaries"]] == ["0|1", "1|2", "2|3"] and dew["p"] > 0.01


@pytest.mark.slow
def test_a_term_that_turns_is_told_with_what_to_ask_and_others_are_not():
    frame = graded(0.9)
    made = check(fitted(frame, "russet = rain + dew; each orchard: intercept"))
    words = [f for f in made["findings"] if f["check"] == "proportional odds"]
    assert [(f["where"], f["speaks"]) for f in words] == [("rain", True)] and "--family binomial" in words[0]["advice"]
    scaled = frame.assign(rain=1000 * frame.rain + 5)
    again = check(fitted(scaled, "russet = rain + dew; each orchard: intercept"))
    one, two = made["proportional_odds"][0], again["proportional_odds"][0]
    assert two["chisq"] == pytest.approx(one["chisq"], rel=2e-3)
    assert two["boundaries"][0]["estimate"] == pytest.approx(one["boundaries"][0]["estimate"] / 1000, rel=1e-3)


def test_two_grades_have_one_boundary_and_nothing_to_test():
    frame = graded(0.0)
    frame["russet"] = (frame.russet > 1) * 1
    made = check(fitted(frame))
    assert made["proportional_odds"] == [] and not [f for f in made["findings"] if f["check"] == "proportional odds"]
