"""Where two roads lead to one place they agree; and what must not matter does not."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import dense
from bold_orchard.crossproducts import assemble, batched, correlated, elimination
from bold_orchard.data.table import Table
from bold_orchard.estimation import gaussian_search
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.inference.fit import Settings, by_ml, fit
from bold_orchard.inference.prediction.predict import predict
from bold_orchard.likelihood.average_information import quadratic_forms
from bold_orchard.optimize.newton import difference_hessian
from builders import make_trees, trial

TWO = "yield = rain; each tree: intercept + rain; each orchard: intercept; each season: intercept"


def table_of(frame):
    return Table(frame, "t", len(frame))


def at_random(criterion, seed=1):
    r = np.random.default_rng(seed)
    theta = r.normal(size=len(criterion.bounded)) * 0.5
    return np.where(criterion.bounded, np.abs(theta) + 0.2, theta)


@pytest.mark.parametrize(
    "sentence", [TWO, "yield = rain; each tree: intercept + rain", "yield = rain; each season: intercept"]
)
def test_the_number_of_units_at_once_does_not_matter(sentence, monkeypatch):
    frame = table_of(trial())
    c = make_criterion(fit(sentence, frame).design, True)
    whole = c.at(at_random(c))
    wanted = whole.deviance, whole.gradient, whole.curvature
    monkeypatch.setattr(batched, "CHUNK", 3)
    parts = c.at(at_random(c))
    for got, value in zip((parts.deviance, parts.gradient, parts.curvature), wanted):
        np.testing.assert_allclose(got, value, rtol=1e-10)


@pytest.mark.few(2)
@pytest.mark.parametrize("rest", ["within tree: ar1(week)", "within tree: exchangeable", "within tree: unstructured(week)",
                                  "spread = soil", "within tree: ar1(week); spread = soil"])  # fmt: skip
def test_fixed_products_and_fresh_passes_agree(rest, monkeypatch):
    design = fit(f"yield = rain; each orchard: intercept; {rest}", table_of(trial())).design
    kept = make_criterion(design, True)
    assert kept.correlated.stack is not None
    monkeypatch.setattr(correlated, "MOST_STACKED", 0)
    fresh = make_criterion(design, True)
    assert fresh.correlated.stack is None
    at = at_random(kept)
    np.testing.assert_allclose(fresh.at(at).deviance, kept.at(at).deviance, rtol=1e-12)
    np.testing.assert_allclose(fresh.at(at).gradient, kept.at(at).gradient, rtol=1e-8, atol=1e-9)


@pytest.mark.parametrize("size", [1e-9, 1e-3, 1.0])
def test_the_tails_two_ways_agree_near_the_boundary_too(size, monkeypatch):
    design = fit("yield = rain; each tree: intercept; each season: intercept", table_of(trial())).design
    c = make_criterion(design, True)
    at = np.array([0.8, size])
    wanted = c.at(at).gradient
    monkeypatch.setattr(elimination, "SMALL_TAIL", 0)
    monkeypatch.setattr(elimination, "NUMPY_INVERSE", 0)
    np.testing.assert_allclose(c.at(at).gradient, wanted, rtol=1e-6, atol=1e-8)


def test_predictions_by_cells_equal_the_dense_way(monkeypatch):
    frame = table_of(trial())
    wanted = predict(fit(TWO, frame), frame)
    monkeypatch.setattr(assemble, "DENSE_TAIL", 0)
    made = fit(TWO, frame)
    assert made.criterion.products.stages[0].crossing is not None
    got = predict(made, frame)
    np.testing.assert_allclose(got.predicted, wanted.predicted, atol=1e-6)
    np.testing.assert_allclose(got.se, wanted.se, rtol=1e-6)


@pytest.mark.parametrize("reml", [True, False])
def test_average_information_is_near_the_hessian_at_the_end(reml):
    made = fit("yield = rain + sun; each orchard: intercept + rain", table_of(make_trees(seed=2, rows=300, orchards=40, slope_sd=1.0)),
               Settings(method="reml" if reml else "ml"))  # fmt: skip
    e = made.evaluation
    exact = difference_hessian(made.criterion.at, e)
    np.testing.assert_allclose(np.diag(e.curvature), np.diag(exact), rtol=0.35)
    assert np.linalg.eigvalsh(exact)[0] > 0


def test_quadratic_forms_equal_the_dense_projection():
    """q' P q with P = H^-1 - H^-1 X (X'H^-1X)^-1 X'H^-1 written out, for units of chain and tail."""
    frame = trial()
    made = fit(TWO, table_of(frame))
    c, e = made.criterion, made.evaluation
    products, r = c.products, np.random.default_rng(3)
    x = np.column_stack(made.design.fixed.values)
    h, zs = np.eye(len(frame)), {}
    for f, block in enumerate(made.design.blocks):
        values = [v for clause in made.design.clauses if clause.block == f for v in clause.part.values]
        k, n = len(values), len(frame)
        z = np.zeros((n, k, block.unit.size))
        z[np.arange(n), :, block.unit.codes] = np.column_stack(values)
        zs[f] = z
        g = e.covariance(f) / e.sigma2
        h += np.einsum("nkj,kl,mlj->nm", z, g, z)
    inverse = np.linalg.inv(h)
    p = inverse - inverse @ x @ np.linalg.inv(x.T @ inverse @ x) @ x.T @ inverse
    directions, vectors = [], []
    for s in [*products.stages, *products.tails]:
        w = r.normal(size=(s.size, s.levels))
        directions.append((s.unit, w))
        user = np.linalg.solve(products.z_to_work[s.unit], w)  # working effects -> the user's
        placed = np.empty_like(user)
        placed[:, s.order] = user
        vectors.append(np.einsum("nkj,kj->n", zs[s.unit], placed))
    q = np.column_stack(vectors)
    np.testing.assert_allclose(
        quadratic_forms(e.eliminated, directions, e.xx_inverse), q.T @ p @ q, rtol=1e-7, atol=1e-8
    )


