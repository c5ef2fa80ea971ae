"""Units with a spread inside others with effects, judged by brute-force integration over both: fine grids, dense densities."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.special import logsumexp

from bold_orchard.estimation.gaussian import fit_gaussian
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.estimation.random_spread import fit_spread, make_spread, starting_point, without_spread
from builders import coded, diaries

SENTENCES = {
    "plain": "yield = rain; each orchard: intercept; each tree in orchard: intercept + spread",
    "slopes": "yield = rain + soil; each orchard: intercept + rain; each tree: intercept + rain + spread; spread = soil",
    "apart": "yield = rain; each tree in orchard (diagonal): spread + intercept; each orchard: intercept; each orchard: rain",
    "weights": "yield = rain; each orchard: intercept; each tree in orchard: spread; spread = rain",
    "alike": "yield = rain; each orchard (identity): intercept + rain; each tree: intercept + spread",
}


def design_of(name, frame=None, **options):
    options |= {"weights": "w"} if name == "weights" else {}
    return coded(SENTENCES[name], diaries(units=15, rows=6, seed=3) if frame is None else frame, **options)


def given_above(c, theta, v, nodes=1201):
    """log p(y | v) of every unit at effects v (k_p, points) of the level above it, (J, points)."""
    rows, t = c.rows, c.factors(theta)[c.rows.block]
    k, g, at, rest = len(rows.others), t @ t.T, rows.spread, rows.others
    tau = np.sqrt(g[at, at])
    grid = np.linspace(-7, 7, nodes) * tau
    weight = np.log(grid[1] - grid[0]) - 0.5 * (grid / tau) ** 2 - np.log(tau) - 0.5 * np.log(2 * np.pi)
    slope = g[rest, at] / tau**2
    left = g[np.ix_(rest, rest)] - np.outer(slope, slope) * tau**2
    y = rows.y - (theta[: c.p] - rows.standard.b0) @ rows.x
    v0 = np.exp(theta[-1] + 2 * theta[c.phi] @ rows.w) / (1.0 if rows.weights is None else rows.weights)
    out = []
    for first, n in zip(rows.starts, rows.counts.astype(int)):
        own = slice(first, first + n)
        z = rows.z[:k, own].T
        low = np.linalg.cholesky(z @ left @ z.T + np.exp(2 * grid)[:, None, None] * np.diag(v0[own]))
        inverse = np.linalg.inv(low)
        still = np.einsum("qab,qb->qa", inverse, y[own] - grid[:, None] * (z @ slope))
        pulled = np.einsum("qab,bk,kp->qap", inverse, rows.z[k:, own].T, v, optimize=True)
        square = ((still[:, :, None] - pulled) ** 2).sum(axis=1)
        half = weight - 0.5 * n * np.log(2 * np.pi) - np.log(np.einsum("qii->qi", low)).sum(1)
        out.append(logsumexp(half[:, None] - 0.5 * square, axis=0))
    return np.array(out)


def brute(c, theta, points):
    """The deviance, and the mean of xi of each level above, (k_p, levels)."""
    above = c.rows.above
    axis = np.linspace(-6, 6, points)
    xi = np.array(np.meshgrid(*[axis] * above.size, indexing="ij")).reshape(above.size, -1)
    logs = given_above(c, theta, c.factors(theta)[above.block] @ xi)
    logs = np.array([logs[above.of == p].sum(axis=0) for p in range(len(above.starts))])
    logs = logs - 0.5 * (xi**2).sum(axis=0) + above.size * np.log((axis[1] - axis[0]) / np.sqrt(2 * np.pi))
    total = logsumexp(logs, axis=1)
    return -2.0 * total.sum(), xi @ np.exp(logs - total[:, None]).T


def moved(design, points):
    c = make_spread(design, points)
    theta, _ = starting_point(c, design, SearchOptions())
    return c, theta + 0.05 * np.cos(np.arange(len(theta)))


@pytest.mark.few(1)
@pytest.mark.parametrize("name", SENTENCES)
def test_likelihood_effects_and_gradient(name):
    c, theta = moved(design_of(name), 41)
    point = c.at(theta)
    above = c.rows.above
    deviance, xi = brute(c, theta, 121 if above.size == 1 else 49)
    assert point.deviance == pytest.approx(deviance, abs=1e-6)
    assert point.means[above.block] == pytest.approx(c.factors(theta)[above.block] @ xi, abs=1e-6)
    for i in range(len(theta)):
        h = 1e-4 * np.eye(len(theta))[i]
        far = [c.at(theta + k * h, point).deviance for k in (-2, -1, 1, 2)]
        slope = (far[0] - 8 * far[1] + 8 * far[2] - far[3]) / 12e-4
        assert point.gradient[i] == pytest.approx(slope, abs=1e-6 * max(1.0, np.abs(point.gradient).max()))


@pytest.mark.slow
def test_default_nodes_serve_and_the_search_ends_where_the_integral_is_level():
    model = fit_spread(design_of("plain"), SearchOptions())
    c, theta, errors = model.criterion, model.evaluation.theta, np.sqrt(2 / np.diag(model.found.hessian))
    assert model.converged and model.points == 31
    assert model.evaluation.deviance == pytest.approx(brute(c, theta, 121)[0], abs=2e-5)
    for i in range(len(theta)):
        h = 0.02 * errors[i] * np.eye(len(theta))[i]
        slope = (brute(c, theta + h, 61)[0] - brute(c, theta - h, 61)[0]) / (0.04 * errors[i])
        assert abs(slope) * errors[i] < 5e-3


def test_without_spread_it_is_the_gaussian_model_of_both_units():
    frame = diaries(units=40, rows=6, seed=5)
    frame["yield"] += 1.5 * (
        frame["orchard"].str[1:].astype(int) % 3
    )  # off the boundary, where starts are moved inside
    design = design_of("plain", frame)
    plain = fit_gaussian(without_spread(design), SearchOptions(method="ml"))
    c = make_spread(design, 31)
    theta, _ = starting_point(c, design, SearchOptions())
    at = c.slices[c.rows.block]
    theta[at] = np.where(c.of_spread, 0.0, theta[at])
    theta[-1] = np.log(plain.evaluation.sigma2)
    assert c.at(theta).deviance == pytest.approx(plain.evaluation.deviance, abs=1e-7)


def test_effects_and_errors_of_held_spreads_are_those_of_the_linear_model():
    """The elimination with spreads held at their means against dense generalised least squares."""
    c, theta = moved(design_of("slopes"), 15)
    point, rows, above = c.at(theta), c.rows, c.rows.above
    s = point.means[rows.block][rows.spread][rows.codes]
    v = np.diag(np.exp(2 * s) / point.precision)
    t = point.factors[rows.block] @ point.rotation[0]
    t[:, 0] = 0.0
    own = (rows.codes[:, None] == rows.codes) * (rows.z[: len(rows.others)].T @ (t @ t.T)[np.ix_(rows.others, rows.others)] @ rows.z[: len(rows.others)])  # fmt: skip
    of = above.of[rows.codes]
    g, z = point.t @ point.t.T, rows.z[len(rows.others) :]
    both = np.linalg.inv(v + own + (of[:, None] == of) * (z.T @ g @ z))
    columns = np.vstack([rows.x, point.residual])
    assert point.joint.w == pytest.approx(columns @ both @ columns.T, rel=1e-8, abs=1e-8)


@pytest.mark.slow
def test_order_scale_and_names_change_nothing_and_both_ways_to_write_units_agree():
    frame = diaries(units=15, rows=6, seed=4)
    one = fit_spread(design_of("plain", frame), SearchOptions())
    other = frame.sample(frac=1, random_state=9).assign(rain=frame["rain"] * 1000, tree="x" + frame["tree"])
    other["yield"] *= 1e-3
    two = fit_spread(design_of("plain", other), SearchOptions())
    assert two.evaluation.deviance == pytest.approx(one.evaluation.deviance + 2 * len(frame) * np.log(1e-3), abs=1e-4)
    sizes = [np.array([1e-3]), np.array([1e-3, 1.0])]
    for f, size in enumerate(sizes):
        expected = one.evaluation.covariance(f) * np.outer(size, size)
        assert two.evaluation.covariance(f) == pytest.approx(expected, rel=2e-3, abs=1e-6 * size[0])
    swapped = coded("yield = rain; each tree: intercept + spread; each orchard: intercept", frame)
    three = fit_spread(swapped, SearchOptions())
    assert three.evaluation.deviance == pytest.approx(one.evaluation.deviance, abs=1e-7)
    made = [{u.unit_effects()[i].group: u.unit_effects()[i] for i in (0, 1)} for u in (one, three)]
    assert made[1]["orchard"].effects == pytest.approx(made[0]["orchard"].effects, abs=1e-5)
    assert np.sort(made[1]["tree"].effects, 0) == pytest.approx(
        np.sort(made[0]["tree in orchard"].effects, 0), abs=1e-5
    )


@pytest.mark.slow
def test_one_step_without_a_level_above_comes_near_the_refit():
    model = fit_spread(design_of("plain", diaries(units=40, rows=6, seed=5)), SearchOptions())
    keep = np.flatnonzero(model.design.blocks[0].unit.codes != 2)
    quick, exact = (model.on_rows(keep, e).evaluation for e in (False, True))
    errors = np.sqrt(2 / np.diag(model.found.hessian))[: model.criterion.p]
    assert np.all(np.abs(quick.b - exact.b) < 0.35 * errors)


@pytest.mark.slow
def test_simulated_outcomes_have_the_effects_of_both_units():
    design = design_of("plain", diaries(units=300, rows=6, seed=6))
    model = fit_spread(design, replace(SearchOptions(), points=7))
    y = [model.simulate(np.random.default_rng(k)) - model.fixed_part() for k in range(40)]
    of = design.blocks[0].unit.codes
    means = np.array([np.bincount(of, r) / np.bincount(of) for r in y])
    e = model.evaluation
    residual = e.row_variance * np.exp(2 * e.covariance(1)[1, 1])
    expected = e.covariance(0)[0, 0] + e.covariance(1)[0, 0] / 5 + residual / 30
    assert means.var() == pytest.approx(expected, rel=0.15)
