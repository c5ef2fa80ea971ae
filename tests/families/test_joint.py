"""Families of several linear predictors: derivatives against differences, the density against the plain family's."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.families import family_of
from bold_orchard.families.base import Data
from bold_orchard.families.joint import joint_of
from bold_orchard.families.nominal import nominal_of

N, STEP = 7, 1e-5
R = np.random.default_rng(1)
COUNTS, SIZES = R.poisson(1.5, N).astype(float), R.gamma(2.0, 1.0, N)
LIMITS = {"low": np.full(N, 1.0), "high": np.full(N, 2.5)}
CASES = [
    ("negative-binomial", ("spread",), COUNTS, {}),
    ("zero-inflated-poisson", ("zeros",), COUNTS, {}),
    ("zero-inflated-negative-binomial", ("spread", "zeros"), COUNTS, {}),
    ("zero-inflated-negative-binomial", ("zeros",), COUNTS, {}),
    ("hurdle-poisson", ("zeros",), COUNTS, {}),
    ("hurdle-negative-binomial", ("spread", "zeros"), COUNTS, {}),
    ("hurdle-negative-binomial", ("zeros",), COUNTS, {"weights": np.linspace(0.5, 2.0, N)}),
    ("gamma", ("spread",), SIZES, {"weights": np.linspace(0.5, 2.0, N)}),
    ("lognormal", ("spread",), SIZES, {}),
    ("student", ("spread",), SIZES, {}),
    ("beta", ("spread",), R.beta(2.0, 2.0, N), {}),
    ("beta-binomial", ("spread",), COUNTS, {"trials": COUNTS + 3.0}),
    ("gaussian", ("spread",), np.clip(SIZES, 1.0, 2.5), LIMITS),
    ("lognormal", ("spread",), np.clip(SIZES, 1.0, 2.5), LIMITS),
    ("student", ("spread",), np.clip(SIZES, 1.0, 2.5), LIMITS),
]


def differences(family, eta, extra):
    """The largest difference of any derivative from that of the one before it by central differences."""
    value, *slopes = family.derivatives(eta, extra)
    worst = [0.0]
    for p in range(len(eta)):
        h = np.zeros((len(eta), 1))
        h[p] = STEP
        up, down = family.derivatives(eta + h, extra), family.derivatives(eta - h, extra)
        worst += [np.abs((a - b) / (2 * STEP) - own[p]).max() for a, b, own in zip(up, down, slopes)]
    for k, own in enumerate(family.extras(eta, extra)):
        h = STEP * np.eye(len(extra))[k]
        up, down = family.derivatives(eta, extra + h), family.derivatives(eta, extra - h)
        worst += [np.abs((a - b) / (2 * STEP) - d).max() for a, b, d in zip(up, down, own)]
    assert value.shape == eta.shape[1:]
    return max(worst)


@pytest.mark.parametrize(("name", "parts", "y", "more"), CASES)
def test_every_derivative_is_that_of_the_one_before_it(name, parts, y, more):
    kind = family_of(name, None, bool(more.get("low") is not None))
    joint = joint_of(kind, ("mean", *parts))
    family = joint(kind.links[0], Data(y, **more))
    r = np.random.default_rng(2)
    eta, extra = 0.5 * r.normal(size=(len(parts) + 1, N)), 0.5 + 0.3 * r.normal(size=len(joint.extra_names))
    assert differences(family, eta, extra) < 1e-8
    assert np.linalg.eigvalsh(np.moveaxis(family.expected(eta, extra), -1, 0)).min() > 0
    written_once = np.broadcast_to(family.jet(eta, extra).value, (N,))
    assert written_once == pytest.approx(family.value(eta, extra), abs=1e-10)


@pytest.mark.parametrize(("name", "parts", "y", "more"), CASES)
def test_one_value_for_all_rows_is_the_plain_family(name, parts, y, more):
    kind = family_of(name, None, bool(more.get("low") is not None))
    joint, plain = joint_of(kind, ("mean", *parts)), kind(kind.links[0], Data(y, **more))
    family = joint(kind.links[0], Data(y, **more))
    own = np.linspace(0.3, 0.9, len(kind.extra_names))
    mean = np.linspace(-0.4, 0.8, N)
    eta = np.array([mean, *(np.full(N, p.sign * own[p.place]) for p in joint.chosen)])
    extra = own[list(joint.kept)]
    for one, other in zip(plain.derivatives(mean, own), family.derivatives(eta, extra)):
        assert other[(0,) * (other.ndim - 1)] == pytest.approx(one, rel=1e-9, abs=1e-11)
    assert family.mean(eta, extra) == pytest.approx(plain.mean(mean, own))
    assert family.variance(eta, extra) == pytest.approx(plain.variance(mean, own))


def test_unordered_levels():
    family = nominal_of(("a", "b", "c"))("logit", Data(np.array([0, 1, 2, 3, 3, 1, 0.0])))
    eta = np.random.default_rng(3).normal(size=(3, N))
    assert differences(family, eta, np.zeros(0)) < 1e-8
    below, upto = family.cdf(family.y, eta, np.zeros(0))
    assert np.log(upto - below) == pytest.approx(family.value(eta, np.zeros(0)))
    drawn = np.array([family.draw(eta, np.zeros(0), np.random.default_rng(s)) for s in range(4000)])
    shares = np.array([(drawn == k).mean(axis=0) for k in range(4)])
    assert np.abs(shares - family.probabilities(eta)).max() < 0.035