def test_rows_labels_and_clauses_may_stand_in_any_order():
    frame = trial()
    one = fit(
        "yield = rain + soil; each tree: intercept; each orchard: intercept + rain; within tree: ar1(week)",
        table_of(frame),
    ).result
    turned = frame.sample(frac=1, random_state=9).reset_index(drop=True)
    turned["tree"], turned["orchard"] = "x" + turned["tree"].str[::-1], -turned["orchard"]
    two = fit(
        "yield = soil + rain; each orchard: rain + intercept; each tree: intercept; within tree: ar1(week)",
        table_of(turned),
    ).result
    assert two["fit"]["loglik"] == pytest.approx(one["fit"]["loglik"], abs=1e-7)
    first, second = ({r["term"]: r["estimate"] for r in d["fixed"]} for d in (one, two))
    assert first == pytest.approx(second, rel=1e-5)
    np.testing.assert_allclose(
        np.array(one["random"][1]["covariance"]),
        np.array(two["random"][0]["covariance"])[::-1, ::-1],
        rtol=1e-4,
        atol=1e-7,
    )


def test_the_unit_of_the_outcome_only_scales():
    frame = trial()
    one = fit(TWO, table_of(frame)).result
    two = fit(TWO, table_of(frame.assign(**{"yield": frame["yield"] * 1000.0}))).result
    n, p = len(frame), 2
    assert two["fit"]["deviance"] == pytest.approx(one["fit"]["deviance"] + 2 * (n - p) * np.log(1000), abs=1e-6)
    assert two["fixed"][1]["p"] == pytest.approx(one["fixed"][1]["p"], rel=1e-5)
    np.testing.assert_allclose(
        two["random"][0]["covariance"], np.array(one["random"][0]["covariance"]) * 1e6, rtol=1e-5, atol=1e-3
    )


def test_refitting_by_ml_is_fitting_by_ml():
    frame = table_of(trial())
    for sentence in (TWO, "yield = rain; each tree: intercept; within tree: ar1(week)"):
        again, direct = by_ml(fit(sentence, frame), "ml"), fit(sentence, frame, Settings(method="ml"))
        assert again.result["method"] == "ML" and again.converged
        assert again.evaluation.deviance == pytest.approx(direct.evaluation.deviance, abs=1e-7)
        np.testing.assert_allclose(again.evaluation.b, direct.evaluation.b, rtol=1e-5)


def test_another_order_of_effects_is_the_same_model():
    frame = table_of(make_trees(seed=7, rows=80, slope_sd=2.0, orchard_sd=0.02))
    made = fit("yield = rain + sun; each orchard: intercept + rain + sun", frame)
    again = gaussian_search._in_another_order(made.criterion, made.model.found, made.settings.search)
    assert again.point.deviance == pytest.approx(made.evaluation.deviance, abs=1e-6)
    np.testing.assert_allclose(again.point.covariance(0), made.evaluation.covariance(0), rtol=1e-3, atol=1e-4)


def test_competing_correlations_end_in_the_lower_deviance():
    """A variance between units and a correlation inside them explain alike; the better end is kept."""
    r = np.random.default_rng(149)
    for seed in range(6):
        code, week = np.repeat(np.arange(8), 5), np.tile(np.arange(5), 8)
        e = r.normal(size=40)
        for i in range(1, 40):
            e[i] += -0.7 * e[i - 1] * (week[i] > 0) if seed % 2 else 0.8 * e[i - 1] * (week[i] > 0)
        frame = pd.DataFrame({"orchard": code, "week": week, "yield": e, "rain": r.normal(size=40)})
        made = fit("yield = rain; each orchard: intercept; within orchard: ar1(week)", table_of(frame))
        x = np.column_stack(made.design.fixed.values)

        def f(variance, rho, s2, code=code, week=week, frame=frame, x=x):
            same = code[:, None] == code[None, :]
            v = variance * same + s2 * same * np.power(rho, np.abs(week[:, None] - week[None, :]))
            return dense.deviance(frame["yield"].to_numpy(), x, v, True)

        s2 = made.evaluation.sigma2
        grid = [
            f(v * s2, rho, s2 * k)
            for v in (0, 0.1, 0.5, 2)
            for rho in (-0.8, -0.4, 0.05, 0.4, 0.8)
            for k in (0.6, 1, 1.6)
        ]
        assert made.evaluation.deviance <= min(grid) + 1e-6
