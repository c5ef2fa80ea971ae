"""Variance inflation of terms: against regressions of each column on the others, and by relations."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from builders import trial


def vifs(fit):
    return {r["term"]: r for r in fit.check(influence="none").to_dict()["collinearity"]}


@pytest.fixture(scope="module")
def frame():
    made = trial(trees=40)
    r = np.random.default_rng(1)
    made["sun"] = made["rain"] + 0.3 * r.normal(size=len(made))
    made["wind"] = r.normal(size=len(made))
    return made


def test_a_single_column_is_one_over_what_the_others_leave(frame):
    made = vifs(bo.fit("yield = rain + sun + wind + soil; each orchard: intercept", frame))
    soil = np.column_stack([frame["soil"] == "loam", frame["soil"] == "sand"]).astype(float)
    for name in ("rain", "sun", "wind"):
        others = [c for c in ("rain", "sun", "wind") if c != name]
        x = np.column_stack([np.ones(len(frame)), frame[others], soil])
        y = frame[name].to_numpy()
        left = y - x @ np.linalg.lstsq(x, y, rcond=None)[0]
        assert made[name]["vif"] == pytest.approx(((y - y.mean()) ** 2).sum() / (left @ left), rel=1e-8)
    assert made["soil"]["df"] == 2 and made["rain"]["vif"] > 5 > made["wind"]["vif"]


def test_no_coding_or_unit_enters(frame):
    one = vifs(bo.fit("yield = rain + sun + soil; each orchard: intercept", frame))
    other = frame.assign(rain=1000 * frame["rain"] - 7)
    two = vifs(bo.fit("yield = rain + sun + soil; each orchard: intercept", other, baseline={"soil": "sand"}))
    assert {k: v["vif"] for k, v in two.items()} == pytest.approx({k: v["vif"] for k, v in one.items()}, rel=1e-8)


def test_terms_that_say_the_same_are_named(frame):
    near = frame.assign(sun=frame["rain"] + 0.05 * np.random.default_rng(2).normal(size=len(frame)))
    answer = bo.fit("yield = rain + sun; each orchard: intercept", near).check(influence="none")
    doubts = answer.to_dict()["closing"]["doubtful"]
    assert sum("is nearly told by the other terms" in d for d in doubts) == 2
    assert "Collinearity" in str(answer)
    square = bo.fit("yield = rain + power(rain, 2) + soil; each orchard: intercept", frame)
    said = square.check(influence="none").to_dict()["closing"]["doubtful"]
    assert not any("nearly told" in d for d in said)  # of one column


def test_one_term_has_no_neighbours(frame):
    assert vifs(bo.fit("yield = rain; each orchard: intercept", frame)) == {}
