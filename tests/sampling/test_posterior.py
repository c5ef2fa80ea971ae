"""Draws against grid integration, dense densities, and laws that are known."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import special, stats

from bold_orchard.design.design import Options
from bold_orchard.inference.equations import residual_covariance
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.sampling import chains, diagnostics, nuts
from bold_orchard.sampling.laws import read_priors
from bold_orchard.sampling.leave_one_out import leave_one_out, pareto
from bold_orchard.sampling.posterior import SampleOptions, sample, target_of
from bold_orchard.sampling.priors import priors_of
from bold_orchard.sampling.rows import log_densities
from builders import diaries, groves, inspections, table_of

GAUSSIAN = {
    "slopes": ("yield = rain; each tree: intercept + rain", [], {}),
    "crossed": ("yield = rain + soil; each tree: intercept; each season: intercept", ["rain = student(3, 0, 1)"], {}),
    "vary": ("yield = rain; each tree (vary with soil): intercept; each season: intercept", [], {}),
    "weights": (
        "yield = rain; each tree (exchangeable): intercept + rain; spread = soil",
        ["fixed = flat"],
        {"weights": "w"},
    ),
    "serial": ("yield = rain; each tree: intercept; within tree: ar1(season)", [], {}),
    "occasions": ("yield = rain; within tree: unstructured(season)", [], {}),
}
OTHERS = {
    "spread": ("yield = rain; each tree: intercept + spread; spread = soil", [], {}),
    "spread below": (
        "yield = rain; each orchard: intercept; each tree: rain + spread; spread = soil",
        [],
        {"weights": "w"},
    ),
    "binomial": ("infected = rain; each orchard: intercept", [], {"family": "binomial"}),
    "counts": (
        "aphids = rain; each orchard: intercept + rain",
        ["dispersion = exponential(0.2)"],
        {"family": "negative-binomial"},
    ),
    "grades": (
        "grade = rain; each orchard: intercept; each spray: intercept",
        [],
        {"family": "ordinal", "force": True},
    ),
}


def fitted(name):
    sentence, priors, options = (GAUSSIAN | OTHERS)[name]
    frame = diaries(units=16, rows=5) if name in GAUSSIAN or name.startswith("spread") else inspections(n=120, units=10)
    made = fit(sentence, table_of(frame), Settings(options=Options(**options)))
    return made, target_of(made, priors_of(made, read_priors(priors)))


@pytest.mark.few(7)
@pytest.mark.parametrize("name", GAUSSIAN | OTHERS)
def test_gradient(name):
    _, target = fitted(name)
    z = target.start()
    z = z + 0.05 * np.sin(np.arange(len(z)) + 1.0)
    gradient = target(z)[1]
    for i in range(min(len(z), 40)):
        h = 1e-5 * np.eye(len(z))[i]
        slope = (target(z + h)[0] - target(z - h)[0]) / 2e-5
        assert gradient[i] == pytest.approx(slope, abs=2e-6 * max(1.0, np.abs(gradient).max()))


def dense_log_posterior(made, target, z, priors):
    """V with the priors of the coefficients in it: y is normal around X m with covariance V + X S X'."""
    design, e = made.design, made.evaluation
    x = np.column_stack(design.fixed.values)
    v = np.zeros((len(x), len(x)))
    log_prior = 0.0
    for covariance, clause, at in zip(priors.covariances, design.clauses, target.places):
        low, _, value, _ = covariance.at(z[at])
        zc, codes = np.column_stack(clause.part.values), design.blocks[clause.block].unit.codes
        v += (zc @ low @ low.T @ zc.T) * (codes[:, None] == codes)
        log_prior += value
    sd = np.exp(z[target.sd_at])
    v += (
        sd**2 * np.eye(len(x))
        if e.criterion.correlated is None
        else residual_covariance(made.model) * (sd**2 / e.sigma2)
    )
    mean = np.array([law.normal[0] for law in priors.fixed])
    spread = np.array([1 / law.normal[1] for law in priors.fixed])
    log_prior += priors.own[made.catalogue.residual_sd].density(float(sd))[0] + z[target.sd_at]
    return (
        stats.multivariate_normal(x @ mean, v + x @ np.diag(spread) @ x.T, allow_singular=True).logpdf(design.y)
        + log_prior
    )


def test_integrated_density_is_the_dense_one():
    made, target = fitted("slopes")
    start = target.start()
    points = [start, start + 0.3, start - 0.2 * np.arange(len(start))]
    mine = [target(z)[0] for z in points]
    dense = [dense_log_posterior(made, target, z, target.priors) for z in points]
    assert np.diff(mine) == pytest.approx(np.diff(dense), abs=1e-7)


def grid_of(target, size=61, width=5.0):
    """Weights of the posterior on a grid of two coordinates."""
    centre = target.start()
    axes = [np.linspace(-width, width, size) * s for s in np.sqrt(np.diag(target.metric(centre).cov))]
    points = np.array([[centre[0] + a, centre[1] + b] for a in axes[0] for b in axes[1]])
    logs = np.array([target(p)[0] for p in points])
    weight = np.exp(logs - logs.max())
    return points, weight / weight.sum()


