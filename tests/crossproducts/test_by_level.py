"""Rows by level, however they are laid: sums and repeats are those that counting row by row gives."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bold_orchard.crossproducts import by_level
from bold_orchard.crossproducts.by_level import laid, plain_pieces


def codes_of(counts, seed):
    return np.random.default_rng(seed).permutation(np.repeat(np.arange(len(counts)), counts))


@given(
    st.lists(st.integers(1, 7), min_size=1, max_size=40), st.integers(0, 99), st.sampled_from([1, 3, 1000]), st.integers(1, 60)
)  # fmt: skip
def test_sums_and_repeats_are_those_of_single_rows(counts, seed, alike, piece):
    patch, codes = pytest.MonkeyPatch(), codes_of(counts, seed)
    n, levels = len(codes), len(counts)
    with patch.context() as m:
        m.setattr(by_level, "ALIKE", alike)
        m.setattr(by_level, "PIECE", piece)
        order, pieces = laid(codes, levels)
    assert sorted(order.tolist()) == list(range(n))
    edges = [0, *(p.rows.stop for p in pieces)]
    assert [p.rows.start for p in pieces] == edges[:-1] and edges[-1] == n
    r = np.random.default_rng(seed)
    values, own = r.normal(size=(2, n)), r.normal(size=(3, levels))
    sums, spread = np.full((2, levels), np.nan), np.empty((3, n))
    for p in pieces:
        p.sums(values[:, order[p.rows]], sums)
        spread[:, order[p.rows]] = p.spread(own)
    plain = np.zeros((2, levels))
    for i, code in enumerate(codes):
        plain[:, code] += values[:, i]
    np.testing.assert_allclose(sums, plain, atol=1e-12)
    np.testing.assert_array_equal(spread, own[:, codes])


def test_levels_with_equally_many_rows_lie_side_by_side():
    many = by_level.ALIKE
    codes = codes_of([3] * many + [2] * (many - 1) + [500], 1)
    order, pieces = laid(codes, 2 * many)
    blocks = [b for p in pieces for b in p.blocks]
    assert [(b.count, len(b.levels)) for b in blocks] == [(3, many), (0, many)]
    np.testing.assert_array_equal(codes[order[: 3 * many]].reshape(3, many), np.tile(np.arange(many), (3, 1)))
    assert set(codes[order[3 * many :]]) == set(range(many, 2 * many))


def test_a_piece_holds_some_ten_thousand_rows_at_least():
    _, pieces = laid(codes_of(np.random.default_rng(2).poisson(20, 20_000) + 1, 3), 20_000)
    sizes = [p.rows.stop - p.rows.start for p in pieces]
    assert min(sizes[:-1]) >= by_level.PIECE // 2 and max(sizes) <= 2 * by_level.PIECE


def test_rows_without_a_unit_are_cut_anywhere():
    pieces = plain_pieces(3 * by_level.PIECE + 1)
    assert len(pieces) == 4 and not any(p.blocks for p in pieces)
    assert pieces[-1].rows == slice(3 * by_level.PIECE, 3 * by_level.PIECE + 1)
