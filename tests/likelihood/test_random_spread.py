"""Units with a residual spread of their own, judged by brute-force integration over a fine grid of log spreads."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.estimation.options import SearchOptions
from bold_orchard.estimation.random_spread import fit_spread, make_spread, starting_point, without_spread
from builders import coded, diaries

SENTENCES = {
    "both": "yield = rain + soil; each tree: intercept + rain + spread; spread = soil",
    "alone": "yield = rain; each tree: spread",
    "separate": "yield = rain; each tree (diagonal): spread + intercept; each tree: rain",
    "weights": "yield = rain; each tree: intercept + spread; spread = rain",
}


def design_of(name, frame=None, **options):
    options |= {"weights": "w"} if name == "weights" else {}
    return coded(SENTENCES[name], diaries() if frame is None else frame, **options)


def brute(c, theta, nodes=1501):
    """-2 log-likelihood: per unit the sum over a grid of s of the dense normal density given s."""
    rows, t = c.rows, c.factors(theta)[0]
    g, at, rest = t @ t.T, c.rows.spread, c.rows.others
    tau = np.sqrt(g[at, at])
    grid = np.linspace(-8, 8, nodes) * tau
    weight = np.log(grid[1] - grid[0]) - 0.5 * (grid / tau) ** 2 - np.log(tau) - 0.5 * np.log(2 * np.pi)
    slope = g[rest, at] / tau**2
    left = g[np.ix_(rest, rest)] - np.outer(slope, slope) * tau**2
    y = rows.y - (theta[: c.p] - rows.standard.b0) @ rows.x
    v0 = np.exp(theta[-1] + 2 * theta[c.phi] @ rows.w) / (1.0 if rows.weights is None else rows.weights)
    total = 0.0
    for first, n in zip(rows.starts, rows.counts.astype(int)):
        at_rows = slice(first, first + n)
        z, r = rows.z[:, at_rows].T, y[at_rows]
        rest_v = z @ left @ z.T
        v = rest_v + np.exp(2 * grid)[:, None, None] * np.diag(v0[at_rows])
        away = r - grid[:, None] * (z @ slope)
        low = np.linalg.cholesky(v)
        solved = np.linalg.solve(low, away[:, :, None])[:, :, 0]
        logs = -0.5 * (n * np.log(2 * np.pi) + (solved**2).sum(1)) - np.log(np.einsum("qii->qi", low)).sum(1) + weight
        total += logs.max() + np.log(np.exp(logs - logs.max()).sum())
    return -2.0 * total


@pytest.mark.parametrize("name", SENTENCES)
def test_likelihood_and_gradient(name):
    design = design_of(name)
    c = make_spread(design, 61)
    theta, _ = starting_point(c, design, SearchOptions())
    theta = theta + 0.05 * np.cos(np.arange(len(theta)))
    point = c.at(theta)
    assert point.deviance == pytest.approx(brute(c, theta), abs=1e-6)
    for i in range(len(theta)):
        h = 1e-4 * np.eye(len(theta))[i]
        far = [c.at(theta + k * h).deviance for k in (-2, -1, 1, 2)]
        slope = (far[0] - 8 * far[1] + 8 * far[2] - far[3]) / 12e-4
        assert point.gradient[i] == pytest.approx(slope, abs=1e-6 * max(1.0, np.abs(point.gradient).max()))


@pytest.mark.slow
def test_estimates_stand_at_the_minimum_of_the_integral_itself():
    model = fit_spread(design_of("weights"), SearchOptions())
    c, theta, errors = model.criterion, model.evaluation.theta, np.sqrt(2 / np.diag(model.found.hessian))
    assert model.converged and model.found.decrement < 1e-6
    for i in range(len(theta)):
        h = 0.02 * errors[i] * np.eye(len(theta))[i]
        slope = (brute(c, theta + h) - brute(c, theta - h)) / (0.04 * errors[i])
        assert abs(slope) * errors[i] < 2e-3  # a thousandth of a standard error away at most


@pytest.mark.slow
def test_default_nodes_serve_units_of_eight_rows():
    model = fit_spread(design_of("both"), SearchOptions())
    assert model.points == 31
    assert model.evaluation.deviance == pytest.approx(brute(model.criterion, model.evaluation.theta, 3001), abs=2e-5)


def test_effects_are_posterior_means_and_variances():
    model = fit_spread(design_of("alone"), SearchOptions())
    c, e = model.criterion, model.evaluation
    effects, _ = e.effects(0)
    tau = np.sqrt(e.covariance(0)[0, 0])
    grid, r = np.linspace(-6, 6, 4001) * tau, e.residual
    rows = slice(0, int(c.rows.counts[0]))
    log = (
        -len(r[rows]) * grid
        - 0.5 * np.exp(-2 * grid) * (e.precision[rows] * r[rows] ** 2).sum()
        - 0.5 * (grid / tau) ** 2
    )
    weight = np.exp(log - log.max())
    mean = (weight * grid).sum() / weight.sum()
    assert effects[c.rows.codes[0], 0] == pytest.approx(mean, abs=1e-8)
    sd = np.sqrt((weight * (grid - mean) ** 2).sum() / weight.sum())
    assert np.sqrt(e.nodes.covariances[0, 0, 0]) * tau == pytest.approx(sd, abs=1e-8)


def test_without_spread_is_the_gaussian_model():
    """As the SD of the spread goes to zero the likelihood is that of the model with one spread."""
    from bold_orchard.estimation.gaussian import fit_gaussian

    design = design_of("both")
    plain = fit_gaussian(without_spread(design), SearchOptions(method="ml"))
    c = make_spread(design, 21)
    theta, _ = starting_point(c, design, SearchOptions())
    basis = c.structures[0].basis
    theta[c.theta] = np.where(np.abs(basis[:, c.rows.spread]).sum(1) > 0, 0.0, theta[c.theta])
    theta[-1] = np.log(plain.evaluation.sigma2)
    assert c.at(theta).deviance == pytest.approx(plain.evaluation.deviance, abs=1e-7)


@pytest.mark.slow
def test_order_scale_and_names_of_the_data_change_nothing():
    frame = diaries(seed=4)
    one = fit_spread(design_of("both", frame), SearchOptions())
    other = frame.sample(frac=1, random_state=9).assign(rain=frame["rain"] * 1000, tree="x" + frame["tree"])
    other["yield"] *= 1e-3
    two = fit_spread(design_of("both", other), SearchOptions())
    assert two.evaluation.deviance == pytest.approx(one.evaluation.deviance + 2 * len(frame) * np.log(1e-3), abs=1e-4)
    g, h = one.evaluation.covariance(0), two.evaluation.covariance(0)
    size = np.array([1e-3, 1e-6, 1.0])
    assert h == pytest.approx(g * np.outer(size, size), rel=1e-3, abs=1e-5 * size[0])


@pytest.mark.slow
def test_one_step_without_a_unit_comes_near_the_refit():
    model = fit_spread(design_of("both"), SearchOptions())
    keep = np.flatnonzero(model.design.units[0].codes != 3)
    quick, exact = (model.on_rows(keep, e).evaluation for e in (False, True))
    errors = np.sqrt(2 / np.diag(model.found.hessian))[: model.criterion.p]
    assert np.all(np.abs(quick.b - exact.b) < 0.1 * errors)


def test_simulated_outcomes_have_the_spread_of_their_units():
    model = fit_spread(design_of("alone", diaries(units=120, rows=10, tau=0.8)), SearchOptions())
    y = model.simulate(np.random.default_rng(3))
    codes, rest = model.design.units[0].codes, y - model.fixed_part()
    logs = 0.5 * np.log(np.bincount(codes, rest**2) / np.bincount(codes))
    expected = (
        model.evaluation.covariance(0)[0, 0] + 0.25 * 2 / 10
    )  # and the log of a mean square of ten: trigamma(5) / 4
    assert logs.var() == pytest.approx(expected, rel=0.35)
