"""SDs of effects that depend on columns of the unit, judged by the dense likelihood."""

from __future__ import annotations

import numpy as np
import pytest

import dense
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.estimation.gaussian import fit_gaussian
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.inference.equations import residual_covariance
from bold_orchard.sentence.parse import read_sentence
from builders import diaries, table_of

CASES = {
    "one": "yield = rain; each tree (vary with soil + age): intercept",
    "slopes": "yield = rain; each tree (diagonal, vary with soil): intercept + rain; each season: intercept",
    "parents": "yield = rain; each orchard (vary with mean(age, orchard)): intercept; each tree in orchard (vary with soil): intercept",
    "residuals": "yield = rain; each tree (vary with soil): intercept + rain; spread = soil",
    "serial": "yield = rain; each tree (vary with soil): intercept; within tree: ar1(season)",
}


def fitted(name, method="reml", frame=None, sentence=None, **options):
    frame = diaries(units=40) if frame is None else frame
    design = build_design(read_sentence(sentence or CASES[name]), table_of(frame), Options(**options))
    return fit_gaussian(design, SearchOptions(method=method))


def dense_deviance(model):
    design, e, parts = model.design, model.evaluation, iter(model.criterion.vary.parts)
    alphas = iter(e.theta[model.criterion.alpha][at] for at in model.criterion.vary.slices())
    units, gs = [], []
    for clause in design.clauses:
        z = np.column_stack(clause.part.values)
        if clause.vary is not None:
            z = z * np.exp(np.column_stack(clause.vary.values) @ (next(alphas) / next(parts).sd))[:, None]
        units.append((design.blocks[clause.block].unit.codes, z))
        gs.append(e.covariance(clause.block)[clause.columns, clause.columns])
    v = dense.covariance(len(design.y), units, gs, residual_covariance(model))
    return dense.deviance(design.y, np.column_stack(design.fixed.values), v, model.criterion.reml)


@pytest.mark.parametrize("method", ["reml", "ml"])
@pytest.mark.parametrize("name", CASES)
def test_deviance_and_gradient(name, method):
    model = fitted(name, method)
    c, e = model.criterion, model.evaluation
    assert model.converged and e.deviance == pytest.approx(dense_deviance(model), abs=1e-7)
    theta = e.theta + 0.05 * np.sin(np.arange(len(e.theta)) + 1.0)
    for i in range(len(theta)):
        h = 1e-5 * np.eye(len(theta))[i]
        slope = (c.at(theta + h).deviance - c.at(theta - h).deviance) / 2e-5
        assert c.at(theta).gradient[i] == pytest.approx(slope, abs=2e-5)


def test_effects_and_errors_are_those_of_the_dense_equations():
    model = fitted("one", weights="w")
    design, e = model.design, model.evaluation
    (part,) = model.criterion.vary.parts
    s = np.exp(np.column_stack(design.clauses[0].vary.values) @ (e.theta[model.criterion.alpha] / part.sd))
    codes = design.units[0].codes
    z = (codes[:, None] == np.arange(40)) * 1.0
    g = np.zeros(40)
    g[codes] = e.covariance(0)[0, 0] * s**2
    v = z @ np.diag(g) @ z.T + np.diag(e.sigma2 / design.weights)
    x = np.column_stack(design.fixed.values)
    u = dense.predictions(design.y, x, z, np.diag(g), v)
    effects, errors = e.effects(0)
    assert effects[:, 0] == pytest.approx(u, abs=1e-8)
    vi = np.linalg.inv(v)
    p = vi - vi @ x @ np.linalg.inv(x.T @ vi @ x) @ x.T @ vi
    assert errors[:, 0, 0] == pytest.approx(np.diag(np.diag(g) - np.diag(g) @ z.T @ p @ z @ np.diag(g)), abs=1e-8)


def test_told_at_zero_whatever_the_origin_of_the_column():
    """vary with age and with age less 10: one model; the SD at zero moves as exp(10 alpha) says."""
    frame = diaries(units=40)
    one = fitted("one", sentence="yield = rain; each tree (vary with age): intercept", frame=frame)
    moved = frame.assign(age=frame["age"] - 10.0)
    two = fitted("one", sentence="yield = rain; each tree (vary with age): intercept", frame=moved)
    alpha = (one.evaluation.theta[one.criterion.alpha] / one.criterion.vary.parts[0].sd)[0]
    assert two.evaluation.deviance == pytest.approx(one.evaluation.deviance, abs=1e-8)
    ratio = two.evaluation.covariance(0)[0, 0] / one.evaluation.covariance(0)[0, 0]
    assert ratio == pytest.approx(np.exp(20 * alpha), rel=1e-4)


def test_simulated_effects_have_their_own_sds():
    frame = diaries(units=400, rows=2)
    model = fitted("one", sentence="yield = rain; each tree (vary with soil): intercept", frame=frame)
    drawn = model.drawn_effects(0, np.random.default_rng(1))[:, 0]
    first = frame.drop_duplicates("tree")
    sand = first["soil"].to_numpy() == "sand"
    (part,) = model.criterion.vary.parts
    alpha = float((model.evaluation.theta[model.criterion.alpha] / part.sd)[0])
    assert np.log(drawn[sand].std() / drawn[~sand].std()) == pytest.approx(alpha, abs=0.25)
