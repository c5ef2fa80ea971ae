"""Leaving units out: one step against true refits, true refits against fits to the rows that remain."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import dense
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.design.subset import some_rows
from bold_orchard.diagnostics.checks import CheckOptions, check
from bold_orchard.diagnostics.influence import MOST_WORK, affordable, influence
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.variances.quantities import quantities
from bold_orchard.likelihood.leave_out import applies, leave_out
from bold_orchard.progress import silent
from builders import trial

NESTED = "yield = rain + soil; each orchard: intercept + rain; each tree: intercept"
SENTENCES = [
    NESTED,
    "yield = rain; each tree (diagonal): intercept + rain; each orchard: intercept",
    "yield = rain; each orchard: intercept; each season: intercept",
    "yield = rain; each tree: intercept; within tree: ar1(week)",
    "yield = rain; each orchard: intercept; spread = soil",
]


def table_of(frame):
    return Table(frame, "t", len(frame))


def groves(seed=4, units=40, rows=10):
    """Many units, far from any boundary."""
    r = np.random.default_rng(seed)
    code = np.repeat(np.arange(units), rows)
    u = r.normal(size=(units, 2)) @ np.array([[1.0, 0.3], [0.0, 0.7]])
    rain = r.normal(1, 1, len(code))
    y = 3 + rain + u[code, 0] + u[code, 1] * rain + r.normal(size=len(code))
    return pd.DataFrame({"orchard": [f"o{c:02d}" for c in code], "rain": rain, "yield": y})


def components(made):
    psi = made.evaluation.psi
    return np.array([q.back(q.at(psi)) for q in quantities(made)])


@pytest.mark.few(3)
@pytest.mark.parametrize("sentence", SENTENCES)
@pytest.mark.parametrize("method", ["reml", "ml"])
def test_exact_influence_is_a_fit_to_the_other_rows(sentence, method):
    frame = trial()
    settings = Settings(method=method)
    made = fit(sentence, table_of(frame), settings)
    unit = made.design.units[0]
    found = influence(made, unit, True, silent)
    assert found.exact.all() and found.unit.size == len(unit.texts)
    for j in (0, unit.size - 1):
        again = fit(sentence, table_of(frame[frame[unit.name].astype(str) != unit.texts[j]].reset_index()), settings)
        np.testing.assert_allclose(found.fixed[j], again.evaluation.b, rtol=1e-4, atol=1e-5)
        np.testing.assert_allclose(found.components[j], components(again), rtol=2e-3, atol=2e-4)


@pytest.mark.parametrize(("family", "outcome"), [("poisson", "apples"), ("binomial", "ripe"), ("ordinal", "grade")])
def test_exact_influence_of_generalized_fits(family, outcome):
    frame = groves(units=12, rows=20)
    r = np.random.default_rng(1)
    frame["apples"] = r.poisson(np.exp(0.3 * frame["yield"] - 0.5))
    frame["ripe"] = (frame["yield"] + r.logistic(size=len(frame)) > 4).astype(int)
    frame["grade"] = np.array(["none", "mild", "severe"])[
        np.digitize(frame["yield"] + r.logistic(size=len(frame)), [3, 5.0])
    ]
    settings = Settings(options=Options(family=family))
    made = fit(f"{outcome} = rain; each orchard: intercept", table_of(frame), settings)
    found = influence(made, made.design.units[0], True, silent)
    again = fit(
        f"{outcome} = rain; each orchard: intercept", table_of(frame[frame["orchard"] != "o03"].reset_index()), settings
    )
    wanted = {row["term"]: row["estimate"] for row in again.result["fixed"]}
    assert dict(zip(found.terms, found.fixed[3])) == pytest.approx(wanted, rel=1e-3, abs=1e-3)
    np.testing.assert_allclose(found.components[3], components(again), rtol=1e-3)
    assert found.cook.min() > 0


@pytest.mark.parametrize("unit", [0, 1])
def test_at_the_same_variances_leaving_out_is_generalised_least_squares_of_the_rest(unit):
    frame = trial()
    made = fit(NESTED, table_of(frame))
    e, d = made.evaluation, made.design
    left = leave_out(e, unit)
    v = np.eye(len(d.y)) * e.sigma2
    for clause in d.clauses:
        z = np.column_stack(clause.part.values)
        codes = d.blocks[clause.block].unit.codes
        v += (z @ e.covariance(clause.block) @ z.T) * (codes[:, None] == codes[None, :])
    x = np.column_stack(d.fixed.values)
    codes = d.blocks[unit].unit.codes
    for j in (0, 3, codes.max()):
        keep = codes != j
        wanted, cov = dense.estimates(d.y[keep], x[keep], v[np.ix_(keep, keep)])
        standard = e.criterion.products.standard
        np.testing.assert_allclose(standard.to_user(left.held[j]), wanted, rtol=1e-8, atol=1e-8)
        back = np.linalg.inv(standard.to_work)
        np.testing.assert_allclose(e.sigma2 * back @ np.linalg.inv(left.grams[j]) @ back.T, cov, rtol=1e-7, atol=1e-12)


def test_one_step_comes_close_to_the_refit():
    made = fit("yield = rain; each orchard: intercept + rain", table_of(groves()))
    unit = made.design.units[0]
    left = leave_out(made.evaluation, 0)
    true = influence(made, unit, True, silent)
    b = np.array([made.evaluation.criterion.products.standard.to_user(row) for row in left.b_work])
    away = np.abs(true.fixed - true.fixed_all).max(axis=0)
    assert (np.abs(b - true.fixed).max(axis=0) < 0.01 * away).all()
    residual = np.sqrt(left.sigma2)
    assert (
        np.abs(residual - true.components[:, -1]).max()
        < 0.15 * np.abs(true.components[:, -1] - true.components_all[-1]).max()
    )
    quick = influence(made, unit, False, silent)
    moved = np.abs(true.components - true.components_all).max(axis=0)
    assert (np.abs(quick.components - true.components).max(axis=0) < 0.05 * moved).all()
    np.testing.assert_allclose(quick.cook, true.cook, rtol=0.05, atol=1e-4)


@pytest.mark.slow
def test_the_inner_unit_of_a_chain_leaves_its_parent_some_rows():
    frame = trial(trees=32)
    made = fit(NESTED, table_of(frame))
    assert applies(made.criterion)
    trees = next(u for u in made.design.units if u.name == "tree")
    quick, true = influence(made, trees, False, silent), influence(made, trees, True, silent)
    moved = np.abs(true.fixed - true.fixed_all).max(axis=0)
    assert (np.abs(quick.fixed - true.fixed).max(axis=0) < 0.05 * moved).all()


def test_cooks_distance_is_its_definition():
    made = fit("yield = rain; each orchard: intercept", table_of(groves(units=15)))
    found = influence(made, made.design.units[0], True, silent)
    change = found.fixed[4] - made.evaluation.b
    wanted = change @ np.linalg.inv(np.array(made.result["fixed_covariance"])) @ change / 2
    assert found.cook[4] == pytest.approx(wanted, rel=1e-6)
    row = found.rows()[4]
    assert row["level"] == "o04" and row["rows"] == 10 and row["cooks_distance"] == pytest.approx(wanted, rel=1e-6)
    assert row["change"]["rain"] == pytest.approx(change[1]) and set(row["components_change"]) == {
        "sd(orchard: intercept)",
        "sd(residual)",
    }


def test_a_level_that_alone_holds_a_category_takes_its_coefficient_along():
    frame = groves(units=12)
    frame["soil"] = np.where(frame["orchard"] == "o05", "sand", "clay")
    found = influence(
        made := fit("yield = rain + soil; each orchard: intercept", table_of(frame)),
        made.design.units[0],
        False,
        silent,
    )
    row = found.rows()[5]
    assert row["change"]["soil[sand]"] is None and row["change"]["rain"] is not None and row["exact"]
    assert all(r["change"]["soil[sand]"] is not None for r in found.rows() if r["level"] != "o05")


@pytest.mark.slow
def test_agreement_has_a_uniform_p_and_a_wild_unit_a_tiny_one():
    p = np.concatenate([influence(m := fit("yield = rain; each orchard: intercept + rain", table_of(groves(s))), m.design.units[0], False, silent).p
                        for s in range(12)])  # fmt: skip
    assert len(p) == 480 and abs(np.mean(p < 0.5) - 0.5) < 0.08 and abs(np.mean(p < 0.1) - 0.1) < 0.05
    frame = groves()
    frame.loc[frame["orchard"] == "o07", "yield"] += 9 * frame["rain"]
    wild = influence(
        m := fit("yield = rain; each orchard: intercept + rain", table_of(frame)), m.design.units[0], False, silent
    )
    assert np.argmin(wild.p) == 7 and wild.p[7] < 1e-6 and np.argmax(wild.cook) == 7


def test_a_design_on_some_rows_keeps_its_coding():
    frame = trial()
    made = fit(
        "yield = centre(rain) + soil; each tree: intercept; within tree: ar1(week); spread = soil", table_of(frame)
    )
    keep = np.flatnonzero(frame["tree"] != "t3")
    d = some_rows(made.design, keep)
    np.testing.assert_array_equal(d.fixed.values[1], made.design.fixed.values[1][keep])
    assert d.fixed.values[1].mean() != pytest.approx(0, abs=1e-6)
    assert d.units[0].size == made.design.units[0].size - 1 and "t3" not in d.units[0].texts
    np.testing.assert_array_equal(np.array(d.units[0].texts)[d.units[0].codes], frame["tree"].to_numpy()[keep])
    assert d.residual.codes.max() == d.units[0].size - 1 and len(d.residual.time) == len(keep) == len(d.table)


def test_what_would_take_long_is_left_out_aloud_and_made_when_asked():
    r = np.random.default_rng(0)
    n = 3000
    frame = pd.DataFrame({"tree": r.integers(0, 700, n), "season": r.integers(0, 5, n), "rain": r.normal(size=n)})
    frame["yield"] = (
        frame["rain"] + r.normal(size=700)[frame["tree"]] + r.normal(size=5)[frame["season"]] + r.normal(size=n)
    )
    made = fit("yield = rain; each tree: intercept; each season: intercept", table_of(frame))
    assert not affordable(made, made.design.units[0]) and n * made.design.units[0].size > MOST_WORK
    d = check(made).document
    assert {row["group"] for row in d["influence"]} == {"season"}
    assert any("--influence one-step --unit 'tree'" in note for note in d["notes"])
    assert check(made, CheckOptions(influence="none")).document["influence"] == []


def test_one_level_cannot_be_left_out():
    made = fit("yield = rain; each orchard: intercept", table_of(groves()))
    alone = some_rows(made.design, np.flatnonzero(made.design.units[0].codes == 0)).units[0]
    with pytest.raises(OrchardError, match="has one level"):
        influence(made, alone, False, silent)
