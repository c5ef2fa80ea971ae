"""Following a profile to its ends, on curves whose ends are known; quantities and their slopes."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.data.table import Table
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import fit
from bold_orchard.inference.intervals.profile import Line, follow
from bold_orchard.inference.variances.quantities import Effects, quantities
from builders import make_trees, residual, trial

HERE = np.zeros(1)


def line(curve, here, se=1.0, **edges):
    return Line(lambda t, start: (float(curve(t)), HERE), here, se, HERE, **edges)


@pytest.mark.parametrize(("curve", "here", "low", "high"), [
    (lambda t: ((t - 3) / 2) ** 2, 3.0, 3 - 2 * 1.96, 3 + 2 * 1.96),
    (lambda t: (np.log(t / 2) / 0.3) ** 2, 2.0, 2 * np.exp(-0.3 * 1.96), 2 * np.exp(0.3 * 1.96)),
    (lambda t: np.abs(t) ** 3, 0.0, -(1.96 ** (2 / 3)), 1.96 ** (2 / 3)),
])  # fmt: skip
@pytest.mark.parametrize("se", [0.05, 1.0, 30.0])
def test_ends_are_where_the_root_reaches_its_target(curve, here, low, high, se):
    edges = {"low": 0.0} if here == 2.0 else {}
    made = follow(line(curve, here, se, **edges), 1.96, 5)
    assert made.low == pytest.approx(low, rel=1e-4) and made.high == pytest.approx(high, rel=1e-4)
    roots = [root for _, root in made.trace]
    assert roots == sorted(roots) and len(made.trace) >= 7


def test_a_profile_that_never_rises_enough_ends_at_the_edge():
    made = follow(line(lambda t: 2.0 * (t - 1) ** 2, 1.0, 0.7, low=0.0), 1.96)
    assert made.low == 0.0 and made.high == pytest.approx(1 + 1.96 / np.sqrt(2), rel=1e-4)
    there = follow(line(lambda t: t**2, 0.0, 0.7, low=0.0), 1.96)
    assert there.low == 0.0 and there.high == pytest.approx(1.96, rel=1e-4)


def test_the_least_of_several_minima_counts():
    """Two branches: from the first start the rise is steep, from the other it is lower further out."""

    def rise(t, start):
        steep, flat = 4.0 * t**2, 1.0 + 0.3 * t**2
        return (steep, start) if start[0] == 0 else (min(steep, flat), start)

    made = follow(Line(rise, 0.0, 0.5, np.zeros(1), others=(np.ones(1),)), 1.96)
    assert made.high == pytest.approx(np.sqrt((1.96**2 - 1) / 0.3), rel=1e-3) and made.low == pytest.approx(
        -made.high, rel=1e-3
    )


def test_a_lost_end_is_none_and_a_lower_point_is_remembered():
    lost = follow(line(lambda t: np.nan if t > 0.5 else t**2, 0.0), 1.96)
    assert lost.high is None and lost.low == pytest.approx(-1.96, rel=1e-4)
    assert follow(line(lambda t: t**2 - 8 * (0 < t < 2.5), 0.0), 1.96).lowest < -1


@pytest.mark.parametrize("sentence", [
    "yield = rain; each orchard: intercept + rain", "yield = rain; each tree: intercept; each orchard (diagonal): intercept + rain",
    "yield = rain; each tree: intercept; within tree: ar1(week)", "yield = rain; within tree: unstructured(week)",
    "yield = rain; each orchard (exchangeable): intercept + rain; spread = soil",
])  # fmt: skip
def test_quantities_are_those_of_the_document_and_their_slopes_are_right(sentence):
    frame = trial(3)
    if "unstructured" in sentence:
        frame = frame[frame["week"] <= 3]
    made = fit(sentence, Table(frame.reset_index(drop=True), "t", len(frame)))
    psi, document = made.evaluation.psi, made.result
    for q in quantities(made, covariances=False):
        what = q.parameter
        if what.kind == "correlation" and abs(q.back(q.at(psi))) > 0.999:
            continue  # at its edge there is no slope
        numeric = [(q.at(psi + 1e-6 * d) - q.at(psi - 1e-6 * d)) / 2e-6 for d in np.eye(len(psi))]
        np.testing.assert_allclose(q.slope(psi), numeric, rtol=1e-5, atol=1e-6)
        value = q.back(q.at(psi))
        part = next((p for p in document["random"] if p["group"] == what.group and what.term in p["terms"]), None)
        if what.kind == "sd" and part is not None:
            assert value == pytest.approx(part["sd"][part["terms"].index(what.term)])
        elif what.kind == "correlation" and part is not None:
            assert value == pytest.approx(
                part["correlation"][part["terms"].index(what.term)][part["terms"].index(what.term2)]
            )
        elif what.label == "rho":
            assert value == pytest.approx(document["residual"]["parameters"]["rho"])
        elif what.label == "sd(residual)" and "unstructured" not in sentence:
            assert value == pytest.approx(document["residual"]["sd"])
    g, slopes = Effects(made.criterion, 0).at(psi) if document["random"] else (np.zeros((1, 1)), np.zeros((1, 1, 1)))
    assert np.allclose(g, g.T) and np.allclose(slopes, slopes.transpose(0, 2, 1))


@pytest.mark.parametrize("sentence", ["yield = rain; within tree: ar1(week)", "yield = rain; within tree: exchangeable",
                                      "yield = rain; within tree: unstructured(week)", "yield = rain; within tree: exchangeable; spread = soil"])  # fmt: skip
def test_coloured_noise_has_the_residual_covariance(sentence):
    """Columns of the identity, coloured, give a factor F with F F' = R."""
    from bold_orchard.estimation.arrays import row_order

    frame = trial(3, trees=16, weeks=(1, 2, 3, 5))
    made = fit(sentence, Table(frame, "t", len(frame)))
    c, n = made.criterion, len(frame)
    factor = np.column_stack([c.correlated.rows.colour(made.evaluation.theta[c.phi], column) for column in np.eye(n)])
    order = row_order(made.design.residual)
    r = residual(frame, "tree", made.result["residual"])[np.ix_(order, order)]
    np.testing.assert_allclose(made.evaluation.sigma2 * factor @ factor.T, r, atol=1e-8 * np.abs(r).max())


def test_likelihood_tests_of_terms_are_comparisons_of_fits_without_them():
    from bold_orchard.inference.fit import Settings

    frame = make_trees(5, orchards=10, rows=90)
    frame["soil"] = np.resize(["clay", "loam", "sand"], 90)
    table, ml = Table(frame, "t", 90), Settings(method="ml")
    whole = fit("yield = rain + soil; each orchard: intercept", table)
    found = {t["term"]: t for t in terms(whole, 2, ratio=True)["tests"]}
    deviance = fit("yield = rain + soil; each orchard: intercept", table, ml).evaluation.deviance
    for term, rest in (("rain", "soil"), ("soil", "rain")):
        without = fit(f"yield = {rest}; each orchard: intercept", table, ml).evaluation.deviance
        assert found[term]["value"] == pytest.approx(without - deviance, abs=1e-6)
    assert found["soil"]["num_df"] == 2 and found["soil"]["statistic"] == "chisq"
