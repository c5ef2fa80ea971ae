"""Crossings without a dense factor: equations, traces and determinants against the dense criterion of the same model."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.crossproducts import assemble
from bold_orchard.crossproducts.wide import elimination, krylov, probes
from bold_orchard.crossproducts.wide.elimination import WideEliminated
from bold_orchard.crossproducts.wide.probes import Slopes, log_det
from bold_orchard.crossproducts.wide.products import wide_products
from bold_orchard.estimation.arrays import to_arrays
from bold_orchard.likelihood.prediction_error import error_variance
from bold_orchard.likelihood.wide import WideCriterion
from crossings import SENTENCES, crossed


def both(sentence, frame, reml=True):
    """The dense criterion and the wide one of the same model."""
    model = bo.fit(sentence, frame, method="reml" if reml else "ml").core.model
    before, assemble.DENSE_TAIL = assemble.DENSE_TAIL, 1
    try:
        products = wide_products(to_arrays(model.design))
    finally:
        assemble.DENSE_TAIL = before
    return model.criterion, WideCriterion(products, reml)


def points(dense, theta):
    yield theta
    yield 1.7 * theta
    edge = theta.copy()
    edge[dense.slices[-1]] = 0.0  # the last unit's effects vanish
    yield edge
    tied = theta.copy()
    tied[dense.bounded] = np.where(np.arange(dense.bounded.sum()) % 2, 0.0, theta[dense.bounded])
    yield tied  # of slopes and levels one follows from the other


@pytest.mark.few(3)
@pytest.mark.parametrize("name", SENTENCES)
@pytest.mark.parametrize("reml", [True, False])
def test_a_point_is_that_of_the_dense_criterion(name, reml, monkeypatch):
    monkeypatch.setattr("bold_orchard.likelihood.wide.IN_SLOPES", 200)
    monkeypatch.setattr("bold_orchard.likelihood.wide.IN_DEVIANCE", 200)
    dense, wide = both(SENTENCES[name], crossed(), reml)
    assert wide.start() == pytest.approx(dense.start())
    for theta in points(dense, dense.start() + 0.1):
        a, b = dense.at(theta), wide.at(theta)
        assert b.rss == pytest.approx(a.rss, rel=1e-9) and b.b == pytest.approx(a.b, rel=1e-8)
        assert b.b_covariance == pytest.approx(a.b_covariance, rel=1e-7, abs=1e-12)
        assert abs(b.deviance - a.deviance) < 5 * b.deviance_error + 1e-6
        assert b.deviance_error < 0.05
        far = (b.gradient - a.gradient) / (np.sqrt(np.diag(b.gradient_error)) + 1e-6 * (1 + np.abs(a.gradient)))
        assert np.abs(far).max() < 5
        assert b.curvature == pytest.approx(a.curvature, rel=0.02, abs=0.01 * np.abs(a.curvature).max())
        for f in range(len(dense.structures)):
            (one, first), (two, second) = a.effects(f), b.effects(f)
            assert two == pytest.approx(one, rel=1e-6, abs=1e-8)
            assert np.einsum("jaa->ja", second) == pytest.approx(np.einsum("jaa->ja", first), rel=0.15, abs=1e-12)


@pytest.mark.parametrize("name", ["slopes", "three units"])
def test_errors_of_rows_are_those_of_the_dense_equations(name):
    dense, wide = both(SENTENCES[name], crossed())
    r = np.random.default_rng(3)
    a, b = dense.at(dense.start() + 0.1), wide.at(dense.start() + 0.1)
    units = dense.products.units
    columns = [(f, r.integers(0, u.levels, 150), r.normal(size=(u.size, 150))) for f, u in enumerate(units)]
    x = r.normal(size=(len(a.xx), 150))
    halves = [(f, level, z / 2) for f, level, z in columns]
    for some in (columns, columns[:1], columns[1:], [], [*halves, *halves]):
        ratio = error_variance(b.joint, x, some) / error_variance(a.joint, x, some)
        assert ratio.min() > 0.75 and ratio.max() < 1.25 and abs(ratio.mean() - 1) < 0.02


@pytest.mark.slow
def test_signs_tell_their_own_error(monkeypatch):
    """Means over many seeds hit the exact figures; the error told is the error made."""
    dense, wide = both(SENTENCES["slopes"], crossed())
    theta = dense.start() + 0.1
    a = dense.at(theta)
    e = WideEliminated(wide.products, wide.factors(theta))
    exact = {f: a.reverse.slope[f] for f in (0, 1)}
    with_w = {f: v @ a._contrast for f, v in e.projected.items()}
    inner = {
        f: np.einsum("ajw,wv,bjv->ab", own[:, :, :-1], a.xx_inverse, own[:, :, :-1]) for f, own in e.projected.items()
    }
    exact = {f: exact[f] + with_w[f] @ with_w[f].T / a.sigma2 + inner[f] for f in exact}  # less what [X y] adds
    far, told, logs, said = {0: [], 1: []}, {0: [], 1: []}, [], []
    for seed in range(40):
        monkeypatch.setattr(probes, "SEED", seed)
        s = Slopes(e, 6)
        for f, made in far.items():
            made.append(s.slope[f] - exact[f])
            told[f].append(s.each[f].var(axis=0, ddof=1) / 6)
        value, error = log_det(e, 6)
        logs.append(value - a.eliminated.log_det)
        said.append(error**2)
    for f, each in far.items():
        made = np.array(each)
        assert (np.abs(made.mean(axis=0)) < 4.5 * made.std(axis=0) / np.sqrt(40) + 1e-9).all()
        assert 0.5 < (made.var(axis=0) / np.mean(told[f], axis=0)).mean() < 2
    assert abs(np.mean(logs)) < 4.5 * np.std(logs) / np.sqrt(40)
    assert 0.4 < np.var(logs) / np.mean(said) < 2.5


def test_the_sum_of_squares_beside_the_blocks(monkeypatch):
    for name in ("slopes", "three units"):
        dense, wide = both(SENTENCES[name], crossed(600, 60, 25))
        e = WideEliminated(wide.products, wide.factors(dense.start() + 0.2))
        m = e.m(np.eye(wide.products.q))
        assert np.abs(m - m.T).max() < 1e-10
        expected = ((m - np.eye(len(m))) ** 2).sum()
        assert probes._squares(e) == pytest.approx(expected, rel=1e-10)
        monkeypatch.setattr(probes, "PAIRS_AT_ONCE", 300)
        assert probes._squares(e) == pytest.approx(expected, rel=1e-10)
        assert np.linalg.slogdet(m)[1] + e.block_log_det + e.stage_log_det == pytest.approx(
            dense.at(dense.start() + 0.2).eliminated.log_det, rel=1e-10
        )
        monkeypatch.setattr(probes, "MOST_PAIRS", 10)
        assert probes._squares(e) is None
        value, error = log_det(e, 200)
        assert abs(value - dense.at(dense.start() + 0.2).eliminated.log_det) < 5 * error
        monkeypatch.undo()


def test_equations_and_logarithms_of_a_small_matrix():
    r = np.random.default_rng(5)
    root = r.normal(size=(30, 30))
    m = root @ root.T + 2 * np.eye(30)
    right = np.concatenate([r.normal(size=(30, 4)), np.zeros((30, 1)), np.eye(30)[:, :1]], axis=1)
    solution, coefficients = krylov.solved(lambda v: m @ v, right, 1e-12)
    assert solution == pytest.approx(np.linalg.solve(m, right), rel=1e-8, abs=1e-10)
    values, vectors = np.linalg.eigh(m)
    log = vectors @ np.diag(np.log(values)) @ vectors.T
    assert krylov.form_of_log(right, coefficients) == pytest.approx(
        np.einsum("qc,qd,dc->c", right, log, right), rel=1e-8
    )
    for bad in (np.diag([1.0, -1.0]), np.full((2, 2), np.nan)):
        with pytest.raises(np.linalg.LinAlgError):
            krylov.solved(lambda v, bad=bad: bad @ v, np.ones((2, 1)), 1e-10)
    with pytest.raises(np.linalg.LinAlgError):
        krylov.solved(lambda v: v, np.full((2, 1), np.inf), 1e-10)


def test_threads_change_nothing(monkeypatch):
    dense, wide = both(SENTENCES["slopes"], crossed())
    e = WideEliminated(wide.products, wide.factors(dense.start() + 0.2))
    v = np.random.default_rng(1).normal(size=(wide.products.q, 3))
    alone = e.s(v), e.times(v)
    monkeypatch.setattr(elimination, "SMALL", 0)
    assert (e.s(v) == alone[0]).all() and (e.times(v) == alone[1]).all()