@pytest.mark.slow
def test_draws_agree_with_a_grid():
    frame = groves(12, 4)
    made = fit("yield = rain; each orchard: intercept", table_of(frame), Settings())
    target = target_of(made, priors_of(made, {}))
    points, weight = grid_of(target)
    result = sample(made, SampleOptions(draws=600, warmup=300, seed=3), lambda *_: None)
    assert result.converged and result.divergent == 0
    by_name = {p.parameter: p for p in result.parameters}
    for name, column in (("sd(orchard: intercept)", 0), ("sd(residual)", 1)):
        sd = np.exp(points[:, column])
        mean = float(weight @ sd)
        spread = float(np.sqrt(weight @ (sd - mean) ** 2))
        row = by_name[name]
        assert abs(row.mean - mean) < 4 * spread / np.sqrt(row.effective_bulk)
        assert row.sd == pytest.approx(spread, rel=0.12)
        order = np.argsort(sd)
        total = np.cumsum(weight[order])
        assert row.low == pytest.approx(sd[order][np.searchsorted(total, 0.025)], abs=0.25 * spread)
        assert row.high == pytest.approx(sd[order][np.searchsorted(total, 0.975)], abs=0.35 * spread)


@pytest.mark.slow
def test_draws_of_a_binomial_model_agree_with_quadrature():
    frame = groves(10, 6)
    made = fit(
        "ripe = intercept; each orchard: intercept", table_of(frame), Settings(options=Options(family="binomial"))
    )
    codes, y = made.design.units[0].codes, made.design.y
    x, w = np.polynomial.hermite_e.hermegauss(41)
    w = w / w.sum()
    won, n = np.bincount(codes, y), np.bincount(codes)
    bs, logs = np.linspace(-4, 6, 101), np.linspace(-5, 2.5, 101)
    value = np.empty((101, 101))
    for i, b in enumerate(bs):
        for j, s in enumerate(np.exp(logs)):
            p = special.expit(b + s * x)
            likelihood = (p ** won[:, None] * (1 - p) ** (n - won)[:, None]) @ w
            value[i, j] = np.log(likelihood).sum() + logs[j]
    value += stats.norm(0, 10).logpdf(bs)[:, None] + stats.halfnorm(scale=2.5).logpdf(np.exp(logs))
    weight = np.exp(value - value.max())
    weight /= weight.sum()
    result = sample(made, SampleOptions(draws=300, warmup=200, seed=1), lambda *_: None)
    assert result.divergent == 0 and max(p.r_hat for p in result.parameters) < 1.02
    for row, marginal, at in (
        (result.parameters[0], weight.sum(1), bs),
        (result.parameters[1], weight.sum(0), np.exp(logs)),
    ):
        mean = float(marginal @ at)
        spread = float(np.sqrt(marginal @ (at - mean) ** 2))
        assert abs(row.mean - mean) < 4 * spread / np.sqrt(row.effective_bulk)
        assert row.sd == pytest.approx(spread, rel=0.15)


def test_coefficients_and_effects_have_their_exact_law():
    """At one position b is N(mean, cov) of the dense equations, and so are the effects."""
    made, target = fitted("slopes")
    z = target.start()
    rng = np.random.default_rng(2)
    drawn = [target.complete(z, rng) for _ in range(3000)]
    b, u = np.array([d[0] for d in drawn]), np.array([d[1][0][3] for d in drawn])
    design = made.design
    x = np.column_stack(design.fixed.values)
    low = target.priors.covariances[0].at(z)[0]
    sd = np.exp(z[target.sd_at])
    zc, codes = np.column_stack(design.clauses[0].part.values), design.units[0].codes
    big = np.zeros((len(x), 2 * design.units[0].size))
    for a in range(2):
        big[np.arange(len(x)), 2 * codes + a] = zc[:, a]
    w = np.hstack([x, big]) / sd
    prior = np.diag([*(law.normal[1] for law in target.priors.fixed), *np.zeros(big.shape[1])])
    prior[2:, 2:] = np.kron(np.eye(design.units[0].size), np.linalg.inv(low @ low.T))
    cov = np.linalg.inv(w.T @ w + prior)
    side = w.T @ design.y / sd
    side[:2] += [law.normal[0] * law.normal[1] for law in target.priors.fixed]
    mean = cov @ side
    for have, at in ((b, slice(0, 2)), (u, slice(8, 10))):
        errors = np.sqrt(np.diag(cov)[at] / len(drawn))
        assert np.all(np.abs(have.mean(0) - mean[at]) < 4 * errors)
        assert np.cov(have.T) == pytest.approx(cov[at, at], rel=0.15, abs=0.1 * np.diag(cov)[at].min())


def test_density_of_a_row_given_the_others_is_the_dense_one():
    made, target = fitted("slopes")
    z, b = target.start(), made.evaluation.b
    mine = log_densities(target, z, b, [])
    design = made.design
    low, sd = target.priors.covariances[0].at(z)[0], np.exp(z[target.sd_at])
    zc, codes = np.column_stack(design.clauses[0].part.values), design.units[0].codes
    v = (zc @ low @ low.T @ zc.T) * (codes[:, None] == codes) + sd**2 * np.eye(len(zc))
    inverse = np.linalg.inv(v)
    g, t = inverse @ (design.y - np.column_stack(design.fixed.values) @ b), np.diag(inverse)
    assert mine == pytest.approx(stats.norm(0, 1 / np.sqrt(t)).logpdf(g / t), abs=1e-9)


