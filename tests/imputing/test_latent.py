"""Covariates as functions of normal variables: what comes back, what is drawn given a value, thresholds that settle."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from bold_orchard.imputing.latent import (
    Binary,
    Count,
    Measured,
    Ordered,
    Unordered,
    latent_of_numbers,
    truncated,
)
from bold_orchard.sampling.elliptical import slice_sampled

RNG = np.random.default_rng(4)
NUMBERS = RNG.normal(3, 2, 60)
CASES = {
    "number": (Measured(NUMBERS), NUMBERS),
    "skewed number": (Measured(np.exp(2 * NUMBERS)), np.exp(2 * NUMBERS)),
    "count": (Count(NUMBERS), RNG.poisson(4, 60).astype(float)),
    "binary": (Binary(NUMBERS, 2), RNG.integers(0, 2, 60).astype(float)),
    "ordered": (Ordered(RNG.integers(0, 5, 60), 5), RNG.integers(0, 5, 60).astype(float)),
    "unordered": (Unordered(4), RNG.integers(0, 4, 60).astype(float)),
}


@pytest.mark.parametrize("name", CASES)
def test_values_come_back_from_their_latent_variables(name):
    latent, x = CASES[name]
    z = latent.start(x, np.random.default_rng(1))
    assert z.shape == (len(x), latent.dims)
    assert latent.values(z) == pytest.approx(x, rel=1e-12)
    mean = np.random.default_rng(2).normal(size=z.shape)
    drawn = latent.given(z, x, mean, 1.3, np.random.default_rng(3))
    assert latent.values(drawn) == pytest.approx(x, rel=1e-12)
    assert latent.logarithm is (name == "skewed number") if isinstance(latent, Measured) else (drawn != z).any()


def test_truncated_normals_have_their_moments_and_stay_inside_far_tails():
    r = np.random.default_rng(1)
    made = truncated(np.full(40_000, 1.0), 2.0, np.full(40_000, 2.0), np.full(40_000, np.inf), r)
    exact = stats.truncnorm(0.5, np.inf, loc=1.0, scale=2.0)
    assert made.mean() == pytest.approx(exact.mean(), abs=0.03) and made.std() == pytest.approx(exact.std(), abs=0.03)
    for mean in (-30.0, 30.0):
        far = truncated(np.full(200, mean), 1.0, np.full(200, -0.5), np.full(200, 0.5), r)
        assert (np.abs(far) <= 0.5).all() and np.isfinite(far).all()


def test_numbers_are_of_the_kind_that_their_values_say():
    r = np.random.default_rng(2)
    kinds = {
        "number": r.normal(size=80),
        "count": r.poisson(6, 80).astype(float),
        "ordered": r.integers(1, 6, 80).astype(float),
        "binary": r.choice([2.0, 5.0], 80),
    }
    for name, values in kinds.items():
        assert latent_of_numbers(values)[0].name == name
    assert latent_of_numbers(np.arange(1990.0, 2020.0))[0].name == "number"


def test_free_thresholds_stay_between_the_values_of_their_neighbours():
    r = np.random.default_rng(5)
    x = r.integers(0, 5, 200).astype(float)
    latent = Ordered(x, 5)
    z = latent.start(x, r)
    first = latent.cuts.copy()
    latent.settle(z, x, r)
    assert (latent.cuts[:2] == first[:2]).all() and (latent.cuts[2:] != first[2:]).all()
    assert (np.diff(latent.cuts) > 0).all() and latent.values(z) == pytest.approx(x)


def test_rows_of_one_block_move_together_to_prior_times_likelihood():
    """Two values whose sum was measured: their joint posterior in closed form."""
    r, pairs, total = np.random.default_rng(3), 4_000, 3.0
    block = np.repeat(np.arange(pairs), 2)
    here = np.zeros((2 * pairs, 1))
    for _ in range(30):
        here = slice_sampled(
            here, r.normal(size=here.shape), block, lambda u: -0.5 * ((total - u[::2, 0] - u[1::2, 0]) / 0.5) ** 2, r
        )
    one, two = here[::2, 0], here[1::2, 0]
    covariance = np.eye(2) - np.ones((2, 2)) / (2 + 0.25)
    assert np.array([one.mean(), two.mean()]) == pytest.approx(total / 2.25, abs=0.06)
    assert np.cov(one, two) == pytest.approx(covariance, abs=0.06)
