"""Cluster-robust errors: against matrices of all rows written out, by relations, and where they are refused."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import linalg, special, stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from builders import diaries, inspections, residual, trial

SENTENCES = [
    "yield = rain + soil; each orchard: intercept + rain; each tree in orchard: intercept",
    "yield = rain*soil + rain + soil; each orchard: intercept; within tree: ar1(week); spread = soil",
]


def frame_of(seed=3, trees=44):
    frame = trial(seed, trees=trees, keep=0.8)
    frame["orchard"] = [f"o{o}" for o in frame["orchard"]]
    return frame


class Dense:
    """CR2 with all rows in one matrix, by the definitions of Pustejovsky & Tipton (2018)."""

    def __init__(self, fit, frame, clusters):
        d, n = fit.result, len(frame)
        self.x = np.column_stack(fit.core.design.fixed.values)
        v = residual(frame, d.residual.unit, d.to_dict()["residual"])
        for part, clause in zip(d.random, fit.core.design.clauses):
            z = np.column_stack(clause.part.values)
            names = frame[part.group.split(" in ")].astype(str).agg("|".join, axis=1).to_numpy()
            v = v + (z @ np.array(part.covariance) @ z.T) * (names[:, None] == names)
        self.v, w = v, np.linalg.inv(v)
        self.m = np.linalg.inv(self.x.T @ w @ self.x)
        self.b = self.m @ self.x.T @ w @ frame["yield"].to_numpy()
        whole = np.eye(n) - self.x @ self.m @ self.x.T @ w  # I - H
        codes = pd.factorize(clusters)[0]
        self.meat, self.p = np.zeros_like(self.m), []
        for i in range(codes.max() + 1):
            own = np.flatnonzero(codes == i)
            d_i = np.linalg.cholesky(v[np.ix_(own, own)]).T
            b_i = d_i @ whole[own] @ v @ whole[own].T @ d_i.T
            values, vectors = np.linalg.eigh(b_i)
            good = values > 1e-10 * values.max()
            a_i = d_i.T @ (vectors[:, good] / np.sqrt(values[good])) @ vectors[:, good].T @ d_i
            t_i = self.m @ self.x[own].T @ np.linalg.inv(v[np.ix_(own, own)]) @ a_i
            score = t_i @ (frame["yield"].to_numpy() - self.x @ self.b)[own]
            self.meat += np.outer(score, score)
            self.p.append(t_i @ whole[own])  # (p, n): the score as a function of all rows

    def test(self, rows):
        """F, df of the approximate Hotelling T^2."""
        q, middle = len(rows), rows @ self.m @ rows.T
        u = linalg.inv(linalg.sqrtm(middle).real) @ rows
        total = 0.0
        for s in range(q):
            for t in range(q):
                ps, pt = (np.array([u[k] @ p for p in self.p]) for k in (s, t))
                st, ss, tt = ps @ self.v @ pt.T, ps @ self.v @ ps.T, pt @ self.v @ pt.T
                total += (st * st.T).sum() + (ss * tt).sum()
        eta = q * (q + 1) / total
        away = rows @ self.b
        wald = away @ np.linalg.solve(rows @ self.meat @ rows.T, away)
        return (eta - q + 1) / (eta * q) * wald, eta - q + 1


@pytest.mark.parametrize("sentence", SENTENCES)
def test_errors_df_and_tests_are_those_of_the_definitions(sentence):
    frame = frame_of()
    fit = bo.fit(sentence, frame, errors="robust")
    dense = Dense(fit, frame, frame["orchard"])
    assert fit.result.errors.unit == "orchard" and fit.result.errors.clusters == frame["orchard"].nunique()
    for i, row in enumerate(fit.result.fixed):
        f, df = dense.test(np.eye(len(dense.b))[i : i + 1])
        assert row.se == pytest.approx(np.sqrt(dense.meat[i, i]), rel=1e-6)
        assert row.df == pytest.approx(df, rel=1e-6) and row.statistic**2 == pytest.approx(f, rel=1e-6)
    if "*" not in sentence:
        made = fit.terms(type=1).to_dict()["tests"][1]
        soil = [i for i, r in enumerate(fit.result.fixed) if r.term.startswith("soil")]
        f, df = dense.test(np.eye(len(dense.b))[soil])
        assert (made["value"], made["den_df"]) == (pytest.approx(f, rel=1e-6), pytest.approx(df, rel=1e-6))
        assert made["p"] == pytest.approx(stats.f.sf(f, 2, df), rel=1e-5)


@pytest.mark.slow
def test_every_command_prints_the_same_errors():
    frame = frame_of()
    plain = bo.fit(SENTENCES[0], frame)
    fit = bo.fit(SENTENCES[0], frame, errors="robust=orchard")
    assert fit.loglik == plain.loglik and fit.result.fixed[1].estimate == plain.result.fixed[1].estimate
    assert plain.terms(errors="robust").to_dict()["tests"] == fit.terms().to_dict()["tests"]
    assert plain.means("soil", errors="robust").to_dict()["means"] == fit.means("soil").to_dict()["means"]
    rows = [r for r in plain.intervals("wald", errors="robust").to_dict()["parameters"] if r["kind"] == "fixed"]
    assert [[r["low"], r["high"]] for r in rows] == [pytest.approx(r.ci) for r in fit.result.fixed]
    assert fit.terms(errors="model").to_dict()["tests"] == plain.terms().to_dict()["tests"]
    published = str(bo.side_by_side(plain, errors="robust", cells="estimate (se)"))
    assert published != str(bo.side_by_side(plain)) and "cluster-robust errors (CR2)" in " ".join(published.split())
    words = " ".join(str(fit).split())
    assert "robust over orchard" in words and "degrees of freedom by Satterthwaite" in words
    assert "cluster-robust standard errors" in " ".join(str(fit.report()).split())


def test_names_of_levels_and_order_of_rows_change_nothing():
    frame = frame_of()
    other = frame.sample(frac=1, random_state=5).assign(orchard=lambda f: "z" + f["orchard"])
    one, two = (bo.fit(SENTENCES[0], f, errors="robust").result.fixed for f in (frame, other))
    for a, b in zip(one, two):
        assert (b.se, b.df) == (pytest.approx(a.se, rel=1e-6), pytest.approx(a.df, rel=1e-6))


@pytest.mark.parametrize("errors", ["robust", None])
@pytest.mark.parametrize("view", [{"against": "loam"}, {"letters": True, "correction": "none"}])
def test_comparisons_do_not_depend_on_units_of_columns_the_baseline_or_names(view, errors):
    frame = frame_of()
    names = {"clay": "z clay", "loam": "loam", "sand": "a, [sand]"}
    other = frame.assign(rain=1e3 * frame["rain"] + 5, soil=frame["soil"].map(names), **{"yield": 1e2 * frame["yield"]})
    one = bo.fit(SENTENCES[0], frame).means("soil", errors=errors, **view).to_dict()
    two = bo.fit(SENTENCES[0], other, baseline={"soil": "loam"}).means("soil", errors=errors, **view).to_dict()
    pairs = {frozenset((p["a"], p["b"])): p for p in two["pairs"]}
    assert len(pairs) == len(one["pairs"]) > 1
    for pair in one["pairs"]:
        same = pairs[frozenset((names[pair["a"]], names[pair["b"]]))]
        assert abs(same["difference"]) == pytest.approx(1e2 * abs(pair["difference"]), rel=1e-5)
        assert same["se"] == pytest.approx(1e2 * pair["se"], rel=1e-5)
        assert same["df"] == pytest.approx(pair["df"], rel=1e-4)
        assert same["p_adjusted"] == pytest.approx(pair["p_adjusted"], rel=1e-3)
    shared = [
        {names.get(lv := m["levels"]["soil"], lv): set(m.get("letters", "")) for m in d["means"]} for d in (one, two)
    ]
    for p in pairs:
        a, b = p
        assert bool(shared[0][a] & shared[0][b]) == bool(shared[1][a] & shared[1][b])


def test_a_unit_above_the_models_own_and_a_fit_kept(quick):
    frame = frame_of()
    frame["valley"] = [f"v{int(o[1:]) // 2}" for o in frame["orchard"]]
    frame.to_csv(quick.folder / "t.csv", index=False)
    done = quick("fit", "t.csv", SENTENCES[0], "--errors", "robust=valley", "--save", "m", "--json")
    dense = Dense(bo.fit(SENTENCES[0], frame), frame, frame["valley"])
    assert [r["se"] for r in done.json["fixed"]] == pytest.approx(list(np.sqrt(np.diag(dense.meat))), rel=1e-6)
    assert quick("means", "m", "soil", "--json").json["df_method"] == "robust over valley"
    assert quick("fit", "--from", "m", "--drop", "soil", "--json").json["errors"]["unit"] == "valley"


@pytest.mark.parametrize(("sentence", "errors", "said"), [
    ("yield = rain; each season: intercept; each orchard: intercept", "robust", "unit that holds all others"),
    ("yield = rain; each season: intercept; each orchard: intercept", "robust=orchard", "effects of season are shared"),
    ("yield = rain; each orchard: intercept; within season: exchangeable", "robust", "correlated across levels"),
    ("yield = rain; each orchard: intercept", "robust=orchards", "did you mean 'orchard'"),
    ("yield = rain; each orchard: intercept", "sandwich", "model, robust or robust=UNIT"),
])  # fmt: skip
def test_where_no_clusters_are_independent(sentence, errors, said):
    with pytest.raises((OrchardError, UsageError), match=said):
        bo.fit(sentence, frame_of(), errors=errors)


def test_unbiased_where_the_model_is_right():
    """The mean of the squared robust error is the variance of the estimate, whatever the number of clusters."""
    r, n, squares, made = np.random.default_rng(4), 8, [], []
    x = np.repeat(r.normal(size=n), 5)
    for _ in range(60):
        y = np.repeat(r.normal(size=n), 5) + r.normal(size=5 * n)
        fit = bo.fit("y = x; each unit: intercept", {"y": y, "x": x, "unit": [f"u{i}" for i in np.repeat(np.arange(n), 5)]},
                     errors="robust", force=True).result.fixed[1]  # fmt: skip
        squares.append(fit.se**2)
        made.append(fit.estimate)
    assert np.mean(squares) == pytest.approx(np.var(made), rel=0.45)


def slopes_of(function, at):
    """Central differences, (parameters,)."""
    steps = 1e-4 * np.eye(len(at)) * np.maximum(1.0, np.abs(at))
    return np.array([(function(at + h) - function(at - h)) / (2 * h.sum()) for h in steps])


@pytest.mark.slow
def test_scores_of_counts_are_those_of_the_integrals():
    """The sandwich from integrals over each orchard by brute force, in coefficients and log SD."""
    frame = inspections().iloc[::2].reset_index(drop=True)
    sentence = "aphids = spray + rain; each orchard: intercept"
    fit = bo.fit(sentence, frame, family="poisson", points=25, errors="robust")
    x = np.column_stack(fit.core.design.fixed.values)
    nodes, weights = np.polynomial.hermite_e.hermegauss(61)
    y, orchard = frame["aphids"].to_numpy(), pd.factorize(frame["orchard"])[0]

    def each(psi):
        eta = x @ psi[:-1]
        logs = stats.poisson.logpmf(y[:, None], np.exp(eta[:, None] + np.exp(psi[-1]) * nodes))
        whole = np.array([logs[orchard == j].sum(axis=0) for j in range(orchard.max() + 1)])
        return special.logsumexp(whole + np.log(weights / np.sqrt(2 * np.pi)), axis=1)

    at = np.array([*(r.estimate for r in fit.result.fixed), np.log(fit.result.random[0].sd[0])])
    scores = np.array([slopes_of(lambda p, j=j: each(p)[j], at) for j in range(orchard.max() + 1)])
    hessian = np.array([slopes_of(lambda p, k=k: slopes_of(lambda q: each(q).sum(), p)[k], at) for k in range(len(at))])
    m = len(scores)
    bread = np.linalg.inv(-(hessian + hessian.T) / 2)
    errors = np.sqrt(np.diag(bread @ scores.T @ scores @ bread) * m / (m - 1))
    assert [r.se for r in fit.result.fixed] == pytest.approx(list(errors[:-1]), rel=2e-3)
    assert fit.result.errors.clusters == m and all(r.df is None for r in fit.result.fixed)
    plain = bo.fit(sentence, frame, family="poisson", points=25)
    assert plain.components().to_dict()["components"] == fit.components().to_dict()["components"]
    assert plain.terms(errors="robust").to_dict()["tests"] == fit.terms().to_dict()["tests"]
    assert "tests by the normal distribution" in " ".join(str(fit).split())


@pytest.mark.few(1)
@pytest.mark.parametrize("family", ["ordinal", "gamma", "binomial"])
def test_scores_sum_to_zero_at_the_estimates(family):
    frame = diaries(units=24)
    y = frame["yield"].clip(0.5)
    frame["out"] = {
        "ordinal": pd.qcut(y, 3, labels=["a", "b", "c"]),
        "gamma": y,
        "binomial": (y > y.median()).astype(int),
    }[family]
    fit = bo.fit("out = rain; each tree: intercept", frame, family=family, errors="robust")
    scores = fit.core.known.scores
    assert np.abs(scores.sum(axis=0)).max() < 1e-3 * np.abs(scores).sum(axis=0).max()
    plain = bo.fit("out = rain; each tree: intercept", frame, family=family)
    ratios = [a.se / b.se for a, b in zip(fit.result.fixed, plain.result.fixed)]
    assert all(0.4 < r < 2.5 for r in ratios) and ratios != [1.0] * len(ratios)
