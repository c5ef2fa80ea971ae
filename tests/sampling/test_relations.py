"""What must not change for the posterior when the data or the priors are said otherwise."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.sampling.laws import read_priors
from bold_orchard.sampling.posterior import SampleOptions, sample, target_of
from bold_orchard.sampling.priors import priors_of
from builders import diaries, inspections, table_of

SENTENCE = "yield = rain + soil; each tree: intercept + rain; spread = soil"
PRIORS = ["intercept = normal(10, 4)", "rain = student(4, 0, 2)", "soil[sand] = normal(0, 3)", "sd(tree: intercept) = half-normal(2)",
          "sd(tree: rain) = exponential(1)", "sd(residual) = half-student(3, 2)", "spread soil[sand] = normal(0, 0.5)"]  # fmt: skip


def target(frame, sentence=SENTENCE, priors=PRIORS, **options):
    made = fit(sentence, table_of(frame), Settings(options=Options(**options)))
    return target_of(made, priors_of(made, read_priors(priors)))


@pytest.fixture(scope="module")
def frame():
    return diaries(units=14, rows=5, seed=8)


def places(one):
    """A few points around the start of a chain."""
    z = one.start()
    r = np.random.default_rng(4)
    return [z + 0.2 * r.normal(size=len(z)) for _ in range(4)]


def test_rows_in_any_order_and_labels_by_any_name(frame):
    one = target(frame)
    again = frame.sample(frac=1, random_state=3).assign(tree="old " + frame["tree"])
    two = target(again)
    for z in places(one):
        density, slope = one(z)
        other, its = two(z)
        assert other == pytest.approx(density, abs=1e-8)
        assert its == pytest.approx(slope, abs=1e-7)


def rises(one, points):
    return np.diff([one(z)[0] for z in points])


def test_priors_in_any_order_and_spacing(frame):
    one = target(frame)
    two = target(frame, priors=[p.replace(", ", ",").replace(" = ", "=") for p in reversed(PRIORS)])
    points = places(one)
    assert rises(two, points) == pytest.approx(rises(one, points), abs=1e-10)


def test_fixed_stands_for_every_coefficient_but_the_intercept(frame):
    each = ["rain = normal(0, 2)", "soil[sand] = normal(0, 2)"]
    one, two = target(frame, priors=each), target(frame, priors=["fixed = normal(0, 2)"])
    points = places(one)
    assert rises(two, points) == pytest.approx(rises(one, points), abs=1e-10)
    own, over = target(frame, priors=["fixed = normal(0, 2)", "rain = normal(0, 0.1)"]), target(
        frame, priors=["rain = normal(0, 0.1)", "soil[sand] = normal(0, 2)"]
    )  # fmt: skip
    assert rises(own, points) == pytest.approx(rises(over, points), abs=1e-10)


def test_a_default_that_is_typed_is_the_default(frame):
    """Every law that the table of priors prints can be typed, and changes nothing."""
    made = fit(SENTENCE, table_of(frame), Settings())
    listed = priors_of(made, {}).listed
    assert all(default for *_, default in listed)
    typed = [f"{name} = {law}" for name, law, _ in listed]
    again = priors_of(made, read_priors(typed))
    assert not any(default for *_, default in again.listed)
    one, two = target_of(made, priors_of(made, {})), target_of(made, again)
    points = places(one)
    assert rises(two, points) == pytest.approx(
        rises(one, points), rel=1e-3, abs=1e-3
    )  # laws are printed to four digits


def test_default_priors_follow_the_units_of_measurement(frame):
    """An outcome in grams and rain in inches: the same posterior, each figure in its own unit."""
    sentence = "yield = rain; each tree: intercept"
    options = SampleOptions(chains=1, warmup=100, draws=50, seed=3)
    one = sample(fit(sentence, table_of(frame), Settings()), options, lambda *_: None)
    other = frame.assign(rain=frame["rain"] / 25.0, **{"yield": frame["yield"] * 1000})
    two = sample(fit(sentence, table_of(other), Settings()), options, lambda *_: None)
    for a, b in zip(one.parameters, two.parameters):
        factor = 25_000 if a.parameter == "rain" else 1000
        assert b.sd == pytest.approx(factor * a.sd, rel=0.02), a.parameter
        assert b.mean == pytest.approx(factor * a.mean, rel=0.02, abs=0.05 * factor * a.sd), a.parameter
    assert two.leave_one_out.expected_log_density == pytest.approx(
        one.leave_one_out.expected_log_density - len(frame) * np.log(1000), abs=0.2
    )


def test_trials_and_rows_of_single_trials_are_one_model():
    """10 fruits of a row, or 10 rows of a fruit: the density of the parameters is the same up to a constant."""
    frame = inspections(n=40, units=8)[["orchard", "rain", "scab", "fruits"]]
    frame["fruits"], frame["scab"] = 10, np.minimum(frame["scab"], 10)
    single = frame.loc[frame.index.repeat(10)].reset_index(drop=True)
    single["ripe"] = (single.groupby(np.arange(len(single)) // 10).cumcount() < single["scab"]).astype(int)
    prior = ["sd(orchard: intercept) = half-normal(1)", "intercept = normal(0, 2)", "rain = normal(0, 1)"]
    one = target(frame, "scab of fruits = rain; each orchard: intercept", prior, family="binomial")
    two = target(single, "ripe = rain; each orchard: intercept", prior, family="binomial")
    points = places(one)
    assert rises(two, points) == pytest.approx(rises(one, points), abs=5e-3 * np.abs(rises(one, points)).max())


@pytest.mark.slow
def test_a_narrow_prior_holds_and_a_wide_one_gives_way(frame):
    made = bo.fit("yield = rain; each tree: intercept", frame)
    few = {"chains": 2, "warmup": 150, "draws": 150, "seed": 2}
    held = {p["parameter"]: p for p in made.sample(prior=["rain = normal(-3, 0.001)"], **few).to_dict()["parameters"]}
    free = {p["parameter"]: p for p in made.sample(prior=["rain = normal(-3, 1000)"], **few).to_dict()["parameters"]}
    assert held["rain"]["mean"] == pytest.approx(-3, abs=0.01)
    assert free["rain"]["mean"] == pytest.approx(free["rain"]["likelihood_estimate"], abs=0.3 * free["rain"]["sd"])
    assert held["sd(residual)"]["mean"] > free["sd(residual)"]["mean"]  # what rain may not explain is left over
