"""Priors: their densities, and the coordinates in which covariances are sampled."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import integrate, stats

from bold_orchard.errors import UsageError
from bold_orchard.sampling.covariances import Covariance, reported
from bold_orchard.sampling.laws import law, read_law, read_priors

KNOWN = {
    "normal(1, 2)": stats.norm(1, 2), "student(3, 1, 2)": stats.t(3, 1, 2), "half-normal(2)": stats.halfnorm(scale=2),
    "exponential(0.5)": stats.expon(scale=2),
}  # fmt: skip


@pytest.mark.parametrize("text", KNOWN)
def test_densities_and_slopes(text):
    made = read_law(text)
    for x in (0.3, 1.7):
        value, slope = made.density(x)
        assert value == pytest.approx(KNOWN[text].logpdf(x))
        assert slope == pytest.approx((made.density(x + 1e-6)[0] - made.density(x - 1e-6)[0]) / 2e-6, abs=1e-6)
    drawn = [made.drawn(np.random.default_rng(i)) for i in range(400)]
    assert stats.kstest(drawn, KNOWN[text].cdf).pvalue > 1e-3


@pytest.mark.parametrize("text, said", [
    ("rain normal(0, 1)", "PARAMETER = law"), ("rain = normall(0, 1)", "did you mean 'normal'"), ("rain = normal(0)", "normal(m, s)"),
    ("rain = normal(0, -1)", "above zero"), ("rain = normal(0, x)", "numbers"), ("rain = lkj(0)", "above zero"),
])  # fmt: skip
def test_nonsense_is_refused_with_the_place(text, said):
    with pytest.raises(UsageError) as e:
        read_priors([text])
    assert said in str(e.value)


def test_a_parameter_whose_name_holds_a_sign():
    assert list(read_priors(["spread [a=b] = normal(0, 1)"])) == ["spread [a=b]"]


def covariance(kind, k, eta=2.0, pair_laws=None, sd="half-normal(2)"):
    laws = tuple(read_law(sd) for _ in range(1 if kind in ("identity", "exchangeable") else k))
    pairs = tuple((i, j) for i in range(k) for j in range(i + 1, k)) if kind in ("unstructured", "exchangeable") else ()
    return Covariance(kind, k, laws, eta, pair_laws or {}, pairs)


CASES = [("unstructured", 3), ("unstructured", 2), ("diagonal", 2), ("identity", 3), ("exchangeable", 3)]


@pytest.mark.parametrize("kind, k", CASES)
def test_factor_and_gradients(kind, k):
    c = covariance(
        kind, k, 1.7, {(1, 0): law("normal", 0.2, 0.3)} if kind in ("unstructured", "exchangeable") else None
    )
    z = 0.4 * np.sin(np.arange(c.size) + 1.0)
    low, changes, _, gradient = c.at(z)
    for i in range(c.size):
        h = 1e-6 * np.eye(c.size)[i]
        up, down = c.at(z + h), c.at(z - h)
        assert changes[i] == pytest.approx((up[0] - down[0]) / 2e-6, abs=1e-8)
        assert gradient[i] == pytest.approx((up[2] - down[2]) / 2e-6, abs=1e-7)
    assert c.start(low @ low.T, np.ones(k)) == pytest.approx(z, abs=1e-9)


def test_the_law_of_a_correlation_is_beta():
    """Under lkj(eta) one of three correlations is 2 Beta(a, a) - 1, a = eta - 1 + k / 2."""
    c, rng = covariance("unstructured", 3, 2.0), np.random.default_rng(5)
    drawn = np.array([reported(c, c.drawn(rng))[3:] for _ in range(3000)])
    a = 2.0 - 1.0 + 1.5
    for r in drawn.T:
        assert stats.kstest((r + 1) / 2, stats.beta(a, a).cdf).pvalue > 1e-3


def test_density_of_two_effects_has_the_jacobian():
    """exp(log prior) over z has the mean correlation squared of LKJ(3) in two dimensions, 1 / (2 eta + 1)."""
    c = covariance("unstructured", 2, 3.0)
    weight = lambda z: np.exp(c.at(np.array([0.0, 0.0, z]))[2])  # noqa: E731
    whole = integrate.quad(weight, -12, 12)[0]
    square = integrate.quad(lambda z: weight(z) * np.tanh(z) ** 2, -12, 12)[0]
    assert square / whole == pytest.approx(1 / 7, abs=1e-6)


@pytest.mark.parametrize(("k", "eta"), [(2, 2.0), (3, 1.0), (4, 3.5)])
def test_drawn_correlations_of_exchangeable_effects_follow_their_density(k, eta):
    """The drawn coordinate against the density that the sampler uses, summed on a fine grid."""
    c, rng = covariance("exchangeable", k, eta), np.random.default_rng(7)
    drawn = [c.drawn(rng)[1] for _ in range(2000)]
    grid = np.linspace(-14, 14, 8001)
    density = np.exp([c.at(np.array([0.0, g]))[2] for g in grid])
    below = np.cumsum(density) / density.sum()
    assert stats.kstest(drawn, lambda x: np.interp(x, grid, below)).pvalue > 1e-3
