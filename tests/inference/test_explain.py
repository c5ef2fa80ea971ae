"""A fit in plain sentences: every coefficient and component once, with its own figures, right for its scale."""

from __future__ import annotations

import math

import pytest

import bold_orchard as bo
from builders import diaries, inspections, trial


def told(fit, **options):
    d = fit.explain(**options).to_dict()
    return {(s["about"], s["term"], s["group"]): s["text"] for s in d["sentences"]}


@pytest.fixture(scope="module")
def slopes():
    return bo.fit(
        "yield = centre(rain) + soil; each orchard: intercept + centre(rain); within tree: ar1(week)", trial(trees=40)
    )


def test_every_coefficient_and_component_has_its_sentence(slopes):
    made, d = told(slopes), slopes.result
    for row in d.fixed:
        assert f"{abs(row.estimate):.4g}" in made["fixed", row.term, None]
    for term, sd in zip(d.random[0].terms, d.random[0].sd):
        assert f"{sd:.4g}" in made["random", term, "orchard"]
    assert f"{d.residual.sd:.4g}" in made["residual", "residual", "residual"]
    assert f"{d.residual.parameters['rho']:.4g}" in made["residual", "rho", "residual"]
    assert (
        "1 more rain " in made["fixed", "centre(rain)", None]
        and "soil loam instead of clay" in made["fixed", "soil[loam]", None]
    )


def test_lower_means_lower(slopes):
    for row in slopes.result.fixed[1:]:
        text = told(slopes)["fixed", row.term, None]
        assert ("raises" in text) == (row.estimate > 0)
        low, high = sorted(v * (1 if row.estimate > 0 else -1) for v in row.ci)
        assert f"{low:.4g} to {high:.4g}" in text
        assert ("holds no change" in text) == (row.ci[0] < 0 < row.ci[1])


@pytest.mark.parametrize(("family", "outcome", "said"), [
    ("poisson", "aphids", "multiplies the mean of aphids by"), ("binomial", "found", "multiplies the odds of found by"),
    ("negative-binomial", "aphids", "multiplies the mean of aphids by"),
])  # fmt: skip
def test_other_scales_are_factors(family, outcome, said):
    frame = inspections()
    frame["found"] = (frame.aphids > frame.aphids.median()).astype(int)
    fit = bo.fit(f"{outcome} = spray + rain; each orchard: intercept", frame, family=family)
    made = told(fit)
    for row in fit.result.fixed[1:]:
        assert f"{said} {math.exp(row.estimate):.4g}" in made["fixed", row.term, None]
    assert f"{math.exp(fit.result.random[0].sd[0]):.4g} times" in made["random", "intercept", "orchard"]


def test_units_that_scatter_and_a_logged_outcome():
    frame = diaries()
    assert (
        "times its residual SD"
        in told(bo.fit("yield = rain; each tree: intercept + spread", frame))["random", "spread", "tree"]
    )
    frame["yield"] = frame["yield"] - frame["yield"].min() + 1
    fit = bo.fit("log(yield) = rain; each tree: intercept", frame)
    assert (
        f"multiplies typical yield by {math.exp(fit.result.fixed[1].estimate):.4g}" in told(fit)["fixed", "rain", None]
    )


def test_names_that_look_like_the_words_around_them():
    frame = trial(trees=20)
    frame["a: b"] = frame["soil"].map({"clay": "no vs yes", "loam": "x: y", "sand": "z, w"})
    made = told(bo.fit("yield = [a: b]; each orchard: intercept", frame))
    texts = [t for (about, term, _), t in made.items() if about == "fixed" and term != "intercept"]
    assert any("a: b x: y instead of no vs yes" in t for t in texts) and any(
        "a: b z, w instead of no vs yes" in t for t in texts
    )


def test_labels_stand_in_the_sentences(slopes):
    made = told(slopes, label=["centre(rain)=mm of rain", "yield=the harvest (kg)"])
    assert "1 more mm of rain raises the mean of the harvest (kg)" in made["fixed", "centre(rain)", None]


def test_the_command_needs_no_data(quick):
    trial(trees=20).to_csv(quick.folder / "t.csv", index=False)
    quick("fit", "t.csv", "yield = rain; each orchard: intercept", "--save", "m")
    (quick.folder / "t.csv").unlink()
    done = quick("explain")
    assert done.code == 0 and "On average" in done.out and "1 more rain" in done.out
    assert quick("explain", "m", "--json").json["schema"] == "bold-orchard/explain/1"
