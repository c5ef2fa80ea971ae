"""Least squares inside every level at once, where digits are lost and where they are not."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.data.table import Table
from bold_orchard.diagnostics import within_units
from bold_orchard.diagnostics.within_units import within_residuals
from bold_orchard.inference.fit import fit

LEVELS, ROWS = 12, 9


def rows(offset=0.0, alike=0.0, seed=1):
    """Trees of nine rows; ``alike`` is how little sun differs from rain inside a tree."""
    r = np.random.default_rng(seed)
    tree = np.repeat(np.arange(LEVELS), ROWS)
    rain = offset + r.normal(size=len(tree))
    sun = r.normal(size=len(tree)) if not alike else rain + alike * r.normal(size=len(tree))
    crop = 3.0 + 0.5 * (rain - offset) + r.normal(size=LEVELS)[tree] + r.normal(size=len(tree))
    return {"tree": tree, "rain": rain, "sun": sun, "height": np.linspace(1, 2, LEVELS)[tree], "crop": crop}


def judge(data, columns):
    """Residuals of each tree's own least squares on centred columns, by an orthogonal decomposition."""
    out = np.empty(len(data["tree"]))
    for level in range(LEVELS):
        own = data["tree"] == level
        x = np.column_stack([data[c][own] - data[c][own].mean() for c in columns])
        y = data["crop"][own] - data["crop"][own].mean()
        out[own] = y - x @ np.linalg.lstsq(x, y, rcond=1e-12)[0]
    return out


@pytest.mark.parametrize(
    ("offset", "alike", "atol"), [(0.0, 0.0, 1e-12), (1e4, 0.0, 1e-10), (0.0, 1e-5, 1e-9), (1e3, 1e-3, 1e-9)]
)
def test_residuals_equal_an_orthogonal_decomposition_tree_by_tree(offset, alike, atol):
    data = rows(offset, alike)
    made = fit("crop = rain + sun + height; each tree: intercept", Table(data, "t.csv", len(data["tree"])))
    found = within_residuals(made, made.design.units[0])
    np.testing.assert_allclose(found.residual, judge(data, ["rain", "sun"]), atol=atol)
    assert (found.unit.counts == ROWS).all() and found.possible.all()


@pytest.mark.parametrize(("offset", "passes"), [(0.0, 1), (1e7, 2)])
def test_columns_are_taken_out_again_only_where_digits_are_lost(offset, passes):
    data = rows(offset)
    basis = within_units._Basis(data["tree"], LEVELS)
    basis.add(np.ones(len(data["tree"])))
    sums, plain = [], basis._sum
    basis._sum = lambda values: sums.append(1) or plain(values)
    rest, left, new = basis.rest(data["rain"])
    assert len(sums) == 1 + 2 * passes and new.all()
    np.testing.assert_allclose(plain(rest), 0.0, atol=1e-9 * max(1.0, 1e-7 * offset))
    np.testing.assert_allclose(left, plain(rest**2), rtol=1e-12)


def test_what_is_constant_in_every_tree_counts_for_nothing():
    data = rows()
    made = fit("crop = rain + height; each tree: intercept", Table(data, "t.csv", len(data["tree"])))
    plain = fit("crop = rain; each tree: intercept", Table(data, "t.csv", len(data["tree"])))
    one, two = (within_residuals(f, f.design.units[0]) for f in (made, plain))
    np.testing.assert_allclose(one.residual, two.residual, atol=1e-12)
    np.testing.assert_allclose(one.standardised, two.standardised, atol=1e-12)
