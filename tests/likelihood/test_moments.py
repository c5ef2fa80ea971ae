"""Where a search begins: variances by moments."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from bold_orchard.data.table import Table
from bold_orchard.inference.fit import fit
from bold_orchard.likelihood.moments import MANY_LEVELS, moments, together

SENTENCE = "crop = rain; each tree: intercept + rain"


def fitted(rows, sentence=SENTENCE):
    return fit(sentence, Table(rows, "grove.csv", len(rows["tree"])))


def products_of(c, v, rss, n, tails=()):
    stage = SimpleNamespace(unit=0, c=c, right=v[:, None, :])
    return SimpleNamespace(stages=[stage], tails=list(tails), dense=np.array([[rss]]), n=n)


def expected(gamma, sigma2, levels=MANY_LEVELS, seed=1):
    """Products whose sums of squares are exactly what a covariance of effects, in residual variances, promises."""
    r = np.random.default_rng(seed)
    k = len(gamma)
    z = r.normal(size=(k, 7, levels)) + np.linspace(0, 1, k)[:, None, None]
    c = np.einsum("anj,bnj->abj", z, z)
    squares = sigma2 * (c.sum(axis=-1) + np.einsum("acj,cd,dbj->ab", c, gamma, c))
    v = np.zeros((k, levels))
    v[:, :k] = np.linalg.cholesky(squares)
    n = 7 * levels
    return products_of(c, v, sigma2 * (n + np.einsum("abj,ba->", c, gamma)), n)


@pytest.mark.parametrize(
    "gamma",
    [
        [[0.5, 0.1], [0.1, 0.2]],
        [[2.0, -0.7, 0.1], [-0.7, 0.9, 0.0], [0.1, 0.0, 0.3]],
        np.diag([4.0, 1.0, 0.25, 0.01]),
    ],
)
@pytest.mark.parametrize("sigma2", [1.0, 1e-4])
def test_moments_of_all_effects_solve_their_equations(gamma, sigma2):
    made = together(expected(np.asarray(gamma), sigma2))
    np.testing.assert_allclose(made, gamma, rtol=1e-8, atol=1e-9)


def test_column_by_column_they_are_only_rough():
    """So that the test above has something to tell apart."""
    gamma = np.array([[0.5, 0.1], [0.1, 0.2]])
    rough = moments(expected(gamma, 1.0))[0]
    assert not np.allclose(rough, np.diag(gamma), rtol=0.02)


def test_where_they_do_not_hold_there_are_none():
    gamma = np.array([[0.5, 0.1], [0.1, 0.2]])
    known = expected(gamma, 1.0)
    assert together(known) is not None
    assert (
        together(products_of(known.stages[0].c, known.stages[0].right[:, 0], 1.0, known.n)) is None
    )  # too little varies
    known.tails.append("picker")
    assert together(known) is None
    assert together(expected(gamma, 1.0, MANY_LEVELS - 1)) is None
    assert together(expected(np.eye(1), 1.0)) is None
    nothing = expected(np.array([[0.5, 0.0], [0.0, 0.0]]), 1.0)
    assert together(nothing) is None  # on the edge: a search must not begin there


def grove(levels=1500, seed=3):
    r = np.random.default_rng(seed)
    tree = np.repeat(np.arange(levels), r.integers(3, 9, levels))
    rain = r.normal(2.0, 1.0, len(tree))
    u = r.multivariate_normal([0, 0], [[0.8, 0.3], [0.3, 0.4]], levels)
    crop = 1 + 0.5 * rain + u[tree, 0] + u[tree, 1] * rain + r.normal(size=len(tree))
    return {"tree": tree, "rain": rain, "crop": crop}


def test_the_search_begins_close_to_its_end_and_ends_where_it_ended(monkeypatch):
    rows = grove()
    near = fitted(rows)
    start, end = near.criterion.at(near.criterion.start()).deviance, near.evaluation.deviance
    monkeypatch.setattr("bold_orchard.likelihood.gaussian.together", lambda products: None)
    far = fitted(rows)
    assert far.evaluation.deviance == pytest.approx(end, abs=1e-8)
    np.testing.assert_allclose(far.evaluation.theta, near.evaluation.theta, rtol=1e-8)
    assert start - end < 20 < 0.1 * (far.criterion.at(far.criterion.start()).deviance - end)


@pytest.mark.parametrize("structure", ["diagonal", "identity", "exchangeable"])
def test_other_structures_begin_inside_too(structure):
    made = fitted(grove(), SENTENCE.replace("tree:", f"tree ({structure}):"))
    start = made.criterion.start()
    assert made.converged and np.isfinite(made.criterion.at(start).deviance)
    assert (start[made.criterion.bounded] > 0).all()


def test_rows_of_any_order_and_columns_of_any_size_end_alike():
    rows = grove()
    order = np.random.default_rng(5).permutation(len(rows["tree"]))
    plain = fitted(rows)
    mixed = fitted({k: v[order] for k, v in rows.items()})
    large = fitted({**rows, "rain": rows["rain"] * 1000.0, "crop": rows["crop"] * 0.01})
    assert mixed.evaluation.deviance == pytest.approx(plain.evaluation.deviance, abs=1e-7)
    first, other = (np.array(f.result["random"][0]["covariance"]) for f in (plain, large))
    scale = 0.01 * np.array([1.0, 1e-3])
    np.testing.assert_allclose(other, first * np.outer(scale, scale), rtol=1e-7)
