"""Units that scatter and covariances that vary: what must not change when the data or the sentence are said otherwise."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from builders import diaries

SENTENCES = {
    "spread": "yield = rain; each tree: intercept + spread",
    "slopes": "yield = rain + age; each tree: intercept + rain + spread; spread = soil",
    "apart": "yield = rain; each tree (diagonal): intercept + spread; spread = age",
    "vary": "yield = rain; each tree (vary with soil + age): intercept",
    "both": "yield = rain; each tree (diagonal, vary with age): intercept + rain; spread = soil",
}
ML = {"method": "ml"}


def fitted(sentence, frame, **options):
    return bo.fit(sentence, frame, **(ML | options))


def loglik(fit):
    return fit.to_dict()["fit"]["loglik"]


def fixed(fit, key="estimate"):
    return {r["term"]: r[key] for r in fit.to_dict()["fixed"]}


def parameters(fit):
    """Everything ``intervals`` names, by its name."""
    return {p["parameter"]: p["estimate"] for p in fit.intervals("wald").to_dict()["parameters"]}


def of_levels(fit, key):
    """An answer of ``groups`` by level and term."""
    return {r["level"]: r[key] for clause in fit.groups().to_dict()["groups"] for r in clause["rows"]}


@pytest.fixture(scope="module")
def frame():
    return diaries(units=35, rows=7, seed=11)


@pytest.mark.few(2)
@pytest.mark.parametrize("name", SENTENCES)
def test_rows_in_any_order_and_labels_by_any_name(frame, name):
    one = fitted(SENTENCES[name], frame)
    again = frame.sample(frac=1, random_state=5).assign(tree=lambda d: "older " + d["tree"])
    two = fitted(SENTENCES[name], again)
    assert loglik(two) == pytest.approx(loglik(one), abs=1e-7)
    assert parameters(two) == pytest.approx(parameters(one), rel=2e-3, abs=2e-4)
    assert fixed(two, "se") == pytest.approx(fixed(one, "se"), rel=1e-3)
    mine, others = of_levels(one, "effects"), of_levels(two, "effects")
    for level, effects in mine.items():
        assert others["older " + level] == pytest.approx(effects, rel=2e-3, abs=1e-3)


@pytest.mark.few(1)
@pytest.mark.parametrize("name", SENTENCES)
def test_the_outcome_in_other_units(frame, name):
    one = fitted(SENTENCES[name], frame)
    two = fitted(SENTENCES[name], frame.assign(**{"yield": frame["yield"] * 1000 - 400}))
    assert loglik(two) == pytest.approx(loglik(one) - len(frame) * np.log(1000), abs=1e-6)
    mine, others = parameters(one), parameters(two)
    for key, value in mine.items():
        pure = key.startswith(("correlation", "spread", "vary", "sd(tree: spread)"))
        moved = value if pure else value * 1000 - 400 * (key == "intercept")
        assert others[key] == pytest.approx(moved, rel=2e-3, abs=5e-4 * (1 if pure else 1000)), key
    if "spread;" in SENTENCES[name] or SENTENCES[name].endswith("spread"):
        sds, large = of_levels(one, "residual_sd"), of_levels(two, "residual_sd")
        assert large == pytest.approx({k: 1000 * v for k, v in sds.items()}, rel=1e-3)


@pytest.mark.parametrize("name", ["apart", "vary"])
def test_columns_in_other_units(frame, name):
    """Age in days, counted from another day: only its own coefficients change."""
    one = fitted(SENTENCES[name], frame)
    two = fitted(SENTENCES[name], frame.assign(age=frame["age"] * 365))
    assert loglik(two) == pytest.approx(loglik(one), abs=1e-7)
    mine, others = parameters(one), parameters(two)
    for key, value in mine.items():
        own = key in ("spread age", "vary(tree: age)")
        assert others[key] * (365 if own else 1) == pytest.approx(value, rel=2e-3, abs=2e-4), key
    moved = fitted(SENTENCES[name], frame.assign(age=frame["age"] - 10))
    assert loglik(moved) == pytest.approx(loglik(one), abs=1e-7)
    key = "spread age" if name == "apart" else "vary(tree: age)"
    assert parameters(moved)[key] == pytest.approx(mine[key], rel=2e-3, abs=2e-4)


@pytest.mark.few(2)
@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("yield = rain; each tree: intercept + spread", "yield = rain; each tree: spread + intercept"),
        ("yield = rain; each tree: intercept + spread", "yield = rain; each tree: intercept + spread; spread = intercept"),
        ("yield = rain; each tree (diagonal): intercept + spread", "yield = rain; each tree: intercept; each tree: spread"),
        ("yield = rain; each tree (vary with soil + age): intercept", "yield = rain; each tree (vary with age + soil): intercept"),
        ("yield = rain; each tree (diagonal, vary with age): intercept", "yield = rain; each tree (vary with age, diagonal): intercept"),
        ("yield = rain; each tree (vary with soil): intercept", "yield = rain; each tree (vary with category(code)): intercept"),
        ("yield = rain; each tree (vary with centre(age)): intercept", "yield = rain; each tree (vary with age): intercept"),
    ],
)  # fmt: skip
def test_one_model_however_written(frame, one, other):
    frame = frame.assign(code=(frame["soil"] == "sand") + 1)
    first, second = fitted(one, frame), fitted(other, frame)
    assert loglik(second) == pytest.approx(loglik(first), abs=1e-6)
    assert second.to_dict()["fit"]["n_parameters"] == first.to_dict()["fit"]["n_parameters"]
    assert fixed(second) == pytest.approx(fixed(first), rel=1e-3, abs=1e-4)
    assert fixed(second, "se") == pytest.approx(fixed(first, "se"), rel=1e-3)


def test_baseline_of_what_varies_is_a_choice_of_words(frame):
    """With clay or with sand as the baseline: the coefficient changes its sign, the likelihood and the effects stay."""
    sentence = "yield = rain; each tree (vary with soil): intercept"
    one, two = fitted(sentence, frame), fitted(sentence, frame, baseline={"soil": "sand"})
    assert loglik(two) == pytest.approx(loglik(one), abs=1e-7)
    mine, others = parameters(one), parameters(two)
    assert others["vary(tree: soil[clay])"] == pytest.approx(-mine["vary(tree: soil[sand])"], rel=1e-3, abs=1e-4)
    larger = mine["sd(tree: intercept)"] * np.exp(mine["vary(tree: soil[sand])"])
    assert others["sd(tree: intercept)"] == pytest.approx(larger, rel=1e-3)


@pytest.mark.slow
def test_twice_the_trees_is_twice_the_likelihood(frame):
    """The same trees under other names: estimates stay, log-likelihoods add up."""
    doubled = pd.concat([frame, frame.assign(tree="twin of " + frame["tree"])], ignore_index=True)
    for name in ("spread", "vary"):
        one, two = fitted(SENTENCES[name], frame), fitted(SENTENCES[name], doubled)
        assert loglik(two) == pytest.approx(2 * loglik(one), abs=1e-6)
        assert parameters(two) == pytest.approx(parameters(one), rel=2e-3, abs=2e-4)


@pytest.mark.slow
def test_weights_of_one_are_no_weights(frame):
    one = fitted(SENTENCES["slopes"], frame)
    two = fitted(SENTENCES["slopes"], frame.assign(v=1.0), weights="v")
    assert loglik(two) == pytest.approx(loglik(one), abs=1e-9)


@pytest.mark.few(2)
@pytest.mark.parametrize("name", SENTENCES)
def test_later_commands_tell_the_same_story(frame, name):
    """components, intervals, table and equations hold the figures of the fit."""
    fit = fitted(SENTENCES[name], frame)
    rows = fit.components().to_dict()["components"]
    named = parameters(fit)
    for row in rows:
        if row["kind"] == "variance":
            key = f"sd({row['group']}: {row['term']})"
            assert np.sqrt(row["estimate"]) == pytest.approx(named[key], rel=1e-6), key
    predicted = fit.predict(frame.head(5)).to_dict()["rows"]
    again = fit.predict(frame.head(5).iloc[::-1]).to_dict()["rows"][::-1]
    for a, b in zip(predicted, again):
        assert a["predicted"] == pytest.approx(b["predicted"], rel=1e-12)
        assert a["low"] == pytest.approx(b["low"], rel=1e-12)
