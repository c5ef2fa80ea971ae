"""Parameters changed by name, models at them, and the information a design is expected to hold."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.design.over import design_over
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.assumed import assumed_of, changed, model_at
from bold_orchard.planning.effects import read_effects
from bold_orchard.planning.formula import Expected, power_of
from bold_orchard.planning.layouts import read_counts, sizes
from builders import inspections, make_trees, trial

SLOPES = "yield = rain + sun; each orchard: intercept + rain"


@pytest.fixture(scope="module")
def core():
    return bo.fit(SLOPES, make_trees(rows=150), name="m").core


def test_parameters_have_the_names_of_intervals(core):
    names = [
        p["parameter"]
        for p in bo.fit(SLOPES, make_trees(rows=150)).intervals("wald").parameters
        if p["kind"] != "fixed"
    ]
    values = {
        "sd(orchard: intercept)": 2.0,
        "sd(orchard: rain)": 0.5,
        "correlation(orchard: intercept, rain)": -0.4,
        "sd(residual)": 1.5,
    }
    assert set(names) == set(values)
    made = changed(assumed_of(core.model), core.design, values)
    assert made.covariances[0] == pytest.approx(np.array([[4.0, -0.4], [-0.4, 0.25]])) and made.sigma2 == pytest.approx(
        2.25
    )
    there = model_at(core.design, core.settings.search, made, np.random.default_rng(1)).evaluation
    assert there.covariance(0) == pytest.approx(made.covariances[0]) and there.sigma2 == pytest.approx(2.25)


def test_an_sd_alone_keeps_the_correlation(core):
    before = assumed_of(core.model).covariances[0]
    after = changed(assumed_of(core.model), core.design, {"sd(orchard: rain)": 3.0}).covariances[0]
    assert after[1, 1] == pytest.approx(9.0) and after[0, 0] == pytest.approx(before[0, 0])
    assert after[0, 1] / np.sqrt(after[0, 0] * after[1, 1]) == pytest.approx(
        before[0, 1] / np.sqrt(before[0, 0] * before[1, 1])
    )


@pytest.mark.parametrize(("values", "words"), [
    ({"sd(orchard: sun)": 1.0}, "did you mean"), ({"sd(orchard: rain)": -1.0}, "cannot be -1"), ({"sd(residual)": 0.0}, "above zero"),
    ({"correlation(orchard: intercept, rain)": 1.2}, "cannot be 1.2"), ({"rho": 0.3}, "no parameter 'rho'"),
])  # fmt: skip
def test_values_a_model_cannot_have(core, values, words):
    with pytest.raises(OrchardError, match=words):
        changed(assumed_of(core.model), core.design, values)


@pytest.mark.parametrize("structure", ["identity", "exchangeable", "diagonal"])
def test_structures_refuse_what_they_cannot_have(structure):
    fit = bo.fit(SLOPES.replace("orchard:", f"orchard ({structure}):"), make_trees(rows=150), force=True).core
    made = changed(assumed_of(fit.model), fit.design, {"sd(orchard: intercept)": 3.0, "sd(orchard: rain)": 0.2})
    if structure == "diagonal":
        there = model_at(fit.design, fit.settings.search, made, np.random.default_rng(1)).evaluation
        assert np.sqrt(np.diag(there.covariance(0))) == pytest.approx([3.0, 0.2])
        return
    with pytest.raises(OrchardError, match="under the structure"):
        model_at(fit.design, fit.settings.search, made, np.random.default_rng(1))


def test_names_in_a_person_s_spelling(core):
    written = {"sd( orchard :rain )": 0.5, "correlation(orchard:rain ,intercept)": -0.4}
    there = {"sd(orchard: rain)": 0.5, "correlation(orchard: intercept, rain)": -0.4}
    one, two = (changed(assumed_of(core.model), core.design, v) for v in (written, there))
    assert np.array_equal(one.covariances[0], two.covariances[0])


def test_other_rows_are_coded_as_the_fit_was():
    frame = make_trees(rows=150)
    core = bo.fit("yield = centre(rain) + split(sun, orchard); each orchard: intercept", frame, force=True).core
    new = frame.head(40).assign(orchard=lambda f: "new " + f.orchard.astype(str))
    from bold_orchard.data.table import Table

    made = design_over(core.design, Table(new, "t", len(new)))
    assert made.fixed.names == core.design.fixed.names and made.units[0].size == new.orchard.nunique()
    assert made.fixed.values[1] == pytest.approx(new.rain - frame.rain.mean())


def test_the_effects_asked_for_stand_at_their_values_and_the_rest_moves_least(core):
    effects, made = read_effects(core, assumed_of(core.model), ["rain = 0.3", "rain - sun = 0.1"])
    names = list(core.design.fixed.names)
    b = dict(zip(names, made.b))
    assert b["rain"] == pytest.approx(0.3) and b["sun"] == pytest.approx(0.2)
    assert b["intercept"] == pytest.approx(assumed_of(core.model).b[0]) and [e.value for e in effects] == [0.3, 0.1]
    everything, _ = read_effects(core, assumed_of(core.model), [])
    assert [e.text for e in everything] == ["rain", "sun"]


def test_expected_denominators_where_v_is_not_linear_agree_with_where_it_is():
    core = bo.fit("yield = week + soil; each tree: intercept", trial()).core
    linear = Expected(core.model, "satterthwaite", np.random.default_rng(1))
    other = Expected(core.model, "satterthwaite", np.random.default_rng(1), drawn=60)
    other.__dict__["_parts"] = other._averaged()
    p = len(core.evaluation.b)
    for k in range(p):
        row = np.eye(p)[k : k + 1]
        assert other.test(row)[0] == pytest.approx(linear.test(row)[0], rel=0.08)


@pytest.mark.parametrize(("method", "df"), [("residual", 147.0), ("normal", None)])
def test_other_denominators(core, method, df):
    assert Expected(core.model, method, np.random.default_rng(1)).test(np.eye(3)[1:2])[0] == df


def test_power_at_nothing_is_the_level_and_grows_with_the_effect():
    c = np.diag([0.04, 0.09])
    for den in (None, 7.0, 60.0):
        assert power_of(np.eye(2), np.zeros(2), c, den, 1.0, 0.05) == pytest.approx(0.05, abs=1e-9)
        powers = [power_of(np.eye(2), np.array([v, 0.0]), c, den, 1.0, 0.05) for v in (0.1, 0.3, 0.6)]
        assert powers == sorted(powers) and powers[-1] > 0.4


def test_generalized_information_is_that_of_the_fit_on_average():
    core = bo.fit("aphids = spray + rain; each orchard: intercept", inspections(), family="poisson").core
    made = Expected(core.model, "normal", np.random.default_rng(4), drawn=30).covariance
    seen = core.known.covariance
    assert np.sqrt(np.diag(made)) == pytest.approx(np.sqrt(np.diag(seen)), rel=0.12)


def test_sizes_are_every_combination():
    made = sizes(read_counts(["orchard=20,10,10", "tree in orchard = 3"]), [4, 2])
    assert [(s.units["orchard"], s.units["tree in orchard"], s.rows) for s in made] == [
        (10, 3, 4),
        (10, 3, 2),
        (20, 3, 4),
        (20, 3, 2),
    ]
    assert len(sizes({}, [])) == 1


def test_what_cannot_be_changed_is_refused_and_not_passed_over():
    core = bo.fit("yield = rain; within tree: unstructured(week)", trial(weeks=(1, 2, 3))).core
    for name in ("correlation(residual: 1, 2)", "sd(residual: 1)", "sd(residual)"):
        with pytest.raises(OrchardError, match="no parameter"):
            changed(assumed_of(core.model), core.design, {name: 0.3})


def test_exchangeable_residuals_without_a_correlation_have_none():
    """An imagined correlation of zero is zero on every scale of the search."""
    core = bo.fit("yield = rain; within tree: exchangeable", trial()).core
    there = changed(assumed_of(core.model), core.design, {"rho": 0.0})
    made = model_at(core.design, core.settings.search, there, np.random.default_rng(1))
    assert assumed_of(made).own[0] == pytest.approx(0.0, abs=1e-12)
