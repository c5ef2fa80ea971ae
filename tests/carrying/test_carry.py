"""Effects carried on to a second outcome: the draws' law, the rules that put them together, and the command."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.carrying.effects import with_columns_named
from bold_orchard.inference.coefficients.rubin import pooled
from bold_orchard.sampling.elliptical import slice_sampled


def study(seed=1, units=60, rows=5, slope=1.0, noise=1.0, kind="gaussian"):
    r = np.random.default_rng(seed)
    u, v = r.normal(size=units), 0.5 * r.normal(size=units)
    tree = np.repeat(np.arange(units), rows)
    names = np.array([f"t{i}" for i in range(units)])
    week = np.tile(np.arange(rows) - (rows - 1) / 2, units)
    one = pd.DataFrame(
        {
            "tree": names[tree],
            "week": week,
            "girth": 10 + u[tree] + (0.3 + v[tree]) * week + r.normal(0, noise, len(tree)),
        }
    )
    x = r.normal(size=units)
    eta = slope * u + 0.5 * x
    y = {"gaussian": 3 + eta + r.normal(0, 0.7, units), "poisson": r.poisson(np.exp(0.3 + 0.5 * eta)),
         "binomial": (r.random(units) < 1 / (1 + np.exp(-eta))).astype(int)}[kind]  # fmt: skip
    return one, pd.DataFrame({"tree": names, "x": x, "site": np.array(["a", "b"])[np.arange(units) % 2], "price": y}), u


FIRST = "girth = week; each tree: intercept + week"


def test_rubin_s_rules_by_hand():
    estimates = np.array([[1.0, 2.0], [2.0, 2.5], [4.0, 2.1]])
    covariances = np.array([np.diag([0.5, 0.2])] * 3)
    made = pooled(estimates, covariances, np.array([20.0, np.inf]))
    b = estimates.var(axis=0, ddof=1)
    total = np.array([0.5, 0.2]) + 4 / 3 * b
    assert made.estimate == pytest.approx(estimates.mean(axis=0)) and np.diag(made.covariance) == pytest.approx(total)
    share = 4 / 3 * b / total
    old = 2 / share**2
    seen = 21 / 23 * 20 * (1 - share[0])
    assert made.df == pytest.approx([1 / (1 / old[0] + 1 / seen), old[1]])


def test_slice_sampling_has_the_law_of_prior_times_likelihood():
    rng = np.random.default_rng(3)
    units, sd = 4000, 0.6
    y = np.full(units, 1.5)  # seen with error 0.6 of an effect that is N(0, 1)
    here = np.zeros((units, 1))
    for _ in range(25):
        here = slice_sampled(
            here, rng.normal(size=(units, 1)), np.arange(units), lambda u: -0.5 * ((y - u[:, 0]) / sd) ** 2, rng
        )
    weight = 1 / (1 + sd**2)
    assert here.mean() == pytest.approx(weight * 1.5, abs=4 * sd / np.sqrt(units))
    assert here.std() == pytest.approx(np.sqrt(1 - weight), rel=0.05)


def test_names_of_effects_in_any_spelling():
    made, found = with_columns_named(
        "price = effect(tree in orchard : centre(rain))*soil + effect( tree in orchard: intercept )"
    )
    assert found == [("tree in orchard", "centre(rain)"), ("tree in orchard", "intercept")]
    assert made == "price = [effect(tree in orchard: centre(rain))]*soil + [effect(tree in orchard: intercept)]"


@pytest.mark.slow
def test_effects_known_almost_exactly_are_as_good_as_known():
    one, two, u = study(noise=0.02)
    first = bo.fit(FIRST, one, name="first")
    made = first.carry(two, "price = effect(tree: intercept) + x", naive=True, imputations=40).to_dict()
    known = bo.fit("price = u + x", two.assign(u=u - u.mean())).result.document["fixed"]
    for row, naive, true in zip(made["fixed"], made["naive"], known):
        assert row["estimate"] == pytest.approx(true["estimate"], abs=0.25 * true["se"])
        assert row["se"] == pytest.approx(true["se"], rel=0.15) and naive["estimate"] == pytest.approx(
            true["estimate"], abs=0.25 * true["se"]
        )
    assert made["carried"][0]["reliability"] > 0.9


def test_reliability_is_what_it_is_said_to_be():
    one, two, _ = study(noise=2.0)
    first = bo.fit(FIRST, one, name="first")
    made = first.carry(two, "price = effect(tree: intercept)*x + effect(tree: week)", imputations=10).to_dict()
    groups = first.groups().to_dict()["groups"][0]["rows"]
    random = first.result.document["random"][0]
    for k, term in enumerate(("intercept", "week")):
        own = 1 - np.mean([r["se"][term] ** 2 for r in groups]) / random["covariance"][k][k]
        assert made["carried"][k] == {"effect": f"effect(tree: {term})", "reliability": pytest.approx(own),
                                      "fraction_missing": made["carried"][k]["fraction_missing"]}  # fmt: skip
    assert [r["term"] for r in made["fixed"]] == [
        "intercept",
        "effect(tree: intercept)*x",
        "effect(tree: week)",
    ] or len(made["fixed"]) == 4


@pytest.mark.slow
def test_uncertain_effects_do_not_pull_the_slope_to_zero():
    slopes, means = [], []
    for seed in range(6):
        one, two, _ = study(seed, units=80, noise=2.5)
        first = bo.fit("girth = week; each tree: intercept", one, name="first")
        slopes.append(first.carry(two, "price = effect(tree: intercept) + x", imputations=20).fixed[1]["estimate"])
        plain = two.assign(mean=two.tree.map(one.groupby("tree").girth.mean()))
        means.append(bo.fit("price = mean + x", plain).result.document["fixed"][1]["estimate"])
    assert np.mean(slopes) == pytest.approx(1.0, abs=0.3) and np.mean(means) < 0.6


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["poisson", "binomial"])
def test_other_outcomes_and_second_models_with_units_of_their_own(kind):
    one, two, _ = study(kind=kind, units=90)
    two = pd.concat([two, two.assign(price=two.price[::-1].to_numpy())])
    first = bo.fit(FIRST, one, name="first")
    made = first.carry(
        two, "price = effect(tree: intercept) + x; each tree: intercept", family=kind, imputations=15, ratios=True
    ).to_dict()
    assert made["convergence"]["converged"] and made["family"] == kind and made["fixed"][1]["ratio"] is not None
    assert made["random"][0]["group"] == "tree" and made["fit"]["loglik"] is None


@pytest.mark.slow
def test_the_same_seed_the_same_answer_and_rows_in_any_order():
    one, two, _ = study()
    first = bo.fit(FIRST, one, name="first")
    sentence = "price = effect(tree: intercept) + x; each site: intercept"
    made = [first.carry(two, sentence, imputations=10, seed=s).fixed[1]["estimate"] for s in (4, 4, 5)]
    assert made[0] == made[1] != made[2]
    turned = first.carry(two.sample(frac=1, random_state=1), sentence, imputations=15).fixed[1]
    straight = first.carry(two, sentence, imputations=15).fixed[1]
    assert turned["estimate"] == pytest.approx(straight["estimate"], abs=straight["se"])


def test_units_that_never_vary_and_units_left_out():
    one, two, _ = study(rows=4)
    one.loc[one.tree == "t3", "girth"] = 12.0
    first = bo.fit("girth = week; each tree: intercept", one, name="first")
    kept = first.carry(two.head(40), "price = effect(tree: intercept)", imputations=5)
    assert any("1 of tree have the same first outcome" in n and "kept" in n for n in kept.notes)
    assert any("20 of 60 levels of tree have no rows here" in n for n in kept.notes)
    dropped = first.carry(two, "price = effect(tree: intercept)", imputations=5, drop_constant=True)
    assert dropped.rows["used"] == 59 and any("were left out" in n for n in dropped.notes)


def test_the_command_and_its_slips(quick):
    one, two, _ = study()
    one.to_csv(quick.folder / "one.csv", index=False)
    two.to_csv(quick.folder / "two.csv", index=False)
    assert quick("fit", "one.csv", "girth = week; each tree: intercept", "--save", "first").code == 0
    done = quick(
        "carry",
        "first",
        "two.csv",
        "price = effect(tree: intercept) + x",
        "--imputations",
        "6",
        "--naive",
        "--json",
        "--to",
        "c.html",
    )
    assert (
        done.code == 0
        and len(done.json["naive"]) == 3
        and done.json["carried"][0]["effect"] == "effect(tree: intercept)"
    )
    page = quick("carry", "first", "two.csv", "price = effect(tree: intercept) + x", "--imputations", "6").out
    assert "Effects carried" in page and "reliability" in page

    def slip(sentence, *more, data="two.csv"):
        done = quick("carry", "first", data, sentence, "--imputations", "6", *more)
        assert done.code in (2, 3) and "Traceback" not in done.err
        return done.err

    assert "needs an effect of the first model" in slip("price = x")
    assert "did you mean 'tree'" in slip("price = effect(tre: intercept)")
    assert "has no effect of tree called 'week'" in slip("price = effect(tree: week)")
    assert "no spread of its own" in slip("price = effect(tree: spread)")
    assert "independent residuals" in slip("price = effect(tree: intercept); within site: exchangeable")
    assert "5 or more" in slip("price = effect(tree: intercept)", "--imputations", "2")
    two.assign(tree=two.tree.replace("t5", "t999")).to_csv(quick.folder / "other.csv", index=False)
    assert "tree t999" in slip("price = effect(tree: intercept)", data="other.csv")
    two.drop(columns="tree").to_csv(quick.folder / "none.csv", index=False)
    assert "no column 'tree'" in slip("price = effect(tree: intercept)", data="none.csv")
