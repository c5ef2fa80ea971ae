"""Every variance against the model without it: what compare says of the same pair, whatever the wording."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError

KEYS = ("chisq", "df", "p", "p_boundary")


def rows(seed=1, units=14, each=8):
    r = np.random.default_rng(seed)
    g = np.repeat(np.arange(units), each)
    h = np.tile(np.repeat(np.arange(each // 2), 2), units)
    x = r.normal(size=len(g)).round(3)
    made = pd.DataFrame(
        {"grove": [f"g{i}" for i in g], "tree": h, "x": x, "soil": np.where(r.random(len(g)) < 0.5, "clay", "sand")}
    )
    eta = (
        r.normal(size=units)[g]
        + r.normal(size=(units, each // 2))[g, h] * 0.7
        + (0.5 + 0.4 * r.normal(size=units)[g]) * x
    )
    made["mass"] = (eta + r.normal(size=len(g))).round(4)
    made["count"] = r.poisson(np.exp(0.4 * eta))
    return made


PAIRS = [
    ("each grove: intercept + x; each tree in grove: intercept", [
        ("grove", "intercept", "each grove: x; each tree in grove: intercept"), ("grove", "x", "each grove: intercept; each tree in grove: intercept"),
        ("tree in grove", "intercept", "each grove: intercept + x")]),
    ("each grove (diagonal): intercept + x", [("grove", "intercept", "each grove: x"), ("grove", "x", "each grove: intercept")]),
    ("each grove: intercept; spread = soil", [("grove", "intercept", "spread = soil")]),
    ("each grove: intercept; within tree in grove: exchangeable", [("grove", "intercept", "within tree in grove: exchangeable")]),
]  # fmt: skip


@pytest.mark.few(1)
@pytest.mark.parametrize("outcome, family", [("mass", "gaussian"), ("count", "poisson")])
@pytest.mark.parametrize("clauses, smaller", PAIRS)
def test_each_test_is_the_comparison_of_its_pair(clauses, smaller, outcome, family):
    if family == "poisson" and ("spread" in clauses or "within" in clauses):
        pytest.skip("clauses of gaussian rows")
    frame = rows()
    large = bo.fit(f"{outcome} = x; {clauses}", frame, family=family, name="large")
    made = large.components(tests=True).to_dict()["tests"]
    assert [(t["group"], t["term"]) for t in made] == [(g, t) for g, t, _ in smaller]
    for test, (_, _, without) in zip(made, smaller):
        small = bo.fit(f"{outcome} = x; {without}", frame, family=family, name="small")
        judge = bo.compare([small, large], force=True).to_dict()["tests"][0]
        for key in KEYS:
            assert test[key] == (
                judge[key] if judge[key] is None else pytest.approx(judge[key], rel=1e-6, abs=1e-12)
            ), key


def test_of_a_balanced_layout_by_its_closed_form():
    """One unit, balanced, no covariate: the REML deviance is known from the mean squares (Searle and others 1992)."""
    frame, k, m = rows(), 14, 8
    y = frame["mass"].to_numpy().reshape(k, m)
    between, within = m * ((y.mean(1) - y.mean()) ** 2).sum(), ((y - y.mean(1, keepdims=True)) ** 2).sum()
    dfs = np.array([k - 1, k * (m - 1)])
    ms = np.array([between, within]) / dfs
    assert ms[0] > ms[1]
    chisq = dfs.sum() * np.log((between + within) / dfs.sum()) - (dfs * np.log(ms)).sum()
    (test,) = bo.fit("mass = intercept; each grove: intercept", frame).components(tests=True).to_dict()["tests"]
    assert test["chisq"] == pytest.approx(chisq, rel=1e-8) and test["df"] == 1
    assert test["p_boundary"] == pytest.approx(stats.chi2.sf(chisq, 1) / 2, rel=1e-6)


def test_rows_and_names_do_not_matter():
    frame = rows()
    sentence = "mass = x; each grove: intercept + x; each tree in grove: intercept"
    one = bo.fit(sentence, frame).components(tests=True).to_dict()["tests"]
    other = frame.sample(frac=1, random_state=2).assign(grove=lambda f: "a: " + f["grove"], x=lambda f: 10 * f["x"])
    two = bo.fit(sentence, other).components(tests=True).to_dict()["tests"]
    for a, b in zip(one, two):
        assert all(a[key] == pytest.approx(b[key], rel=1e-5) for key in KEYS)


def test_what_cannot_be_tested_says_so(quick):
    frame = rows()
    frame.to_csv(quick.folder / "t.csv", index=False)
    assert quick("fit", "t.csv", "mass = x; each grove: intercept + x", "--save", "m", "--quiet").code == 0
    made = quick("components", "m", "--tests")
    assert made.code == 0 and "Each against the model without it" in made.out and "read the p" in made.out
    assert [t["term"] for t in quick("components", "m", "--tests", "--json").json["tests"]] == ["intercept", "x"]
    assert "tests" not in quick("components", "m", "--json").json
    assert "changes as these are centred" in " ".join(made.out.split())
    rows(units=7000).to_csv(quick.folder / "large.csv", index=False)
    pieces = bo.fit("mass = x; each grove: intercept", str(quick.folder / "large.csv"), memory="1MB")
    with pytest.raises(OrchardError, match="fitted in pieces"):
        pieces.components(tests=True)
