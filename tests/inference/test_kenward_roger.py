"""Kenward-Roger against a dense version that builds V and every product of it."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.table import Table
from bold_orchard.errors import UsageError
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.likelihood.expected_information import groups
from builders import make_trees


def trees(seed=3, rows=100):
    frame = make_trees(seed, orchards=8, rows=rows, slope_sd=1.0, orchard_sd=1.5)
    r = np.random.default_rng(seed)
    frame["season"] = r.integers(1, 5, rows).astype(str)
    frame["tree"] = [f"{o}.{k}" for o, k in zip(frame["orchard"], r.integers(0, 3, rows))]
    frame["pruning"] = r.choice(["none", "light", "hard"], rows)
    frame["w"] = r.uniform(0.5, 2, rows)
    frame["yield"] += r.normal(size=5)[frame["season"].astype(int)] + (frame["pruning"] == "hard") * 0.8
    codes, orchard = pd.factorize(frame["tree"])[0], pd.factorize(frame["orchard"])[0]
    frame["yield"] += r.normal(size=orchard.max() + 1)[orchard] * frame["sun"]
    frame["yield"] += r.normal(size=codes.max() + 1)[codes]
    return frame


def directions(made):
    """V's derivatives in every element of G and in sigma^2 (n, n), dense."""
    design, n = made.design, len(made.design.y)
    out = []
    for clause in design.clauses:
        block = design.blocks[clause.block]
        z, codes = np.column_stack(clause.part.values), block.unit.codes
        same = (codes[:, None] == codes[None, :]).astype(float)
        if block.relationship_factor is not None:
            same = (block.relationship_factor @ block.relationship_factor.T)[np.ix_(codes, codes)]
        k = z.shape[1]
        elements = [(a, b) for a in range(k) for b in range(a + 1)]
        if clause.structure.kind == "diagonal":
            elements = [(a, a) for a in range(k)]
        for a, b in elements:
            e = np.zeros((k, k))
            e[a, b] = e[b, a] = 1.0
            out.append((z @ e @ z.T) * same)
        if clause.structure.kind == "identity":
            out[-len(elements) :] = [
                sum(out[-len(elements) + i] for i in range(len(elements)) if elements[i][0] == elements[i][1])
            ]
    return [*out, np.diag(np.ones(n) if design.weights is None else 1 / design.weights)]


def covariance(made):
    """V (n, n)."""
    v = made.evaluation.sigma2 * directions(made)[-1]
    for clause, part in zip(made.design.clauses, made.result["random"]):
        block = made.design.blocks[clause.block]
        z, codes = np.column_stack(clause.part.values), block.unit.codes
        same = (codes[:, None] == codes[None, :]).astype(float)
        if block.relationship_factor is not None:
            same = (block.relationship_factor @ block.relationship_factor.T)[np.ix_(codes, codes)]
        v += (z @ np.array(part["covariance"]) @ z.T) * same
    return v


def dense(made, rows):
    """Adjusted covariance, denominator df and lambda, straight from the paper."""
    x = np.column_stack(made.design.fixed.values)
    vi = np.linalg.inv(covariance(made))
    gs = directions(made)
    phi = np.linalg.inv(x.T @ vi @ x)
    p = [-x.T @ vi @ g @ vi @ x for g in gs]
    q = [[x.T @ vi @ g @ vi @ h @ vi @ x for h in gs] for g in gs]
    m = len(gs)
    information = np.array([[0.5 * (np.trace(vi @ gs[i] @ vi @ gs[j]) - np.trace(2 * phi @ q[i][j] - phi @ p[i] @ phi @ p[j]))
                             for j in range(m)] for i in range(m)])  # fmt: skip
    w = np.linalg.inv(information)
    pairs = [(i, j) for i in range(m) for j in range(m)]
    adjusted = phi + 2 * phi @ sum(w[i, j] * (q[i][j] - p[i] @ phi @ p[j]) for i, j in pairs) @ phi
    k = len(rows)
    theta = rows.T @ np.linalg.inv(rows @ phi @ rows.T) @ rows
    a1 = sum(w[i, j] * np.trace(theta @ phi @ p[i] @ phi) * np.trace(theta @ phi @ p[j] @ phi) for i, j in pairs)
    a2 = sum(w[i, j] * np.trace(theta @ phi @ p[i] @ phi @ theta @ phi @ p[j] @ phi) for i, j in pairs)
    b = (a1 + 6 * a2) / (2 * k)
    g = ((k + 1) * a1 - (k + 4) * a2) / ((k + 2) * a2)
    d = 3 * k + 2 * (1 - g)
    c1, c2, c3 = g / d, (k - g) / d, (k + 2 - g) / d
    mean = 1 / (1 - a2 / k)
    variance = (2 / k) * (1 + c1 * b) / ((1 - c2 * b) ** 2 * (1 - c3 * b))
    df = 4 + (k + 2) / (k * variance / (2 * mean**2) - 1)
    return adjusted, df, df / (mean * (df - 2))


