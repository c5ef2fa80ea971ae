"""Parameters are what they are, not what they are called: identity, labels, and the one a person means."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError
from builders import make_trees, trial


def catalogue(sentence, frame, **options):
    return bo.fit(sentence, frame, force=True, **options).core.catalogue


@pytest.fixture(scope="module")
def trees():
    return make_trees(rows=150)


def test_labels_are_unique_and_every_label_finds_its_parameter():
    frame = trial().rename(columns={"rain": "rho", "soil": "residual"})
    frame["sd(residual)"] = np.arange(len(frame)) % 7
    known = catalogue(
        "yield = rho + [sd(residual)] + residual; each orchard: intercept + rho; within tree: ar1(week)", frame
    )
    labels = [p.label for p in known]
    assert len(set(labels)) == len(labels) and len(set(known)) == len(labels)
    assert all(known.find(p.label, known, "the model") == p for p in known)
    assert known.residual_own[0].label == "rho" and known.coefficients[1].label == "[rho]"


def test_names_of_levels_and_columns_change_labels_alone(trees):
    sentence = "yield = rain; each orchard: intercept + rain"
    one = catalogue(sentence, trees)
    two = catalogue(sentence.replace("rain", "[threshold[a|b]]"), trees.rename(columns={"rain": "threshold[a|b]"}))
    assert list(one) == list(two)
    assert [p.label for p in one] != [p.label for p in two]


@pytest.mark.parametrize("text", [
    "correlation(orchard: intercept, rain)", "correlation(orchard: rain, intercept)", " correlation( orchard:rain ,intercept )",
])  # fmt: skip
def test_what_a_person_types_means_one_parameter(trees, text):
    known = catalogue("yield = rain; each orchard: intercept + rain", trees)
    assert known.find(text, known, "the model") == known.clauses[0].correlations[0, 1]


def test_a_name_that_is_not_there_is_told_with_the_nearest(trees):
    known = catalogue("yield = rain; each orchard: intercept + rain", trees)
    with pytest.raises(OrchardError, match=r"did you mean 'sd\(orchard: rain\)'"):
        known.find("sd(orchard: rains)", known, "the model")


@pytest.mark.parametrize("sentence", [
    "yield = rain + soil; each orchard: intercept + rain; within tree: exchangeable; spread = soil",
    "yield = rain; within tree: unstructured(week)",
])  # fmt: skip
def test_intervals_components_and_priors_speak_of_the_same_parameters(sentence):
    frame = trial(weeks=(1, 2, 3))
    fit = bo.fit(sentence, frame)
    labels = [p.label for p in fit.core.catalogue if p.kind != "coefficient"]
    found = [r["parameter"] for r in fit.intervals(method="wald").to_dict()["parameters"] if r["kind"] != "fixed"]
    assert sorted(found) == sorted(labels)
    drawn = fit.sample(
        prior_only=True, chains=1, draws=20, prior=[f"{p} = half-normal(2)" for p in labels if p.startswith("sd(")]
    )
    assert sorted({r["parameter"] for r in drawn.to_dict()["parameters"]} - set(fit.core.design.fixed.names)) == sorted(
        labels
    )


def test_a_component_of_each_of_two_clauses_has_its_own_profile(trees):
    """Two clauses of one unit share no interval."""
    fit = bo.fit("yield = rain; each orchard: intercept; each orchard (diagonal): rain", trees)
    rows = [r for r in fit.components(method="profile").to_dict()["components"] if r["group"] == "orchard"]
    assert all(r["ci"] is not None for r in rows)
    assert all(a["ci"] != b["ci"] for a, b in itertools.combinations(rows, 2))