def test_same_seed_same_draws_whatever_the_processors(monkeypatch):
    made, _ = fitted("slopes")
    options = SampleOptions(chains=2, draws=40, warmup=60, seed=9)
    one = sample(made, options, lambda *_: None)
    monkeypatch.setattr(chains, "processors", lambda: 1)
    two = sample(made, options, lambda *_: None)
    assert np.array_equal(one.arrays.draws, two.arrays.draws) and np.array_equal(one.arrays.effects, two.arrays.effects)


@pytest.mark.slow
def test_sampler_on_a_normal_law_of_many_scales():
    sds = np.array([1.0, 100.0, 0.01, 3.0, 1.0])
    target = lambda q: (-0.5 * float((q / sds) @ (q / sds)), -q / sds**2)  # noqa: E731
    metric = nuts.Metric(np.eye(3), np.ones(2))
    made = nuts.sample(target, np.ones(5), metric, 3, 600, 1500, np.random.default_rng(0), lambda i, b: None)
    assert made.positions.std(axis=0) == pytest.approx(sds, rel=0.12)
    assert np.all(np.abs(made.positions.mean(axis=0)) < 0.15 * sds)
    assert not made.diverged.any() and 0.6 < made.acceptance.mean() < 0.98


def test_diagnostics_know_good_chains_from_bad():
    r = np.random.default_rng(1)
    good = r.normal(size=(4, 1000))
    assert diagnostics.rhat(good) < 1.005 and diagnostics.ess_bulk(good) == pytest.approx(4000, rel=0.15)
    assert diagnostics.rhat(good + np.arange(4)[:, None]) > 1.3
    assert diagnostics.rhat(good * np.array([[1], [1], [1], [3]])) > 1.05  # told by the folded one alone
    slow = np.empty((4, 2000))
    slow[:, 0] = r.normal(size=4)
    for i in range(1, 2000):
        slow[:, i] = 0.9 * slow[:, i - 1] + np.sqrt(1 - 0.81) * r.normal(size=4)
    assert diagnostics.ess_bulk(slow) == pytest.approx(8000 * 0.1 / 1.9, rel=0.35)
    assert diagnostics.bfmi(r.normal(size=2000)) == pytest.approx(2.0, abs=0.15)


def test_pareto_and_leave_one_out_of_a_normal_mean():
    r = np.random.default_rng(4)
    shape, scale = pareto(np.sort(stats.genpareto(0.4, scale=2.0).rvs(4000, random_state=r)))
    assert shape == pytest.approx(0.4, abs=0.08) and scale == pytest.approx(2.0, rel=0.12)
    y = r.normal(size=40)
    mu = r.normal(y.mean(), 1 / np.sqrt(40), size=(4000, 1))  # the posterior of a mean, variance known, flat prior
    elpd, shapes, p = leave_one_out(stats.norm(mu, 1).logpdf(y))
    others = (y.sum() - y) / 39
    exact = stats.norm(others, np.sqrt(1 + 1 / 39)).logpdf(y)
    assert elpd == pytest.approx(exact, abs=0.02) and shapes.max() < 0.5 and p == pytest.approx(1.0, abs=0.3)


@pytest.mark.slow
@pytest.mark.parametrize(
    "random", ["intercept", "intercept + rain", "intercept + rain + w", "(diagonal): intercept + rain"]
)
def test_few_levels_have_the_general_density_and_the_general_draws(random):
    """The small products against the general elimination: figures to rounding, draws by their means and covariances."""
    each = f"each tree {random}" if random.startswith("(") else f"each tree: {random}"
    made = fit(f"yield = rain + soil; {each}", table_of(diaries(units=16, rows=5)), Settings())
    target = target_of(made, priors_of(made, read_priors(["rain = normal(1, 0.3)"])))
    z = target.start() + 0.1 * np.sin(np.arange(target.size))
    value, gradient = target.small.density(z)
    expected = target.evaluate(z)
    assert value == pytest.approx(expected[0], abs=1e-8) and gradient == pytest.approx(expected[1], abs=1e-7)
    draws = []
    for _ in range(2):
        rng = np.random.default_rng(3)
        draws.append(
            np.array([np.concatenate([b, u[0].ravel()]) for b, u in (target.complete(z, rng) for _ in range(4000))])
        )
        target.__dict__["small"] = None  # the general road
    one, two = draws
    error = np.sqrt((one.var(axis=0) + two.var(axis=0)) / 4000)
    assert np.all(np.abs(one.mean(axis=0) - two.mean(axis=0)) < 4.5 * error)
    scale = np.sqrt(np.outer(one.var(axis=0), one.var(axis=0)))
    assert np.abs((np.cov(one.T) - np.cov(two.T)) / scale).max() < 0.12
