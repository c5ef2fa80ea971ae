"""The engine's parts, each against the plain loop it stands for."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.covariance.effects.diagonal import Diagonal
from bold_orchard.covariance.effects.exchangeable import Exchangeable
from bold_orchard.covariance.effects.given import Given
from bold_orchard.covariance.effects.identity import Identity
from bold_orchard.covariance.effects.stacked import Stacked
from bold_orchard.covariance.effects.unstructured import Unstructured
from bold_orchard.crossproducts import batched
from bold_orchard.crossproducts.arrays import Arrays, RandomBlock, RandomUnit
from bold_orchard.crossproducts.assemble import nested_in, split
from bold_orchard.crossproducts.cells import Crossing
from bold_orchard.crossproducts.row_sums import Sums, one_pass, pairs_of
from bold_orchard.crossproducts.standardise import standardise

R = np.random.default_rng(12)


def units_last(a):
    return np.moveaxis(a, 0, -1)


def test_batched_algebra_equals_a_loop_over_units():
    a, b = R.normal(size=(7, 3, 3)), R.normal(size=(7, 3, 4))
    spd = a @ a.transpose(0, 2, 1) + 3 * np.eye(3)
    np.testing.assert_allclose(batched.multiply(units_last(a), units_last(b)), units_last(a @ b))
    np.testing.assert_allclose(
        batched.multiply_transposed(units_last(a), units_last(spd)), units_last(a @ spd.transpose(0, 2, 1))
    )
    low = batched.cholesky(units_last(spd))
    np.testing.assert_allclose(np.tril(np.moveaxis(low, -1, 0)), np.linalg.cholesky(spd))
    m = R.normal(size=(3, 2))
    np.testing.assert_allclose(
        batched.solve_lower_constant(low, m), units_last(np.linalg.solve(np.linalg.cholesky(spd), m[None]))
    )
    np.testing.assert_allclose(batched.gram(units_last(b)), units_last(b.transpose(0, 2, 1) @ b))
    np.testing.assert_allclose(batched.total(units_last(a), units_last(b)), (a @ b).sum(axis=0))
    np.testing.assert_allclose(batched.constant_times(m.T, units_last(b)), units_last(m.T[None] @ b))


def test_chunks_cover_all_units_once(monkeypatch):
    monkeypatch.setattr(batched, "CHUNK", 4)
    assert [list(range(10))[s] for s in batched.chunks(10)] == [[0, 1, 2, 3], [4, 5, 6, 7], [8, 9]]


STRUCTURES = [Unstructured(3), Unstructured(3, (2, 0, 1)), Diagonal(3), Identity(3), Exchangeable(3), Exchangeable(1),
              Stacked(4, (Unstructured(2), Diagonal(1), Given(1, ((0.7,),))))]  # fmt: skip


@pytest.mark.parametrize("s", STRUCTURES, ids=lambda s: f"{s.name}{s.size}{getattr(s, 'order', '')}")
def test_structures_are_linear_and_signs_leave_the_covariance(s):
    theta = R.normal(size=s.n_theta)
    t = s.factor(theta)
    assert t.shape == (s.size, s.size) and len(s.bounded) == s.n_theta
    np.testing.assert_allclose(s.factor(2 * theta), 2 * t - s.fixed)
    turned = s.signs(theta) * theta
    assert np.all(turned[s.bounded] >= 0)
    np.testing.assert_allclose(s.factor(turned) @ s.factor(turned).T, t @ t.T, atol=1e-12)
    start = s.start(np.full(s.size, 0.25))
    assert np.all(start[s.bounded] > 0)


def test_what_each_structure_can_say():
    assert [s.n_theta for s in (Unstructured(3), Diagonal(3), Identity(3), Exchangeable(3), Exchangeable(1))] == [
        6,
        3,
        1,
        2,
        1,
    ]
    t = Exchangeable(3).factor(np.array([1.0, 2.0]))
    g = t @ t.T
    np.testing.assert_allclose(np.diag(g), g[0, 0])
    np.testing.assert_allclose(g[np.triu_indices(3, 1)], g[0, 1])
    np.testing.assert_allclose(np.sort(np.linalg.eigvalsh(g)), [1, 1, 4])
    np.testing.assert_allclose(Identity(2).factor(np.array([3.0])), 3 * np.eye(2))


@pytest.mark.parametrize("order", [(), (2, 0, 1), (1, 2, 0)])
def test_theta_of_a_covariance_gives_it_back(order):
    a = R.normal(size=(3, 3))
    for gamma in (a @ a.T, np.outer(a[0], a[0]), np.diag([0.0, 2.0, 0.0]), np.zeros((3, 3))):
        s = Unstructured(3, order)
        t = s.factor(s.of_covariance(gamma))
        np.testing.assert_allclose(t @ t.T, gamma, atol=1e-10)


def test_by_size_puts_large_variances_first():
    s = Unstructured(3)
    theta = s.of_covariance(np.diag([1.0, 9.0, 4.0]))
    assert s.by_size(theta).order == (1, 2, 0)


def arrays(n=200, weights=None, intercept=True, twin=False):
    one, rain, sun = np.ones(n), R.normal(50, 3, n), R.normal(0, 1e5, n)
    x = ([0] if intercept else []) + [1, 2] + ([3] if twin else [])
    codes = R.integers(0, 9, n)
    codes[:9] = np.arange(9)
    block = RandomBlock((0, 1), Unstructured(2), 0)
    columns = (one, rain, sun, 2 * rain + 1)
    return Arrays(R.normal(1e4, 2, n), columns, tuple(x), intercept, (RandomUnit(codes, 9, (block,)),), weights)


@pytest.mark.parametrize("weighted", [True, False])
@pytest.mark.parametrize("intercept", [True, False])
@pytest.mark.parametrize("twin", [True, False])
def test_working_columns_map_back_to_the_users(weighted, intercept, twin):
    model = arrays(weights=R.uniform(0.5, 2, 200) if weighted else None, intercept=intercept, twin=twin)
    s = standardise(model)
    root = np.ones(200) if model.weights is None else np.sqrt(model.weights)
    whole = s.columns.full(list(range(len(s.columns))))
    x_work = whole[s.x] / s.scales[s.x][:, None]
    x_user = np.column_stack([model.columns[model.x[c]] for c in s.kept]) * root[:, None]
    np.testing.assert_allclose(x_work.T @ s.to_work, x_user, rtol=1e-9, atol=1e-7)
    assert s.kept == list(range(len(model.x) - (1 if twin and intercept else 0)))
    b = np.linalg.lstsq(x_user, model.y * root, rcond=None)[0]
    np.testing.assert_allclose(s.to_user(np.zeros(len(s.x))), b, rtol=1e-6)
    np.testing.assert_allclose(whole[-1], model.y * root - x_user @ b, atol=1e-6)
    assert s.log_det == pytest.approx(2 * np.log(np.abs(np.linalg.det(s.to_work))))


def test_sums_by_level_and_by_pairs_equal_a_loop():
    model = arrays()
    s = standardise(model)
    other = RandomUnit(R.integers(0, 4, 200), 4, ())
    unit = model.units[0]
    by_level, pairs = Sums(unit.codes, 9), pairs_of(unit, other)
    for a in range(3):
        by_level.want(a, 1)
        pairs.sums.want(1, a)
    response = one_pass(s.columns, [by_level, pairs.sums])
    whole = s.columns.full(list(range(len(s.columns))))
    np.testing.assert_allclose(response, whole @ whole[-1])
    for a in range(3):
        for j in range(9):
            assert by_level[a, 1][j] == pytest.approx((whole[a] * whole[1])[unit.codes == j].sum(), abs=1e-8)
        for cell, (i, j) in enumerate(zip(pairs.first, pairs.second)):
            rows = (unit.codes == i) & (other.codes == j)
            assert pairs.sums[a, 1][cell] == pytest.approx((whole[a] * whole[1])[rows].sum(), abs=1e-8)


@pytest.mark.parametrize("levels", [(3000, 200), (60000, 50000)])
def test_sparse_pairs_list_only_the_cells_that_occur(levels):
    one, two = (RandomUnit(R.integers(0, m, 500), m, ()) for m in levels)
    pairs = pairs_of(one, two)
    cells = np.unique(np.column_stack([one.codes, two.codes]), axis=0)
    np.testing.assert_array_equal(np.column_stack([pairs.first, pairs.second]), cells)
    np.testing.assert_array_equal(pairs.first[pairs.sums.codes], one.codes)


@pytest.mark.parametrize("k", [1, 2])
def test_cells_multiply_like_the_dense_block(k, monkeypatch):
    import bold_orchard.crossproducts.cells as module

    levels, q = 6, 5
    dense = R.normal(size=(k, levels, q)) * (R.uniform(size=(levels, q)) < 0.6)
    dense[:, 3] = 0.0  # a level without cells
    where = np.argwhere(np.abs(dense).sum(axis=0) > 0)
    made = Crossing.build(levels, q, [(where[:, 0], where[:, 1], dense[:, where[:, 0], where[:, 1]])])
    right, left = R.normal(size=(q, 3)), R.normal(size=(k, 3, levels))
    np.testing.assert_allclose(made.times(right), np.einsum("kjq,qw->kwj", dense, right), atol=1e-12)
    np.testing.assert_allclose(made.transposed_times(left), np.einsum("kjq,kwj->qw", dense, left), atol=1e-12)
    c = np.repeat(np.array([1.0, 2.0, 1.0, 2.0, 3.0, 3.0])[None, None], k, axis=0).repeat(k, axis=1)
    a = R.normal(size=(k, k))
    middle = (a @ a.T)[:, :, None] / (1 + c)
    bar = R.normal(size=(q + 2, q + 2))
    bar = bar + bar.T
    for stacked in (0, 10**6):
        monkeypatch.setattr(module, "MOST_STACKED", stacked)
        made._stack = None
        out = np.zeros((q + 2, q + 2))
        made.subtract_gram(out, c, middle)
        np.testing.assert_allclose(out[:q, :q], -np.einsum("ajq,abj,bjp->qp", dense, middle, dense), atol=1e-10)
        assert not out[q:].any()
        wanted = np.einsum("abj,bjq,qp,cjp,dcj->ad", middle, dense, bar[:q, :q], dense, middle)
        np.testing.assert_allclose(made.quadratic(bar, middle, c), wanted, atol=1e-9)
    np.testing.assert_allclose(made.per_level(bar), np.einsum("ajq,qp,bjp->abj", dense, bar[:q, :q], dense), atol=1e-10)


def test_which_units_form_the_chain():
    tree = np.repeat(np.arange(12), 4)
    orchard, season = tree // 3, np.tile(np.arange(4), 12)

    def unit(codes, factor=None):
        return RandomUnit(codes, int(codes.max()) + 1, (), factor)

    def order(*units, **more):
        return split(Arrays(np.zeros(48), (), (), False, units, **more))

    assert order(unit(orchard), unit(tree)) == ([1, 0], [])
    assert order(unit(season), unit(tree), unit(orchard)) == ([1, 0], [2]) or order(
        unit(season), unit(tree), unit(orchard)
    ) == ([1, 2], [0])
    assert order(unit(tree, np.eye(12)), unit(orchard)) == ([1], [0])
    assert order(unit(tree), unit(season), within=season)[1] != []
    assert nested_in(unit(tree), unit(orchard)).tolist() == list(np.arange(12) // 3)
    assert nested_in(unit(orchard), unit(tree)) is None and nested_in(unit(season), unit(orchard)) is None
