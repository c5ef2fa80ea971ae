"""What the first model says of its effects: their law, and draws of its variances."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.carrying.effects import carried
from bold_orchard.carrying.first import FirstModel, _factor
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError
from carrying.test_carry import FIRST, study


def first_and_effects(terms=("intercept", "week"), **options):
    one, two, _ = study(**options)
    fit = bo.fit(FIRST, one, name="first").core
    return fit, carried(fit, [("tree", t) for t in terms], Table(two, "two", len(two)))


def test_the_law_is_that_of_the_predicted_effects():
    _, (effects,) = first_and_effects()
    rows = bo.fit(FIRST, study()[0]).groups().to_dict()["groups"][0]["rows"]
    by_level = {r["level"]: r for r in rows}
    for label, mean, covariance in zip(effects.labels, effects.mean, effects.covariance):
        row = by_level[label]
        assert mean == pytest.approx([row["effects"]["intercept"], row["effects"]["week"]], abs=1e-6)
        assert np.sqrt(np.diag(covariance)) == pytest.approx([row["se"]["intercept"], row["se"]["week"]], rel=1e-5)
        assert np.linalg.eigvalsh(covariance)[0] > 0
    assert effects.names == ["effect(tree: intercept)", "effect(tree: week)"]


def test_terms_in_another_order_have_the_same_law():
    _, (one,) = first_and_effects()
    _, (two,) = first_and_effects(("week", "intercept"))
    assert two.mean[:, ::-1] == pytest.approx(one.mean) and two.covariance[:, ::-1, ::-1] == pytest.approx(
        one.covariance
    )


def test_inverse_variances_drawn_have_the_mean_that_makes_slopes_unbiased():
    rng = np.random.default_rng(1)
    for df in (12.0, 40.0):
        drawn = np.array([1 / _factor(df, rng) for _ in range(40_000)])
        assert drawn.mean() == pytest.approx((df - 2) / df, abs=4 * drawn.std() / 200)


def test_draws_keep_shrinking_as_the_variance_says():
    fit, effects = first_and_effects(("intercept",), noise=2.0)
    model, rng = FirstModel(fit, effects), np.random.default_rng(3)
    drawn = [model.drawn(rng)[0] for _ in range(60)]
    spreads = np.array([d.mean.std() for d in drawn])
    errors = np.array([np.sqrt(d.covariance[:, 0, 0]).mean() for d in drawn])
    assert (
        spreads.std() > 0.02 and np.corrcoef(spreads, errors)[0, 1] > 0.3
    )  # a larger variance: less shrunk, less surely known
    assert np.median(spreads) == pytest.approx(effects[0].mean.std(), rel=0.35)
    assert drawn[0].labels == effects[0].labels


def test_an_effect_that_does_not_vary_is_not_carried():
    r = np.random.default_rng(2)
    one, two, _ = study()
    one["girth"] = r.normal(size=len(one))
    one["girth"] -= one.groupby("tree").girth.transform("mean")
    fit = bo.fit("girth = intercept; each tree: intercept", one, name="flat")
    with pytest.raises(OrchardError, match="no such effect to carry on"):
        fit.carry(two, "price = effect(tree: intercept)", imputations=5)


@pytest.mark.parametrize("family", ["poisson", "binomial"])
def test_effects_of_generalized_first_models(family):
    one, two, _ = study(units=50, rows=8)
    one["found"] = (
        (one.girth > one.girth.median()).astype(int)
        if family == "binomial"
        else np.maximum(one.girth.round() - 6, 0).astype(int)
    )
    first = bo.fit("found = week; each tree: intercept", one, name="first", family=family)
    made = first.carry(two, "price = effect(tree: intercept) + x", imputations=8)
    assert made.converged and 0 < made.carried[0]["reliability"] < 1 and made.fixed[1]["estimate"] > 0


def test_nested_units_and_two_units_at_once():
    r = np.random.default_rng(6)
    one, _, _ = study(units=48)
    one["orchard"] = "o" + (one.tree.str[1:].astype(int) // 4).astype(str)
    one["girth"] += r.normal(0, 1.5, 12)[one.tree.str[1:].astype(int) // 4]
    second = one[["tree", "orchard"]].drop_duplicates().assign(price=lambda f: r.normal(size=len(f)))
    first = bo.fit("girth = week; each orchard: intercept; each tree in orchard: intercept", one, name="first")
    made = first.carry(second, "price = effect(orchard: intercept) + effect(tree in orchard: intercept)", imputations=8)
    assert [c["effect"] for c in made.carried] == ["effect(orchard: intercept)", "effect(tree in orchard: intercept)"]
    assert len(made.fixed) == 3 and all(row["se"] > 0 for row in made.fixed)


def test_the_page_names_the_degrees_of_freedom_it_prints(quick):
    one, two, _ = study()
    page = str(bo.fit(FIRST, one, name="first").carry(two, "price = effect(tree: intercept)", imputations=6))
    assert "by Barnard and Rubin" in page and "normal distribution" not in page
