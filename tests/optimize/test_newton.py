"""The bounded Newton search on functions whose minima are known."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.optimize.newton import difference_hessian, minimise


class Point:
    """A function given by value, gradient and an optional rough Hessian."""

    def __init__(self, f, g, theta, rough=None):
        self.f, self.g, self.theta, self.rough = f, g, np.asarray(theta, dtype=float), rough

    @property
    def deviance(self):
        return float(self.f(self.theta))

    @property
    def gradient(self):
        return np.asarray(self.g(self.theta), dtype=float)

    @property
    def curvature(self):
        if self.rough is not None:
            return self.rough(self.theta)
        return difference_hessian(lambda t, near: Point(self.f, self.g, t), self)

    def brief(self):
        return None


def run(f, g, start, nonnegative=None, edges=None, rough=None, **options):
    start = np.asarray(start, dtype=float)
    none = np.zeros(len(start), dtype=bool)
    return minimise(lambda t, near=None: Point(f, g, t, rough), start, none if nonnegative is None else np.array(nonnegative),
                    none if edges is None else np.array(edges), **options)  # fmt: skip


def bowl(t):
    return 3 * (t[0] - 1) ** 2 + (t[1] + 2) ** 2 + t[0] * t[1]


def bowl_slope(t):
    return [6 * (t[0] - 1) + t[1], 2 * (t[1] + 2) + t[0]]


def test_a_quadratic_is_solved_exactly():
    found = run(bowl, bowl_slope, [5, 5])
    best = np.linalg.solve([[6, 1], [1, 2]], [6, -4])
    assert found.converged and found.reason == ""
    np.testing.assert_allclose(found.point.theta, best, atol=1e-9)
    np.testing.assert_allclose(found.hessian, [[6, 1], [1, 2]], rtol=1e-6)
    assert found.decrement < 1e-12 and found.evaluations < 15


def test_a_curved_valley():
    def f(t):
        return 100 * (t[1] - t[0] ** 2) ** 2 + (1 - t[0]) ** 2

    def g(t):
        return [-400 * t[0] * (t[1] - t[0] ** 2) - 2 * (1 - t[0]), 200 * (t[1] - t[0] ** 2)]

    found = run(f, g, [-1.2, 1.0])
    assert found.converged
    np.testing.assert_allclose(found.point.theta, [1, 1], atol=1e-7)


def test_a_wrong_hessian_only_slows_the_search():
    found = run(bowl, bowl_slope, [5, 5], rough=lambda t: np.diag([20.0, 0.5]))
    assert found.converged
    np.testing.assert_allclose(found.point.theta, np.linalg.solve([[6, 1], [1, 2]], [6, -4]), atol=1e-7)


def test_a_start_on_a_saddle_is_left():
    """The slope is zero at the start; only the curvature shows the way down, to either side."""
    found = run(lambda t: (t[0] ** 2 - 1) ** 2 + t[1] ** 2, lambda t: [4 * t[0] * (t[0] ** 2 - 1), 2 * t[1]], [0, 0])
    assert found.converged and abs(found.point.theta[0]) == pytest.approx(1, abs=1e-8)


def test_a_wall_holds_and_is_not_a_failure():
    found = run(
        lambda t: (t[0] + 1) ** 2 + (t[1] - 2) ** 2,
        lambda t: [2 * (t[0] + 1), 2 * (t[1] - 2)],
        [1, 1],
        nonnegative=[True, False],
    )
    assert found.converged
    np.testing.assert_allclose(found.point.theta, [0, 2], atol=1e-9)


def test_a_start_at_the_wall_may_leave_it():
    found = run(lambda t: (t[0] - 3) ** 2, lambda t: [2 * (t[0] - 3)], [0.0], nonnegative=[True])
    assert found.converged and found.point.theta[0] == pytest.approx(3)


def test_edges_are_cleared_to_zero_exactly():
    found = run(lambda t: 1e-3 * t[0] ** 2 + (t[1] - 1) ** 2, lambda t: [2e-3 * t[0], 2 * (t[1] - 1)], [0.005, 0],
                edges=[True, False], rough=lambda t: np.diag([5.0, 2.0]))  # fmt: skip
    assert found.converged and found.point.theta[0] == 0.0


def test_regions_where_the_function_does_not_exist_are_stepped_back_from():
    def f(t):
        return t[0] - 2 * np.log(t[0]) if t[0] > 0 else np.inf

    found = run(f, lambda t: [1 - 2 / t[0]], [9.0], rough=lambda t: np.array([[0.01]]))
    assert found.converged and found.point.theta[0] == pytest.approx(2, abs=1e-6)


def test_a_function_without_a_minimum_is_not_called_converged():
    found = run(lambda t: -t[0], lambda t: [-1.0], [0.0], rough=lambda t: np.eye(1), max_steps=5)
    assert not found.converged and found.reason


def test_a_maximum_is_not_called_converged():
    found = run(lambda t: -np.cosh(t[0]) if abs(t[0]) < 3 else np.inf, lambda t: [-np.sinh(t[0])], [0.0], max_steps=4)
    assert not found.converged


def test_nothing_to_search():
    found = run(lambda t: 1.0, lambda t: [], [])
    assert found.converged and found.iterations == 0 and found.hessian.shape == (0, 0)


def test_progress_is_told_every_step():
    steps = []
    none = np.zeros(2, dtype=bool)
    minimise(
        lambda t, near=None: Point(bowl, bowl_slope, t, lambda t: 30 * np.eye(2)),
        np.array([9.0, 9.0]),
        none,
        none,
        progress=steps.append,
    )
    assert steps == list(range(1, len(steps) + 1)) and len(steps) > 3
