"""The search that corrects an approximate curvature, on functions whose minimum is known."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.optimize.secant import difference_hessian, settle


class Bowl:
    """A quartic bowl with a curvature that is wrong by a factor; counts how often it is looked at."""

    looks = 0

    def __init__(self, theta, factor=0.3):
        Bowl.looks += 1
        self.theta, self.factor = np.asarray(theta, dtype=float), factor
        self.scale = np.array([1.0, 30.0, 0.2])

    def shifted(self):
        return self.theta - [1.0, -2.0, 0.5]

    @property
    def deviance(self):
        d = self.shifted()
        return float(self.scale @ d**2 + (d[0] * d[1]) ** 2 + d @ d * 0.1 + 5.0)

    @property
    def gradient(self):
        d = self.shifted()
        return 2 * self.scale * d + 2 * np.array([d[0] * d[1] ** 2, d[1] * d[0] ** 2, 0.0]) + 0.2 * d

    @property
    def curvature(self):
        return self.factor * np.diag(2 * self.scale + 0.2)

    def brief(self):
        return None

    def along(self, i):
        return lambda h: type(self)(self.theta + h * np.eye(len(self.theta))[i])


NONE = np.zeros(3, dtype=bool)


def points(kind, *more):
    return lambda theta, near=None: kind(theta, *more)


@pytest.mark.parametrize("many", [False, True])
@pytest.mark.parametrize("factor", [0.3, 1.0, 4.0])
def test_the_minimum_is_found_whatever_the_curvature_claims(factor, many):
    found = settle(points(Bowl, factor), np.array([3.0, 1.0, -4.0]), NONE, NONE, many=many)
    assert found.converged and found.decrement < 1e-9
    np.testing.assert_allclose(found.point.theta, [1.0, -2.0, 0.5], atol=1e-4)
    np.testing.assert_allclose(
        found.hessian, np.diag(2 * np.array([1.0, 30.0, 0.2]) + 0.2), atol=1e-2 if many else 1e-5
    )


def test_a_parameter_nothing_depends_on_is_not_judged():
    class Flat(Bowl):
        @property
        def deviance(self):
            return super().deviance - 0.3 * self.shifted()[2] ** 2 + float(np.exp(-self.theta[2]))

        @property
        def gradient(self):
            return super().gradient - [0, 0, 0.6 * self.shifted()[2] + np.exp(-self.theta[2])]

        @property
        def curvature(self):
            return np.diag([2.2, 60.2, max(np.exp(-self.theta[2]), 1e-12)])

    free = settle(points(Flat), np.array([1.5, -1.0, 2.0]), NONE, NONE, max_steps=40)
    assert free.point.theta[2] > 10
    held = settle(
        points(Flat),
        np.array([1.5, -1.0, 2.0]),
        NONE,
        NONE,
        max_steps=40,
        held=lambda t: np.array([False, False, t[2] > 8]),
    )
    assert held.converged and held.decrement < 1e-8


def test_a_saddle_is_left():
    class Saddle(Bowl):
        @property
        def deviance(self):
            x, y, z = self.theta
            return float((x**2 - 1) ** 2 + y**2 + z**2)

        @property
        def gradient(self):
            x, y, z = self.theta
            return np.array([4 * x * (x**2 - 1), 2 * y, 2 * z])

        @property
        def curvature(self):
            return np.diag([4.0, 2.0, 2.0])

    found = settle(points(Saddle), np.array([0.0, 1.0, 1.0]), NONE, NONE)
    assert found.converged and abs(found.point.theta[0]) == pytest.approx(1.0, abs=1e-5)
    assert difference_hessian(Saddle(np.array([1.0, 0.0, 0.0])), False)[0, 0] == pytest.approx(8.0, rel=1e-4)


def test_without_parameters_there_is_nothing_to_search():
    class Point(Bowl):
        deviance, gradient, curvature = 5.0, np.zeros(0), np.zeros((0, 0))

    nothing = settle(points(Point), np.zeros(0), NONE[:0], NONE[:0])
    assert nothing.converged and nothing.iterations == 0 and nothing.hessian.shape == (0, 0)


def test_the_step_limit_is_told():
    class Tilted(Bowl):
        """Never flat: the gradient promises a decrease that no step finds."""

        @property
        def gradient(self):
            return super().gradient + 1.0

    found = settle(points(Tilted), np.array([30.0, 40.0, -40.0]), NONE, NONE, max_steps=1)
    assert not found.converged and found.reason == "the step limit was reached" and found.iterations == 1


class Valley(Bowl):
    """Rosenbrock's (1960) curved valley, whose curvature at hand promises nothing at all: new Hessians alone lead along it."""

    @property
    def deviance(self):
        x, y = self.theta
        return float(10.0 * (y - x**2) ** 2 + (1.0 - x) ** 2)

    @property
    def gradient(self):
        x, y = self.theta
        return np.array([-40.0 * x * (y - x**2) - 2.0 * (1.0 - x), 20.0 * (y - x**2)])

    @property
    def curvature(self):
        return 1e15 * np.eye(2)


def test_a_curved_valley_is_followed_to_its_end():
    found = settle(points(Valley), np.array([-1.2, 1.0]), NONE[:2], NONE[:2])
    assert found.converged
    np.testing.assert_allclose(found.point.theta, [1.0, 1.0], atol=1e-6)
