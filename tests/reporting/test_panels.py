"""What the panels of a picture compute: quantiles, counts, whiskers, and which dots are drawn."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from bold_orchard.reporting.figures import check, panels
from bold_orchard.reporting.figures.style import canvas

NUMBERS = st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=40)


@given(NUMBERS, st.lists(st.floats(0, 1), min_size=1, max_size=5))
def test_quantiles_of_ordered_values(values, at):
    ordered = np.sort(values)
    np.testing.assert_allclose(panels.quantiles(ordered, at), np.quantile(ordered, at), rtol=1e-12, atol=1e-9)


@pytest.mark.parametrize("values", [
    np.random.default_rng(1).normal(size=5000), np.repeat([1.0, 2.0, 4.0], [3, 9, 1]), np.arange(30.0), np.full(12, 7.0),
])  # fmt: skip
def test_a_histogram_counts_every_row_once(values, monkeypatch):
    ax = Figure().subplots()
    drawn = []
    monkeypatch.setattr(ax, "stairs", lambda counts, edges, **style: drawn.append((counts, edges)))
    panels.histogram(ax, np.random.default_rng(2).permutation(values), "residual", [])
    (counts, edges), bins = drawn[0], len(drawn[0][0])
    expected, ends = np.histogram(values, bins)
    np.testing.assert_array_equal(counts, expected)
    np.testing.assert_allclose(edges, ends)
    assert counts.sum() == len(values)


@pytest.mark.slow
@given(st.lists(st.floats(-1e3, 1e3), min_size=4, max_size=60))
def test_whiskers_end_at_the_last_row_within_one_and_a_half_boxes(values):
    values = np.asarray(values)
    ax = Figure().subplots()
    panels.box(ax, np.sort(values), 1.0, 0.5, horizontal=True)
    q1, q3 = np.quantile(values, [0.25, 0.75])
    inside = values[(values >= q1 - 1.5 * (q3 - q1)) & (values <= q3 + 1.5 * (q3 - q1))]
    lines = [line.get_xdata() for line in ax.lines]
    far = np.sort(values[(values < inside.min()) | (values > inside.max())])
    np.testing.assert_allclose([lines[2][0], lines[3][0]], [inside.min(), inside.max()], atol=1e-9)
    np.testing.assert_allclose(np.sort(lines[4]), far, atol=1e-9)


@pytest.mark.parametrize("n", [1, 500, panels.MOST_DOTS, panels.MOST_DOTS + 1, 50_000])
def test_the_ends_of_ordered_values_are_drawn_whole(n):
    shown = panels.shown_of(n)
    assert (np.diff(shown) > 0).all() and shown[0] == 0 and shown[-1] == n - 1
    if n <= panels.MOST_DOTS:
        assert len(shown) == n
    else:
        assert len(shown) <= 1600
        np.testing.assert_array_equal(shown[:300], np.arange(300))
        np.testing.assert_array_equal(shown[-300:], np.arange(n - 300, n))


def test_a_smooth_line_does_not_depend_on_the_order_of_rows():
    r = np.random.default_rng(3)
    x = r.normal(size=2000)
    y = np.sin(x) + 0.1 * r.normal(size=2000)
    at, line = panels.local_lines(x, y)
    mixed = r.permutation(2000)
    again = panels.local_lines(x[mixed], y[mixed])
    np.testing.assert_allclose(again, (at, line), rtol=1e-9)
    known = panels.local_lines(x, y, order=np.argsort(x))
    np.testing.assert_array_equal(known[1], line)
    assert np.nanmax(np.abs(line - np.sin(at))) < 0.1
    np.testing.assert_allclose(at[[0, -1]], np.quantile(x, [0.01, 0.99]))


@pytest.mark.parametrize(("n", "name"), [(500, "rows"), (400_000, "thousand rows")])
def test_large_counts_leave_room_for_the_axis_name(n, name):
    ax = Figure().subplots()
    panels.histogram(ax, np.random.default_rng(1).normal(size=n), "residual", [])
    assert ax.get_ylabel() == name and max(len(t.get_text()) for t in ax.get_yticklabels()) <= 4


@pytest.mark.parametrize("components", [[9, 8, 1, 1, 1, 1], [1, 1, 1, 1, 8, 9], [9, 9, 9, 9, 9, 9]])
def test_the_legend_of_distances_covers_no_bar(components):
    unit = SimpleNamespace(texts=[f"t{i}" for i in range(6)], name="tree")
    made = SimpleNamespace(cook=np.linspace(6, 5, 6), cook_components=np.array(components, float), unit=unit)
    figure, axes = canvas(2, 3, "at a glance", steady=True)
    ax = axes[5]
    check._distances(ax, made, 6)
    FigureCanvasAgg(figure).draw()
    box = ax.get_legend().get_window_extent()
    assert not any(box.overlaps(bar.get_window_extent()) for bar in ax.patches)
