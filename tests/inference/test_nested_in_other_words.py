"""Nested is decided on the models, not on how their sentences are written."""

from __future__ import annotations

import pytest

import bold_orchard as bo
from builders import make_trees

SAME = [
    ("each orchard (diagonal): intercept + rain", "each orchard: intercept; each orchard: rain"),
    ("each orchard: intercept", "each orchard (diagonal): intercept"),
    ("each orchard: intercept", "each orchard (identity): intercept"),
]
LARGER = [
    "each orchard (diagonal): intercept + rain",
    "each orchard: intercept; each orchard: rain",
    "each orchard: intercept + rain",
]


@pytest.fixture(scope="module")
def fits():
    frame = make_trees(rows=150)
    made = {}

    def fit(clauses):
        if clauses not in made:
            made[clauses] = bo.fit(f"yield = sun; {clauses}", frame, name=clauses, force=True)
        return made[clauses]

    return fit


@pytest.mark.parametrize(("one", "two"), SAME)
def test_the_same_model_in_other_words_is_said_to_be_the_same(fits, one, two):
    made = bo.compare(fits(one), fits(two))
    assert fits(one).loglik == pytest.approx(fits(two).loglik, abs=1e-6)
    assert not made.tests[0]["nested"] and any("the same model in other words" in n for n in made.notes)


@pytest.mark.parametrize(
    "small", ["each orchard: intercept", "each orchard (diagonal): intercept", "each orchard: rain"]
)
@pytest.mark.parametrize("large", LARGER)
def test_one_effect_is_a_special_case_of_more(fits, small, large):
    test = bo.compare(fits(small), fits(large)).tests[0]
    assert test["nested"] and test["larger"] == large and test["p_boundary"] is not None
    others = [bo.compare(fits(small), fits(other)).tests[0] for other in LARGER[:2]]
    assert others[0]["chisq"] == pytest.approx(others[1]["chisq"], abs=1e-5)
    assert others[0]["p_boundary"] == pytest.approx(others[1]["p_boundary"], abs=1e-6)
