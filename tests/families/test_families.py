"""Every family against SciPy's distributions and against differences of its own log-density."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import special, stats

from bold_orchard.families import family_of
from bold_orchard.families.base import Data

CASES = [("binomial", "logit"), ("beta-binomial", "logit"), ("binomial", "probit"), ("binomial", "cloglog"), ("poisson", "log"), ("negative-binomial", "log"),
         ("gamma", "log"), ("beta", "logit"), ("ordinal", "logit"), ("ordinal", "probit"), ("gaussian", "log"), ("lognormal", "log"), ("student", "identity"), ("zero-inflated-poisson", "log"),
         ("zero-inflated-negative-binomial", "log"), ("hurdle-poisson", "log"), ("hurdle-negative-binomial", "log")]  # fmt: skip
WITH_ZEROS = [c for c in CASES if "zero" in c[0] or "hurdle" in c[0]]


def made(name, link, seed=0, n=40, weighted=False):
    r = np.random.default_rng(seed)
    eta = 1.2 * r.normal(size=n)
    y = {"binomial": lambda: r.integers(0, 6, n), "beta-binomial": lambda: r.integers(0, 6, n), "poisson": lambda: r.poisson(3, n), "negative-binomial": lambda: r.poisson(3, n),
         "gamma": lambda: r.gamma(2, size=n), "beta": lambda: r.beta(2, 3, n), "ordinal": lambda: np.append(np.arange(4), r.integers(0, 4, n - 4)),
         "gaussian": lambda: r.normal(3, 1, n), "lognormal": lambda: r.gamma(2, size=n), "student": lambda: r.standard_t(3, n)}.get(name, lambda: r.poisson(3, n) * r.integers(0, 2, n))()  # fmt: skip
    data = Data(
        y.astype(float),
        np.full(n, 5.0) if "binomial" in name and "negative" not in name else None,
        r.uniform(0.5, 2, n) if weighted else None,
    )
    family = family_of(name, link)(link, data)
    return family, eta, family.start()[1] + 0.1


@pytest.mark.parametrize("weighted", [False, True])
@pytest.mark.parametrize(("name", "link"), CASES)
def test_derivatives_are_those_of_the_log_density(name, link, weighted):
    family, eta, extra = made(name, link, weighted=weighted)
    h = 1e-5
    here, up, down = (family.derivatives(e, extra) for e in (eta, eta + h, eta - h))
    for k in range(3):
        np.testing.assert_allclose(
            (up[k] - down[k]) / (2 * h), here[k + 1], atol=1e-7 * max(np.abs(here[k + 1]).max(), 1)
        )
    np.testing.assert_allclose(family.slopes(eta, extra), here[1:3], rtol=1e-12)
    np.testing.assert_allclose(family.value(eta, extra), here[0])
    for k, parts in enumerate(family.extras(eta, extra)):
        more, less = extra.copy(), extra.copy()
        more[k] += h
        less[k] -= h
        ends = family.derivatives(eta, more), family.derivatives(eta, less)
        for j, part in enumerate(parts):
            np.testing.assert_allclose((ends[0][j] - ends[1][j]) / (2 * h), part, atol=1e-6)
    assert np.all(family.expected(eta, extra) > 0)


@pytest.mark.parametrize(("name", "link"), [c for c in CASES if c not in WITH_ZEROS])
def test_densities_and_tails_are_the_textbook_s(name, link):
    family, eta, extra = made(name, link)
    y, mean = family.y, family.mean(eta, extra)
    if name == "ordinal":
        below = np.concatenate([[0], 1 / (1 + np.exp(-family.thresholds(extra))), [1]]) if link == "logit" else None
        p = family.probabilities(np.zeros(1), extra)[0]
        assert p.sum() == pytest.approx(1.0) and (below is None or np.allclose(np.diff(below), p))
        rows = family.probabilities(eta, extra)[np.arange(len(y)), y.astype(int)]
        np.testing.assert_allclose(family.value(eta, extra), np.log(rows))
        return
    theta = np.exp(extra[0]) if len(extra) else None
    law = {"binomial": lambda: stats.binom(5, mean), "beta-binomial": lambda: stats.betabinom(5, theta * mean, theta * (1 - mean)), "poisson": lambda: stats.poisson(mean),
           "negative-binomial": lambda: stats.nbinom(theta, theta / (theta + mean)), "gamma": lambda: stats.gamma(theta, scale=mean / theta),
           "beta": lambda: stats.beta(mean * theta, (1 - mean) * theta), "gaussian": lambda: stats.norm(mean, theta),
           "lognormal": lambda: stats.lognorm(theta, scale=np.exp(eta)),
           "student": lambda: stats.t(np.exp(extra[1]), loc=eta, scale=theta)}[name]()  # fmt: skip
    discrete = name in ("binomial", "beta-binomial", "poisson", "negative-binomial")
    np.testing.assert_allclose(family.value(eta, extra), law.logpmf(y) if discrete else law.logpdf(y), rtol=1e-9)
    lower, upper = family.cdf(y, eta, extra)
    np.testing.assert_allclose(upper, law.cdf(y), rtol=1e-8)
    np.testing.assert_allclose(lower, law.cdf(y - 1) if discrete else law.cdf(y), rtol=1e-8, atol=1e-12)
    np.testing.assert_allclose(family.variance(eta, extra), law.var(), rtol=1e-9)
    slope = (family.mean(eta + 1e-6, extra) - family.mean(eta - 1e-6, extra)) / 2e-6
    np.testing.assert_allclose(family.mean_slope(eta, extra), slope, rtol=1e-6)


@pytest.mark.parametrize("precision", [1e3, 1e5, 1e6])
def test_beta_binomial_rows_of_nearly_one_probability_keep_their_digits(precision):
    r = np.random.default_rng(2)
    m = r.integers(1, 400, 60).astype(float)
    y, eta = np.floor(m * r.random(60)), r.normal(size=60)
    family, extra = family_of("beta-binomial", "logit")("logit", Data(y, m)), np.log([precision])
    plain = family_of("binomial", "logit")("logit", Data(y, m))
    for one, two in zip(family.derivatives(eta, extra), plain.derivatives(eta, np.zeros(0))):
        np.testing.assert_allclose(one, two, rtol=3e5 / precision, atol=3e6 / precision)
    h = 1e-3
    ends = [family.derivatives(eta, extra + side) for side in (h, -h)]
    for k, part in enumerate(family.extras(eta, extra)[0]):
        np.testing.assert_allclose((ends[0][k] - ends[1][k]) / (2 * h), part, atol=2e-6 * np.abs(ends[0][k]).max())


@pytest.mark.parametrize(("name", "link"), WITH_ZEROS)
def test_counts_with_zeros_of_their_own_are_what_summing_their_law_says(name, link):
    family, eta, extra = made(name, link)
    theta, pi = np.exp(extra[0]), special.expit(extra[-1])
    many = np.arange(4000.0)[:, None]
    law = stats.nbinom(theta, theta / (theta + np.exp(eta))) if "negative" in name else stats.poisson(np.exp(eta))
    chance = law.pmf(many)
    if "hurdle" in name:
        chance[0] = 0.0
        chance /= chance.sum(axis=0)
    chance *= 1.0 - pi
    chance[0] += pi
    columns = np.arange(len(eta))
    np.testing.assert_allclose(np.exp(family.value(eta, extra)), chance[family.y.astype(int), columns], rtol=1e-9)
    mean = (many * chance).sum(axis=0)
    np.testing.assert_allclose(family.mean(eta, extra), mean, rtol=1e-9)
    np.testing.assert_allclose(family.variance(eta, extra), (many**2 * chance).sum(axis=0) - mean**2, rtol=1e-7)
    upto = np.cumsum(chance, axis=0)[family.y.astype(int), columns]
    lower, upper = family.cdf(family.y, eta, extra)
    np.testing.assert_allclose(upper, upto, rtol=1e-9)
    np.testing.assert_allclose(lower, upto - chance[family.y.astype(int), columns], atol=1e-12)
    slope = (family.mean(eta + 1e-6, extra) - family.mean(eta - 1e-6, extra)) / 2e-6
    np.testing.assert_allclose(family.mean_slope(eta, extra), slope, rtol=1e-6)


@pytest.mark.parametrize(("name", "link"), CASES)
def test_draws_have_the_family_s_mean_and_spread(name, link):
    family, _, extra = made(name, link, n=50)
    r = np.random.default_rng(3)
    eta = np.full(50, 0.4)
    drawn = np.array([family.draw(eta, extra, r) for _ in range(800)])
    if name == "ordinal":
        share = np.bincount(drawn.ravel().astype(int), minlength=4) / drawn.size
        np.testing.assert_allclose(share, family.probabilities(np.array([0.4]), extra)[0], atol=0.01)
        return
    scale = 5 if name in ("binomial", "beta-binomial") else 1
    assert drawn.mean() == pytest.approx(scale * family.mean(np.array([0.4]), extra)[0], rel=0.03)
    assert drawn.var() == pytest.approx(float(np.mean(family.variance(eta, extra))), rel=0.06)


@pytest.mark.parametrize(
    ("name", "link", "y", "own", "expected"),
    [
        ("negative-binomial", "log", np.arange(5.0), np.log([2.5]), {"dispersion": 2.5}),
        ("gamma", "log", np.arange(1.0, 4.0), np.log([4.0]), {"dispersion": 0.25}),
        ("beta", "logit", np.array([0.2, 0.4]), np.log([7.0]), {"dispersion": 7.0}),
        ("gaussian", "log", np.arange(4.0), np.log([3.0]), {"dispersion": 9.0}),
        ("student", "identity", np.arange(4.0), np.log([2.0, 6.0]), {"dispersion": 4.0, "tail_df": 6.0}),
        ("lognormal", "log", np.arange(1.0, 4.0), np.log([3.0]), {"dispersion": 9.0}),
        ("poisson", "log", np.arange(4.0), np.zeros(0), {}),
        ("hurdle-poisson", "log", np.arange(4.0), np.zeros(1), {"zero_chance": 0.5}),
        ("zero-inflated-negative-binomial", "log", np.arange(4.0), np.log([2.0, 3.0]), {"dispersion": 2.0, "zero_chance": 0.75}),
    ],
)  # fmt: skip
def test_own_parameters_are_reported_on_their_own_scales(name, link, y, own, expected):
    assert family_of(name, link)(link, Data(y)).reported(own) == pytest.approx(expected)


def test_extremes_of_the_linear_predictor_stay_finite():
    for name, link in CASES:
        family, eta, extra = made(name, link)
        for far in (-30.0, 30.0):
            parts = family.derivatives(np.full_like(eta, far), extra)
            if name not in ("gaussian", "gamma"):
                assert all(np.all(np.isfinite(p)) for p in parts), (name, link, far)
    probit, eta, extra = made("binomial", "probit")
    value = probit.value(np.full_like(eta, -12.0), extra)
    expected = probit.y * special.log_ndtr(-12.0) + (5 - probit.y) * special.log_ndtr(12.0)
    np.testing.assert_allclose(value - probit.constant, expected)


def test_a_theta_that_runs_away_leaves_the_poisson_law():
    y = np.arange(12.0)
    wide, narrow = family_of("negative-binomial", "log")("log", Data(y)), family_of("poisson", "log")("log", Data(y))
    eta = np.linspace(-1, 2, 12)
    for log_theta, tolerance in ((18.0, 1e-6), (25.0, 1e-8)):
        np.testing.assert_allclose(
            wide.value(eta, np.array([log_theta])), narrow.value(eta, np.zeros(0)), atol=tolerance
        )
    for log_theta in (9.0, 9.5):  # both sides of the change to the series
        h = 1e-4
        ends = [wide.value(eta, np.array([log_theta + side])) for side in (h, -h)]
        np.testing.assert_allclose(
            (ends[0] - ends[1]) / (2 * h), wide.extras(eta, np.array([log_theta]))[0][0], atol=1e-6
        )


@pytest.mark.parametrize(("name", "link"), CASES)
def test_outcomes_can_be_drawn_at_any_mean(name, link):
    """A wild prior implies means that no data have: the draw is quick, a number, and of the right kind."""
    family, eta, extra = made(name, link)
    for far in (-800.0, -40.0, 0.0, 40.0, 800.0):
        drawn = family.draw(np.full_like(eta, far), extra, np.random.default_rng(3))
        assert np.isfinite(drawn).all(), far
        if name not in ("gaussian", "student"):
            assert (drawn >= 0).all()
        if name in ("beta", "gamma", "lognormal"):
            assert (drawn > 0).all()


@pytest.mark.parametrize("name", ["hurdle-poisson", "hurdle-negative-binomial"])
@pytest.mark.parametrize("eta", [-3.0, 0.5, 7.0, 30.0])
def test_drawn_counts_beyond_a_hurdle_have_the_mean_of_their_law(name, eta):
    family = made(name, "log")[0]
    extra = np.array([1.0] * (len(family.start()[1]) - 1) + [-0.4])
    at = np.full(40, eta)
    rng = np.random.default_rng(11)
    drawn = np.array([family.draw(at, extra, rng) for _ in range(250)]).ravel()
    error = np.sqrt(family.variance(at, extra)[0] / len(drawn))
    assert drawn.mean() == pytest.approx(family.mean(at, extra)[0], abs=4.5 * error)
    assert (drawn == 0).mean() == pytest.approx(special.expit(-0.4), abs=0.02)
