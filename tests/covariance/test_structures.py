"""Every structure and combination against the dense judge, by hand and by Hypothesis."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import dense
from bold_orchard.crossproducts import assemble, elimination
from bold_orchard.crossproducts import cells as grids
from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.summary import random_parts, residual_part
from bold_orchard.optimize.protocol import OptimizeResult
from bold_orchard.sentence.parse import read_sentence
from builders import residual, trial, write_matrix


def judged(frame, made, between=None):
    """The dense deviance at the fit's own estimates; ``between`` maps a clause's place to its A over rows."""
    y = frame["yield"].to_numpy()
    x = np.column_stack(made.design.fixed.values)
    unit = made.design.residual.unit
    v = residual(frame, unit, made.result["residual"])
    for i, (clause, part) in enumerate(zip(made.design.clauses, made.result["random"])):
        z = np.column_stack(clause.part.values)
        label = frame[clause_columns(made, i)].astype(str).agg("|".join, axis=1).to_numpy()
        a = (label[:, None] == label[None, :]).astype(float) if between is None or i not in between else between[i]
        v = v + (z @ np.array(part["covariance"]) @ z.T) * a
    return dense.deviance(y, x, v, made.criterion.reml)


def clause_columns(made, i):
    return [c.name for c in made.design.sentence.each[i].unit.columns]


def gradient_error(made, shift=0.05):
    c = made.criterion
    at = made.evaluation.theta + shift
    steps = 1e-5 * np.eye(len(at))
    numeric = [(c.at(at + s).deviance - c.at(at - s).deviance) / 2e-5 for s in steps]
    return np.abs(np.array(numeric) - c.at(at).gradient).max() / (1 + np.abs(numeric).max())


def check(frame, sentence, method="reml", between=None, converged=True):
    made = fit(sentence, Table(frame, "t", len(frame)), Settings(method=method))
    assert made.converged or not converged, made.model.found.reason
    assert made.evaluation.deviance == pytest.approx(judged(frame, made, between), abs=1e-6)
    assert gradient_error(made) < 1e-5
    return made


SENTENCES = [
    "yield = rain; each tree: intercept; each orchard: intercept + rain",
    "yield = rain; each tree in orchard: intercept; each orchard (diagonal): intercept + rain; each season: intercept",
    "yield = rain; each orchard (identity): intercept + rain; each season (exchangeable): soil",
    "yield = rain + soil; each orchard: intercept; each orchard: rain; each season in orchard: intercept",
    "yield = rain; each orchard: rain",
    "yield = rain; each tree: intercept; within tree: ar1(week)",
    "yield = rain; within tree: ar1(week)",
    "yield = rain; each season: intercept; each orchard: intercept; within tree: ar1(week)",
    "yield = rain; each orchard: intercept; within tree: exchangeable",
    "yield = rain; each orchard: intercept; within tree: unstructured(week)",
    "yield = rain; each tree: intercept; each season: intercept; spread = soil",
    "yield = rain; each tree: intercept; spread = rain",
    "yield = rain; each orchard: intercept; within tree: ar1(week); spread = soil",
    "yield = rain; within tree: exchangeable; spread = rain",
    "yield = rain; each orchard: intercept; within tree: toeplitz(week)",
    "yield = rain; within tree: toeplitz(week); spread = soil",
    "yield = rain; each orchard: intercept; within tree: exponential(week)",
    "yield = rain; within tree: exponential(week); spread = soil",
]


@pytest.mark.few(9)
@pytest.mark.parametrize("sentence", SENTENCES)
def test_fits_equal_the_dense_likelihood(sentence):
    check(trial(), sentence)
    check(trial(seed=5), sentence, "ml", converged=False)


def test_correlation_over_the_ground_equals_the_dense_likelihood():
    frame, r = trial(trees=30), np.random.default_rng(4)
    frame["east"], frame["north"] = r.uniform(0, 40, len(frame)), r.uniform(0, 30, len(frame))
    factor = np.linalg.cholesky(
        np.exp(-np.hypot(*(frame[c].to_numpy()[:, None] - frame[c].to_numpy() for c in ("east", "north"))) / 12)
    )
    frame["yield"] += 8 * factor @ r.normal(size=len(frame))
    for unit in ("orchard", "season"):
        made = fit(f"yield = rain; within {unit}: exponential(east, north)", Table(frame, "t", len(frame)))
        v = residual(frame, unit, made.result["residual"], ("east", "north"))
        x = np.column_stack(made.design.fixed.values)
        assert made.converged and made.result["residual"]["parameters"]["range"] > 0
        assert made.evaluation.deviance == pytest.approx(
            dense.deviance(frame["yield"].to_numpy(), x, v, True), abs=1e-6
        )
        assert gradient_error(made) < 1e-5


def test_distance_has_no_unit_and_no_direction():
    """Places in other units, turned and moved: the same fit, the range in the new unit."""
    frame, r = trial(trees=30), np.random.default_rng(5)
    frame["east"], frame["north"] = r.uniform(0, 40, len(frame)), r.uniform(0, 30, len(frame))
    sentence = "yield = rain; within season: exponential(east, north)"
    one = fit(sentence, Table(frame, "t", len(frame)))
    east, north = frame["east"], frame["north"]
    turned = frame.assign(east=1000 + 600 * east - 800 * north, north=800 * east + 600 * north)
    two = fit(sentence, Table(turned, "t", len(turned)))
    assert two.evaluation.deviance == pytest.approx(one.evaluation.deviance, abs=1e-7)
    ranges = [m.result["residual"]["parameters"]["range"] for m in (one, two)]
    assert ranges[1] == pytest.approx(1000 * ranges[0], rel=1e-4)


def test_exponential_in_time_is_ar1_and_toeplitz_holds_both():
    frame = trial()
    one, two, three = (
        fit(f"yield = rain; within tree: {s}(week)", Table(frame, "t", len(frame)))
        for s in ("ar1", "exponential", "toeplitz")
    )
    rho, distance = one.result["residual"]["parameters"]["rho"], two.result["residual"]["parameters"]["range"]
    assert rho > 0 and np.exp(-1 / distance) == pytest.approx(rho, rel=1e-4)
    assert two.evaluation.deviance == pytest.approx(one.evaluation.deviance, abs=1e-7)
    assert (
        three.evaluation.deviance
        <= fit("yield = rain; within tree: exchangeable", Table(frame, "t", len(frame))).evaluation.deviance + 1e-7
    )


def test_two_rows_at_one_place_are_named():
    frame = trial()
    frame["east"], frame["north"] = np.arange(len(frame)), 0.0
    rows = np.flatnonzero(frame["season"] == 1)[:2]
    frame.loc[rows[1], "east"] = frame.loc[rows[0], "east"]
    with pytest.raises(OrchardError, match=rf"rows {rows[0] + 1} and {rows[1] + 1}.*one place"):
        fit("yield = rain; within season: exponential(east, north)", Table(frame, "t", len(frame)))


def test_time_in_halves_keeps_rho_not_negative():
    frame = trial()
    frame["week"] = frame["week"] / 2
    made = check(frame, "yield = rain; each tree: intercept; within tree: ar1(week)")
    assert made.result["residual"]["parameters"]["rho"] >= 0


def test_known_and_given_covariances(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    frame, r = trial(), np.random.default_rng(1)
    b = r.normal(size=(23, 30))
    kin = b @ b.T / 30 + 0.3 * np.eye(23)
    labels = [f"t{i}" for i in range(23)]
    order = r.permutation(23)
    write_matrix(tmp_path / "kin.csv", [labels[i] for i in order], kin[np.ix_(order, order)])
    write_matrix(tmp_path / "g.csv", ["rain", "intercept"], np.array([[0.2, 0.1], [0.1, 0.9]]))
    at = frame["tree"].str[1:].astype(int).to_numpy()
    between = {0: kin[np.ix_(at, at)]}
    made = check(frame, 'yield = rain; each tree (known "kin.csv"): intercept', between=between)
    assert len(made.evaluation.effects(0)[0]) == 23  # also for the three trees without rows
    check(frame, 'yield = rain; each tree (known "kin.csv"): intercept + rain; each tree: intercept; each orchard: intercept',
          between=between)  # fmt: skip
    fixed = check(frame, 'yield = rain; each tree (given "g.csv"): intercept + rain; each orchard: intercept')
    np.testing.assert_allclose(fixed.result["random"][0]["covariance"], [[0.9, 0.1], [0.1, 0.2]])
    assert fixed.result["fit"]["n_parameters"] == 2 + 1 + 1  # nothing is estimated in the given clause
    units = check(
        frame,
        'yield = rain; each tree (given units "kin.csv"): intercept',
        between={0: between[0] / np.diag(between[0]).mean()},
    )
    assert units.result["random"][0]["covariance"] == [
        [pytest.approx(np.diag(between[0]).mean())]
    ]  # as it stands in the file
    assert units.result["fit"]["n_parameters"] == 2 + 1


@pytest.mark.parametrize("stacked", [20_000_000, 0])
@pytest.mark.parametrize("sentence", [
    "yield = rain; each tree: intercept; each season: intercept",
    "yield = rain; each tree: intercept + rain; each season: intercept + rain; each orchard: intercept",
])  # fmt: skip
def test_large_crossings_by_cells_equal_the_dense_way(monkeypatch, sentence, stacked):
    monkeypatch.setattr(assemble, "DENSE_TAIL", 0)
    monkeypatch.setattr(elimination, "SMALL_TAIL", 0)
    monkeypatch.setattr(elimination, "NUMPY_INVERSE", 0)
    monkeypatch.setattr(grids, "MOST_STACKED", stacked)
    frame = trial()
    made = check(frame, sentence)
    assert made.criterion.products.stages[0].crossing is not None
    cells = [made.evaluation.effects(f) for f in range(len(made.design.blocks))]
    monkeypatch.undo()
    plain = fit(sentence, Table(frame, "t", len(frame)))
    assert plain.criterion.products.stages[0].crossing is None
    for f, (effects, errors) in enumerate(cells):
        np.testing.assert_allclose(effects, plain.evaluation.effects(f)[0], atol=1e-7)
        np.testing.assert_allclose(errors, plain.evaluation.effects(f)[1], atol=1e-7)


PARTS = st.sampled_from(["intercept", "rain", "intercept + rain", "intercept + soil", "soil", "rain*soil + intercept"])
STRUCTURES = st.sampled_from(["unstructured", "diagonal", "identity", "exchangeable"])
UNITS = st.sampled_from(["tree", "orchard", "season", "tree in orchard", "season in orchard", "soil in season"])
RESIDUALS = st.sampled_from(["", "; within tree: ar1(week)", "; within tree: exchangeable", "; spread = soil", "; spread = rain",
                             "; within tree: ar1(week); spread = soil", "; within tree: unstructured(week)"])  # fmt: skip


@pytest.mark.slow
@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(UNITS, STRUCTURES, PARTS), min_size=1, max_size=3),
    RESIDUALS,
    st.booleans(),
    st.integers(0, 10**6),
)
def test_any_sentence_at_any_parameters(clauses, rest, reml, seed):
    """The criterion at random parameters, and its gradient, against dense likelihood and differences."""
    frame = trial(seed=seed % 7, trees=12)
    alone = [(u, p) for u, _, t in clauses for p in t.split(" + ")]
    assume(len(set(alone)) == len(alone))  # a term in two clauses of one unit is refused
    each = "; ".join(f"each {u} ({s}): {t}" for u, s, t in clauses)
    design = build_design(
        read_sentence(f"yield = rain + soil; {each}{rest}"), Table(frame, "t", len(frame)), Options(force=True)
    )
    c = make_criterion(design, reml)
    r = np.random.default_rng(seed)
    at = np.where(c.bounded, np.abs(r.normal(size=len(c.bounded))) + 0.1, 0.5 * r.normal(size=len(c.bounded)))
    e = c.at(at)
    model = GaussianModel(design, SearchOptions(), c, OptimizeResult(e, True, 0.0, np.zeros((0, 0)), 0, 0, ""))
    v = residual(frame, design.residual.unit, residual_part(model))
    for i, (clause, part) in enumerate(zip(design.clauses, random_parts(model))):
        z = np.column_stack(clause.part.values)
        names = [column.name for column in design.sentence.each[i].unit.columns]
        label = frame[names].astype(str).agg("|".join, axis=1).to_numpy()
        v = v + (z @ np.array(part["covariance"]) @ z.T) * (label[:, None] == label[None, :])
    x = np.column_stack(design.fixed.values)
    assert e.deviance == pytest.approx(dense.deviance(frame["yield"].to_numpy(), x, v, reml), abs=1e-6)
    numeric = [(c.at(at + s).deviance - c.at(at - s).deviance) / 2e-5 for s in 1e-5 * np.eye(len(at))]
    np.testing.assert_allclose(e.gradient, numeric, atol=1e-5 * (1 + np.abs(numeric).max()))


def test_balanced_nested_layout_has_the_closed_form():
    r = np.random.default_rng(2)
    a, b, n = 8, 5, 4
    frame = pd.DataFrame(
        [(i, j, k) for i in range(a) for j in range(b) for k in range(n)], columns=["orchard", "tree", "k"]
    )
    frame["yield"] = (5 + 2 * r.normal(size=a)[frame["orchard"]] + 1.5 * r.normal(size=a * b)[frame["orchard"] * b + frame["tree"]]
                      + r.normal(size=len(frame)))  # fmt: skip
    made = fit(
        "yield = intercept; each tree in orchard: intercept; each orchard: intercept", Table(frame, "t", len(frame))
    ).result
    y = frame["yield"].to_numpy().reshape(a, b, n)
    cell, row = y.mean(axis=2), y.mean(axis=(1, 2))
    ms_e = ((y - cell[:, :, None]) ** 2).sum() / (a * b * (n - 1))
    ms_b = n * ((cell - row[:, None]) ** 2).sum() / (a * (b - 1))
    ms_a = n * b * ((row - row.mean()) ** 2).sum() / (a - 1)
    assert ms_a > ms_b > ms_e
    assert made["residual"]["variance"] == pytest.approx(ms_e, rel=1e-7)
    assert made["random"][0]["covariance"][0][0] == pytest.approx((ms_b - ms_e) / n, rel=1e-7)
    assert made["random"][1]["covariance"][0][0] == pytest.approx((ms_a - ms_b) / (n * b), rel=1e-7)


@pytest.mark.parametrize(("lead", "digits"), [(1e6, 5), (1e12, 2)])
def test_a_large_constant_leading_part_keeps_its_digits(tmp_path, lead, digits):
    """One-way, 9 groups of 2,001 rows read from a file; the judge is exact rational arithmetic."""
    from fractions import Fraction

    from bold_orchard.data.read import read_table

    r = np.random.default_rng(11)
    groups = [[Fraction(int(v), 10) for v in 4 + np.round(r.normal(0, 1, 2001) + 3 * g % 4)] for g in range(9)]
    rows = "".join(
        f"g{g},{int(lead) + int(v * 10) // 10}.{int(v * 10) % 10}\n" for g, values in enumerate(groups) for v in values
    )
    (tmp_path / "t.csv").write_text("orchard,yield\n" + rows)
    n = 2001
    means = [sum(v) / n for v in groups]
    grand = sum(means) / 9
    within = sum((v - m) ** 2 for values, m in zip(groups, means) for v in values) / (9 * (n - 1))
    between = n * sum((m - grand) ** 2 for m in means) / 8
    made = fit("yield = intercept; each orchard: intercept", read_table(tmp_path / "t.csv")).result
    assert made["convergence"]["converged"]
    assert made["residual"]["variance"] == pytest.approx(float(within), rel=0.5 * 10**-digits)
    assert made["random"][0]["covariance"][0][0] == pytest.approx(float((between - within) / n), rel=0.5 * 10**-digits)


def test_dates_count_in_days():
    frame = trial()
    start = np.datetime64("2031-05-01")
    dated = frame.assign(day=(start + frame["week"].to_numpy()).astype(str))
    one = fit("yield = rain; within tree: ar1(week)", Table(frame, "t", len(frame))).result
    two = fit("yield = rain; within tree: ar1(day)", Table(dated, "t", len(dated))).result
    assert two["residual"]["parameters"]["rho"] == pytest.approx(one["residual"]["parameters"]["rho"])
    assert two["transformations"][0]["meaning"] == "a date, counted in days since 2031-05-02"