SENTENCES = [
    "yield = rain + pruning; each orchard: intercept + rain",
    "yield = rain + sun + pruning; each orchard (diagonal): intercept + sun",
    "yield = rain + pruning; each orchard: intercept; each tree: intercept",
    "yield = rain + pruning; each orchard: intercept + rain; each tree: intercept",
    "yield = rain + pruning; each orchard: intercept; each season: intercept",
    "yield = rain + pruning; each orchard: intercept + rain; each tree: intercept; each season: intercept",
    "yield = rain + pruning; each orchard (identity): intercept + centre(rain)",
    "yield = rain + pruning; each orchard: intercept; each orchard: rain",
]


@pytest.mark.parametrize("sentence", SENTENCES)
@pytest.mark.parametrize("weighted", [False, True])
def test_it_is_the_paper_s_to_the_last_digits(sentence, weighted):
    from bold_orchard.design.design import Options

    frame = trees()
    options = Options(weights="w" if weighted else None)
    made = fit(sentence, Table(frame, "t", len(frame)), Settings(df="kenward-roger", options=options))
    assert made.converged and not made.result["convergence"]["boundary"]
    names = list(made.design.fixed.names)
    for rows in (
        np.eye(len(names))[1:2],
        np.eye(len(names))[[names.index("pruning[light]"), names.index("pruning[none]")]],
    ):
        adjusted, df, factor = dense(made, rows)
        np.testing.assert_allclose(made.known.covariance, adjusted, rtol=1e-7, atol=1e-12)
        np.testing.assert_allclose(made.known.test(rows), (df, factor), rtol=1e-6)
    test = next(t for t in terms(made, 3)["tests"] if t["term"] == "pruning")
    b = made.evaluation.b[[names.index("pruning[light]"), names.index("pruning[none]")]]
    wald = b @ np.linalg.solve((rows @ adjusted @ rows.T), b)
    assert test["value"] == pytest.approx(factor * wald / 2, rel=1e-8) and test["den_df"] == pytest.approx(df, rel=1e-6)
    row = made.result["fixed"][1]
    assert row["se"] == pytest.approx(np.sqrt(adjusted[1, 1]), rel=1e-7)
    assert made.result["fixed_covariance"][1][1] == pytest.approx(row["se"] ** 2)


def test_known_and_given_covariances_count_as_they_should(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    frame = trees()
    labels = sorted(frame["orchard"].unique())
    r = np.random.default_rng(2)
    root = r.normal(size=(len(labels), len(labels)))
    kin = root @ root.T / len(labels) + np.eye(len(labels))
    pd.DataFrame(kin, labels, labels).to_csv("kin.csv")
    pd.DataFrame([[1.3]], ["intercept"], ["intercept"]).to_csv("g.csv")
    rows = np.array([[0.0, 1.0, 0.0, 0.0]])
    table = Table(frame, "t", len(frame))
    made = fit('yield = rain + pruning; each orchard (known "kin.csv"): intercept', table, Settings(df="kenward-roger"))
    adjusted, df, _ = dense(made, rows)
    np.testing.assert_allclose(made.known.covariance, adjusted, rtol=1e-7)
    assert made.known.df(rows) == pytest.approx(df, rel=1e-6)
    made = fit('yield = rain + pruning; each season (given "g.csv"): intercept; each orchard: intercept', table,
               Settings(df="kenward-roger"))  # fmt: skip
    free = directions(made)
    monkeypatch.setattr("test_kenward_roger.directions", lambda m: free[1:])
    adjusted, df, _ = dense(made, rows)
    np.testing.assert_allclose(made.known.covariance, adjusted, rtol=1e-7)
    assert made.known.df(rows) == pytest.approx(df, rel=1e-6)


def test_a_model_without_units_has_the_residual_df():
    frame = trees()
    made = fit("yield = rain + pruning", Table(frame, "t", len(frame)), Settings(df="kenward-roger"))
    assert made.result["fixed"][1]["df"] == pytest.approx(len(frame) - 4, rel=1e-9)
    assert terms(made)["tests"][1]["den_df"] == pytest.approx(len(frame) - 4, rel=1e-9)


def test_groups_of_one_shape_stand_together():
    frame = trees(rows=90)
    made = fit("yield = rain; each orchard: intercept + rain; each tree: intercept", Table(frame, "t", len(frame)))
    made_groups = list(groups(made.criterion.products))
    assert sum(len(g.c) for g in made_groups) == frame["orchard"].nunique()
    assert sum(g.c.shape[0] * g.parts[0].levels for g in made_groups) == frame["tree"].nunique()


def test_what_it_cannot_serve_is_refused_before_the_search():
    frame = trees()
    table = Table(frame, "t", len(frame))
    with pytest.raises(UsageError, match="rests on REML"):
        fit("yield = rain; each orchard: intercept", table, Settings(method="ml", df="kenward-roger"))
