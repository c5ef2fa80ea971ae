"""The parts of the sampler, each against arithmetic that is obviously right."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from bold_orchard.design.design import Options
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.equations import residual_covariance
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.likelihood.conditional import drawn_effects
from bold_orchard.sampling import diagnostics, nuts
from bold_orchard.sampling.covariances import consecutive
from bold_orchard.sampling.leave_one_out import leave_one_out, pareto, smoothed
from bold_orchard.sampling.posterior import target_of
from bold_orchard.sampling.priors import priors_of
from bold_orchard.sampling.rows import replicates
from builders import diaries, inspections, table_of

COV = np.array([[2.0, 0.8, -0.3], [0.8, 1.0, 0.1], [-0.3, 0.1, 0.5]])
INVERSE = np.linalg.inv(COV)


def normal(q):
    return -0.5 * float(q @ INVERSE @ q), -INVERSE @ q


def sampler(seed=1, size=0.3):
    made = nuts.Sampler(normal, nuts.Metric(np.eye(2), np.ones(1)), np.random.default_rng(seed))
    made.step_size = size
    return made


# -- trajectories


def test_a_step_and_back_is_no_step():
    s = sampler()
    here = s._at(np.array([0.3, -1.0, 0.5]), np.array([1.0, 0.2, -0.7]))
    there = here
    for _ in range(7):
        there = s._moved(there, 0.2)
    for _ in range(7):
        there = s._moved(there, -0.2)
    assert there.q == pytest.approx(here.q, abs=1e-13) and there.p == pytest.approx(here.p, abs=1e-13)


def test_energy_is_lost_with_the_square_of_the_step():
    s = sampler()
    here = s._at(np.array([0.3, -1.0, 0.5]), np.array([1.0, 0.2, -0.7]))
    lost = []
    for count in (20, 40, 80):
        there = here
        for _ in range(count):
            there = s._moved(there, 1.0 / count)
        lost.append(abs(s._energy(there) - s._energy(here)))
    assert lost[0] / lost[1] == pytest.approx(4, rel=0.1) and lost[1] / lost[2] == pytest.approx(4, rel=0.05)


def test_a_step_preserves_volume():
    s = sampler()

    def moved(z):
        there = s._moved(s._at(z[:3], z[3:]), 0.3)
        return np.concatenate([there.q, there.p])

    z = np.array([0.3, -1.0, 0.5, 1.0, 0.2, -0.7])
    jacobian = np.array([(moved(z + h) - moved(z - h)) / 2e-5 for h in 1e-5 * np.eye(6)])
    assert np.linalg.det(jacobian) == pytest.approx(1.0, abs=1e-8)


def test_momenta_have_the_inverse_of_the_metric():
    metric = nuts.Metric(COV[:2, :2], np.array([0.25]))
    rng = np.random.default_rng(3)
    p = np.array([metric.momentum(rng) for _ in range(40_000)])
    wanted = np.zeros((3, 3))
    wanted[:2, :2], wanted[2, 2] = np.linalg.inv(COV[:2, :2]), 4.0
    assert np.cov(p.T) == pytest.approx(wanted, abs=0.12)
    assert metric.velocity(np.array([1.0, -1.0, 2.0])) == pytest.approx([1.2, -0.2, 0.5])


def test_a_trajectory_turns_back_where_its_ends_come_together():
    """In one dimension a half period of the oscillation is the longest way apart."""
    s = nuts.Sampler(lambda q: (-0.5 * float(q @ q), -q), nuts.Metric(np.eye(1), np.zeros(0)), np.random.default_rng(2))
    s.step_size = 0.1
    steps = [
        s.draw(q, *s.target(q))[3] for q in (np.array([0.1]), np.array([1.0]), np.array([-2.0])) for _ in range(20)
    ]
    assert np.median(steps) >= 7 and max(steps) <= 63  # pi / 0.1 steps are half a period; doubling may go past it once


def test_a_cliff_is_a_divergence_not_a_failure():
    def cliff(q):
        return (-np.inf, np.zeros(1)) if q[0] > 0.5 else (-0.5 * float(q @ q), -q)

    chain = nuts.sample(
        cliff, np.zeros(1), nuts.Metric(np.eye(1), np.zeros(0)), 1, 100, 200, np.random.default_rng(5), lambda i, bad: None
    )  # fmt: skip
    assert (chain.positions <= 0.5).all() and np.isfinite(chain.energy).all()
    assert chain.diverged.any()


@pytest.mark.parametrize("warmup", [50, 150, 200, 400, 1000, 3000])
def test_windows_end_before_the_last_draws_of_the_warm_up(warmup):
    ends = sorted(nuts._windows(warmup))
    assert all(e < warmup - nuts.LAST for e in ends)
    if warmup >= 200:
        assert ends[-1] == warmup - nuts.LAST - 1
        widths = np.diff([nuts.FIRST - 1, *ends])
        assert (np.diff(widths[:-1]) > 0).all() and widths.sum() == warmup - nuts.FIRST - nuts.LAST


def test_the_metric_is_learned_from_draws():
    r = np.random.default_rng(7)
    window = r.multivariate_normal(np.zeros(3), COV, 20_000)
    made = nuts.learned(window, 2)
    assert made.cov == pytest.approx(COV[:2, :2], abs=0.06) and made.var == pytest.approx([0.5], rel=0.05)
    few = nuts.learned(window[:6], 3)
    assert np.linalg.eigvalsh(few.cov).min() > 0  # six draws of three coordinates still give a metric


def test_consecutive_slices():
    assert consecutive([2, 0, 3], 4) == [slice(4, 6), slice(6, 6), slice(6, 9)]
    assert consecutive([]) == []


# -- what draws are worth


def autoregressive(rho, n, chains, seed):
    r = np.random.default_rng(seed)
    out = np.empty((chains, n))
    x = r.normal(size=chains)
    for i in range(n):
        x = rho * x + np.sqrt(1 - rho**2) * r.normal(size=chains)
        out[:, i] = x
    return out


@pytest.mark.parametrize("rho", [0.0, 0.5, 0.8, -0.4])
def test_effective_size_of_a_first_order_series(rho):
    """n (1 - rho) / (1 + rho), in closed form."""
    draws = autoregressive(rho, 8000, 4, 11)
    assert diagnostics._ess(draws) == pytest.approx(32_000 * (1 - rho) / (1 + rho), rel=0.12)


def test_rhat_by_its_definition():
    draws = autoregressive(0.3, 100, 3, 2)
    within = np.mean([np.var(c, ddof=1) for c in draws])
    between = 100 * np.var([c.mean() for c in draws], ddof=1)
    assert diagnostics._plain_rhat(draws) == pytest.approx(np.sqrt((0.99 * within + between / 100) / within))


def test_rhat_sees_chains_of_other_places_widths_and_drifts():
    good = autoregressive(0.0, 500, 4, 3)
    assert diagnostics.rhat(good) < 1.01
    assert diagnostics.rhat(good + np.array([0, 0, 0, 1.0])[:, None]) > 1.05
    assert diagnostics.rhat(good * np.array([1, 1, 1, 3.0])[:, None]) > 1.05
    assert diagnostics.rhat(good + np.linspace(0, 2, 500)) > 1.05
    assert np.isnan(diagnostics.rhat(np.ones((4, 100))))


def test_rhat_and_sizes_do_not_change_with_the_scale():
    draws = autoregressive(0.6, 400, 4, 8)
    for told in (diagnostics.rhat, diagnostics.ess_bulk):
        assert told(1e6 * draws - 3) == pytest.approx(told(draws), rel=1e-9)
    assert diagnostics.ess_bulk(np.exp(draws)) == pytest.approx(diagnostics.ess_bulk(draws), rel=1e-9)  # ranks stay


def test_energy_by_its_definition():
    e = np.array([1.0, 3.0, 2.0, 6.0])
    assert diagnostics.bfmi(e) == pytest.approx((4 + 1 + 16) / ((e - 3.0) ** 2).sum())
    assert np.isnan(diagnostics.bfmi(np.ones(5)))


# -- leave-one-out


@pytest.mark.parametrize("shape", [-0.2, 0.3, 0.6, 0.9])
def test_the_tail_is_recovered(shape):
    x = np.sort(stats.genpareto(shape, scale=2.0).rvs(4000, random_state=4))
    k, scale = pareto(x)
    assert k == pytest.approx(shape, abs=0.06) and scale == pytest.approx(2.0, rel=0.12)


def test_smoothing_keeps_the_order_and_the_middle():
    logs = stats.t(2).rvs(1000, random_state=6)
    logs -= logs.max()
    made, shape = smoothed(logs)
    order = np.argsort(logs)
    assert (np.diff(made[order[-60:]]) >= 0).all() and made.max() <= 0
    assert (made[order[:500]] == logs[order[:500]]).all() and shape > 0
    assert smoothed(np.zeros(100))[1] == -np.inf


def test_rows_left_out_of_a_model_whose_answer_is_known():
    """Normal rows of a known SD with a flat prior: a row left out is normal around the mean of the others."""
    r = np.random.default_rng(9)
    y = r.normal(2, 1, 12)
    draws = y.mean() + r.normal(size=6000) / np.sqrt(12)
    elpd, shapes, p = leave_one_out(stats.norm(draws[:, None], 1).logpdf(y))
    others = (y.sum() - y) / 11
    assert elpd == pytest.approx(stats.norm(others, np.sqrt(1 + 1 / 11)).logpdf(y), abs=0.03)
    assert shapes.max() < 0.7 and 0.7 < p < 1.4


# -- effects and outcomes drawn


def test_drawn_effects_have_their_conditional_law():
    """Mean and covariance given the coefficients, by the dense formula, of crossed units."""
    frame = diaries(units=6, rows=4, seed=3)
    made = fit(
        "yield = rain; each tree: intercept + rain; each season: intercept",
        table_of(frame),
        Settings(options=Options(force=True)),
    )
    model = made.model
    assert isinstance(model, GaussianModel)
    z, g = [], []
    for f, block in enumerate(made.design.blocks):
        own = np.column_stack([v for c in made.design.clauses if c.block == f for v in c.part.values])
        for level in range(block.unit.size):
            z.append(own * (block.unit.codes == level)[:, None])
        g += [model.evaluation.covariance(f)] * block.unit.size
    z = np.concatenate(z, axis=1)
    big = np.zeros((z.shape[1],) * 2)
    at = 0
    for part in g:
        big[at : at + len(part), at : at + len(part)] = part
        at += len(part)
    v = z @ big @ z.T + residual_covariance(model)
    rest = made.design.y - np.column_stack(made.design.fixed.values) @ model.evaluation.b
    mean = big @ z.T @ np.linalg.solve(v, rest)
    covariance = big - big @ z.T @ np.linalg.solve(v, z @ big)
    c, e, r = model.criterion, model.evaluation, np.random.default_rng(1)
    work = np.append(-(c.products.standard.to_work @ e.b - c.products.standard.b0), 1.0)
    drawn = []
    for _ in range(4000):
        parts = drawn_effects(e.eliminated, work, np.sqrt(e.sigma2), r)
        users = [np.linalg.solve(c.products.z_to_work[f], parts[f]) for f in range(2)]
        drawn.append(np.concatenate([u.T.ravel() for u in users]))
    drawn = np.array(drawn)
    sd = np.sqrt(np.diag(covariance))
    assert (drawn.mean(0) - mean) / sd == pytest.approx(np.zeros(len(mean)), abs=0.09)
    assert np.cov(drawn.T) / np.outer(sd, sd) == pytest.approx(covariance / np.outer(sd, sd), abs=0.09)


def test_replicates_count_ties_by_half_and_leave_out_zeros_that_cannot_be():
    made = fit("aphids = rain", table_of(inspections(n=60, units=6)), Settings(options=Options(family="poisson")))
    drawn = np.tile([2.0, 1.0, 0.0, 9.0, 0.2], (10, 1))
    seen = {r["statistic"]: r for r in replicates(made.design, drawn)}
    smallest = seen["smallest"]
    assert smallest["observed"] == 0 and smallest["p"] == 0.5
    assert "share of zeros" in seen
    plain = fit("weight = rain", table_of(inspections(n=60, units=6)), Settings())
    none = [r["statistic"] for r in replicates(plain.design, drawn * [1, 1, 1, 1, 0])]
    assert none == ["mean", "sd", "smallest", "largest"]


@pytest.mark.parametrize("family", ["binomial", "poisson"])
def test_whitened_effects_and_their_gradient(family):
    """The log Jacobian is that of the map by differences, and the gradient of the density is its slope."""
    frame = inspections(n=50, units=5)
    outcome = "infected" if family == "binomial" else "aphids"
    made = fit(f"{outcome} = rain; each orchard: intercept", table_of(frame), Settings(options=Options(family=family)))
    target = target_of(made, priors_of(made, {}))
    z = target.start() + 0.1 * np.cos(np.arange(target.size))
    slope = target(z)[1]
    for i in range(target.size):
        h = np.zeros(target.size)
        h[i] = 1e-5
        assert (target(z + h)[0] - target(z - h)[0]) / 2e-5 == pytest.approx(slope[i], abs=2e-4, rel=1e-4)


@pytest.mark.parametrize(("units", "rows", "long"), [(60, 60, True), (12, 3, False)])
def test_steps_are_longer_only_where_sds_are_far_from_zero(units, rows, long):
    """Five standard errors from zero: many units with many rows are, few with few are not."""
    r = np.random.default_rng(8)
    tree = np.repeat(np.arange(units), rows)
    ripe = (r.random(len(tree)) < 1 / (1 + np.exp(-1.2 * r.normal(size=units)[tree]))).astype(int)
    frame = pd.DataFrame({"tree": [f"t{i}" for i in tree], "ripe": ripe})
    made = fit("ripe = intercept; each tree: intercept", table_of(frame), Settings(options=Options(family="binomial")))
    target = target_of(made, priors_of(made, {}))
    sd, se = made.evaluation.theta[-1], np.sqrt(target.errors[-1, -1])
    assert (sd > 5 * se) == long and (target.wanted < nuts.WANTED) == long
