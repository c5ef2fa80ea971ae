"""Products with a weight for every row, substitution and leverages, against dense matrices."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.crossproducts import by_level, weighted
from bold_orchard.crossproducts.elimination import backward, eliminate
from bold_orchard.crossproducts.substitution import scores, solve
from laplace_cases import UNITS, dense_columns, made, orchards, somewhere


@pytest.fixture(autouse=True)
def kin(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    r = np.random.default_rng(2)
    root = r.normal(size=(8, 8))
    pd.DataFrame(root @ root.T / 8 + np.eye(8), range(8), range(8)).to_csv("kin.csv")


def parts(units, seed=0, lowest=0.2):
    """A model, a point, weights some of which may be negative, and Z Lambda dense."""
    _, c = made("poisson", units)
    point = somewhere(c)
    r = np.random.default_rng(seed)
    weight = r.uniform(lowest, 2.0, c.rows.frame.n)
    return c, point, weight, r.normal(size=len(weight)), dense_columns(c, point)


def joined(c, values):
    """Per-unit effects of v (k, levels) as one vector in the order of the dense columns."""
    return np.concatenate([values[f].ravel() for f in range(len(c.rows.units))])


@pytest.mark.parametrize("units", UNITS)
@pytest.mark.parametrize("lowest", [0.2, -0.05])
def test_one_newton_step_is_the_dense_solution(units, lowest):
    c, point, weight, response, z = parts(units, lowest=lowest)
    factors = c.factors(point)
    e = eliminate(c.rows.at(weight, response), factors)
    kept, _ = scores(e, np.ones(1))
    a = np.eye(z.shape[1]) + z.T @ (weight[:, None] * z)
    np.testing.assert_allclose(
        joined(c, c.unscored(e.products, factors, kept)), np.linalg.solve(a, z.T @ response), atol=1e-9
    )
    assert e.log_det == pytest.approx(np.linalg.slogdet(a)[1], abs=1e-9)


@pytest.mark.parametrize("units", UNITS)
def test_other_right_hand_sides_and_leverages_are_dense_ones(units):
    c, point, weight, response, z = parts(units)
    factors = c.factors(point)
    products = c.rows.at(weight, np.zeros_like(weight))
    e = eliminate(products, factors)
    a_inverse = np.linalg.inv(np.eye(z.shape[1]) + z.T @ (weight[:, None] * z))
    kept, effects = solve(e, c.rows.to_stages(products, c.rows.pull(response)))
    np.testing.assert_allclose(joined(c, c.unscored(products, factors, kept)), a_inverse @ z.T @ response, atol=1e-9)
    across = c.rows.spread(c.rows.from_stages(products, effects))
    np.testing.assert_allclose(across, z @ a_inverse @ z.T @ response, atol=1e-9)
    made = c.rows.leverages(products, backward(e, np.zeros((1, 1)), inverses=True))
    h = np.concatenate(c.rows.each(made))
    np.testing.assert_allclose(h, np.einsum("ij,jk,ik->i", z, a_inverse, z), atol=1e-9)


@pytest.mark.parametrize("alike", [1, 2, 1000])
def test_pieces_of_rows_change_nothing(monkeypatch, alike):
    c, _, weight, response, _ = parts(UNITS[2])
    whole_rows, whole = c.rows, c.rows.at(weight, response)
    monkeypatch.setattr(by_level, "PIECE", 17)
    monkeypatch.setattr(by_level, "ALIKE", alike)
    fresh = made("poisson", UNITS[2])[1].rows
    assert len(fresh.pieces) > 3
    back = np.argsort(whole_rows.order)[fresh.order]
    again = fresh.at(weight[back], response[back])
    for one, two in zip(whole.stages, again.stages):
        np.testing.assert_allclose(one.c, two.c)
        np.testing.assert_allclose(one.right, two.right)


def test_pulling_is_the_transpose_of_spreading():
    c, _, _, response, _ = parts(UNITS[4])
    r = np.random.default_rng(3)
    effects = {f: r.normal(size=(u.size, u.levels)) for f, u in enumerate(c.rows.units)}
    pulled = c.rows.pull(response)
    assert response @ c.rows.spread(effects) == pytest.approx(
        sum(float((pulled[f] * effects[f]).sum()) for f in effects)
    )


def test_too_wide_a_crossing_is_refused_by_name(monkeypatch):
    from bold_orchard.errors import OrchardError

    monkeypatch.setattr(weighted, "MOST_GRID", 10)
    with pytest.raises(OrchardError, match="crossed effects beside"):
        made("poisson", UNITS[3], orchards())
