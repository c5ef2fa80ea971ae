"""Every kind of model can be sampled from, and its posterior speaks of it as the other commands do."""

from __future__ import annotations

import itertools
import json

import numpy as np
import pytest
from matplotlib.figure import Figure

import bold_orchard as bo
from bold_orchard.errors import UsageError
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.reporting.figures.groups import groups_figure
from bold_orchard.reporting.figures.sample import sample_figure
from bold_orchard.reporting.pages.fit import spread_words
from bold_orchard.reporting.pages.sample import sample_page
from bold_orchard.results.sample import SampleResult
from bold_orchard.sampling.laws import read_priors
from bold_orchard.sampling.priors import priors_of
from builders import diaries, inspections, table_of

ORCHARD = "each orchard: intercept"
DIARY = {
    "empty": ("yield = intercept; each tree: intercept", {}),
    "plain": ("yield = rain + soil", {}),
    "no intercept": ("yield = rain without intercept; each tree: rain", {}),
    "slopes": ("yield = centre(rain) + soil; each tree: intercept + centre(rain)", {}),
    "diagonal": ("yield = rain; each tree (diagonal): intercept + rain", {"method": "ml"}),
    "identity": ("yield = rain; each tree (identity): intercept + rain", {}),
    "exchangeable": ("yield = rain; each tree (exchangeable): intercept + rain", {}),
    "nested": ("yield = rain; each orchard: intercept; each tree in orchard: intercept", {}),
    "apart": ("yield = rain; each tree: intercept; each tree: rain", {}),
    "ar1": ("yield = rain; each tree: intercept; within tree: ar1(season)", {}),
    "alike": ("yield = rain; within tree: exchangeable", {}),
    "weights": ("yield = rain; each tree: intercept; spread = soil", {"weights": "w"}),
    "vary": ("yield = rain; each tree (vary with soil + age): intercept", {}),
    "scatter": ("yield = rain; each tree: intercept + spread; spread = soil", {}),
    "scatter below": ("yield = rain; each orchard: intercept; each tree in orchard: intercept + spread", {}),
    "logarithm": ("log(weighed) = rain; each tree: intercept", {}),
}
OTHER = {
    "trials": (f"scab of fruits = rain; {ORCHARD}", {"family": "binomial"}),
    "labels": (f"infected = rain; {ORCHARD}", {"family": "binomial", "success": "yes"}),
    "poisson": (f"aphids = rain; {ORCHARD} + rain", {"family": "poisson"}),
    "overdispersed": (f"aphids = rain; {ORCHARD}", {"family": "negative-binomial"}),
    "gamma": (f"weight = rain; {ORCHARD}", {"family": "gamma"}),
    "beta": (f"share = rain; {ORCHARD}", {"family": "beta"}),
    "grades": (f"grade = rain; {ORCHARD}", {"family": "ordinal"}),
    "zeros": (f"borers = rain; {ORCHARD}", {"family": "zero-inflated-poisson"}),
    "hurdle": (f"cankers = rain; {ORCHARD}", {"family": "hurdle-poisson"}),
    "heavy": (f"girth = rain; {ORCHARD}", {"family": "student"}),
    "lognormal": (f"sap = rain; {ORCHARD}", {"family": "lognormal"}),
    "no unit": ("aphids = rain + spray", {"family": "poisson"}),
}
FEW = {"chains": 2, "warmup": 60, "draws": 25, "seed": 4}


@pytest.fixture(scope="module")
def frames():
    diary = diaries(units=15, rows=6, seed=6)
    diary["weighed"] = np.exp(diary["yield"] / 10)
    return diary, inspections(n=120, units=8)


@pytest.fixture(scope="module")
def fitted(frames):
    kept = {}

    def of(name):
        if name not in kept:
            sentence, options = (DIARY | OTHER)[name]
            kept[name] = bo.fit(sentence, frames[name in OTHER], name=name.replace(" ", "-"), **options)
        return kept[name]

    return of


@pytest.mark.few(3)
@pytest.mark.parametrize("name", DIARY | OTHER)
def test_its_posterior(fitted, name):
    """The parameters are those of intervals, with the same estimates; every figure is there; the page can be written."""
    fit = fitted(name)
    d = fit.sample(**FEW).to_dict()
    known = {p["parameter"]: p["estimate"] for p in fit.intervals("wald").to_dict()["parameters"]}
    own = {p["parameter"]: p for p in d["parameters"]}
    assert list(own) and known.keys() <= own.keys(), known.keys() - own.keys()
    for parameter, estimate in known.items():
        assert own[parameter]["likelihood_estimate"] == pytest.approx(estimate, rel=1e-6, abs=1e-9), parameter
    for p in d["parameters"]:
        assert p["low"] <= p["median"] <= p["high"] and p["sd"] > 0, p
    shared = {"sd(tree: rain)"} if name in ("identity", "exchangeable") else set()  # one SD of all effects, one law
    assert own.keys() - shared == {row["parameter"] for row in d["priors"]}
    assert np.isfinite(d["leave_one_out"]["expected_log_density"]) and d["leave_one_out"]["se"] > 0
    effects = fit.groups().to_dict()["groups"] if "each" in (DIARY | OTHER)[name][0] else []
    assert [(g["group"], g["terms"], sorted(r["level"] for r in g["rows"])) for g in d["groups"]] == [
        (g["group"], g["terms"], sorted(r["level"] for r in g["rows"])) for g in effects
    ]
    again = SampleResult.from_dict(json.loads(json.dumps(d)))
    assert sample_page(again) is not None and again.document == d


@pytest.mark.few(22)
@pytest.mark.parametrize("name", DIARY | OTHER)
def test_every_law_that_is_listed_can_be_typed(frames, name):
    sentence, options = (DIARY | OTHER)[name]
    made = bo.fit(sentence, frames[name in OTHER], **options).core
    listed = priors_of(made, {}).listed
    typed = [f"{parameter} = {law}" for parameter, law, _ in listed]
    again = priors_of(made, read_priors(typed)).listed
    assert [(p, law) for p, law, _ in again] == [(p, law) for p, law, _ in listed]
    assert not any(default for *_, default in again)
    with pytest.raises(UsageError, match="there is no parameter"):
        priors_of(made, read_priors(["nowhere = normal(0, 1)"]))


@pytest.mark.few(8)
@pytest.mark.parametrize("name", DIARY | OTHER)
def test_its_prior_alone(fitted, name):
    made = fitted(name).sample(prior_only=True, chains=2, draws=40, seed=1)
    d = made.to_dict()
    assert d["prior_only"] and d["leave_one_out"] is None and not d["groups"]
    assert all(p["likelihood_estimate"] is None for p in d["parameters"])
    words = str(made)
    assert "What the priors say of each parameter" in words and "R-hat" not in words and "Posterior" not in words


@pytest.mark.few(1)
@pytest.mark.parametrize("name", ["slopes", "scatter", "trials"])
def test_draws_stay_with_their_levels_when_rows_move(frames, fitted, name):
    """Another order of the rows: means of effects by level agree within what so few draws can tell."""
    sentence, options = (DIARY | OTHER)[name]
    moved = bo.fit(sentence, frames[name in OTHER].sample(frac=1, random_state=8), **options)
    many = {"chains": 2, "warmup": 100, "draws": 100, "seed": 4}
    one, two = (m.sample(**many).to_dict()["groups"][0]["rows"] for m in (fitted(name), moved))
    there = {r["level"]: r for r in two}
    for row in one:
        for term, value in row["effects"].items():
            other = there[row["level"]]
            assert value == pytest.approx(other["effects"][term], abs=0.9 * max(row["sd"][term], other["sd"][term]))


# -- words and pictures


@pytest.mark.slow
def test_pictures_of_a_prior_speak_of_the_prior(fitted):
    prior = fitted("slopes").sample(prior_only=True, chains=2, draws=40, seed=1).result
    after = fitted("slopes").sample(**FEW).result
    for kind, words in (("trace", "from the prior"), ("density", "from the prior"), ("replicates", "from the prior")):
        assert words in sample_figure(prior, kind).get_suptitle()
        assert words not in sample_figure(after, kind).get_suptitle()


def test_a_kept_answer_has_no_draws_to_draw_from(fitted):
    made = fitted("slopes").sample(**FEW).result
    with pytest.raises(UsageError, match="no draws to draw from"):
        sample_figure(SampleResult.from_dict(made.document), "trace")


def heights(figure: Figure):
    figure.canvas.draw()
    return [ax.get_window_extent() for ax in figure.axes if ax.get_visible()]


def test_labels_of_pairs_fit_their_panels(fitted):
    figure = sample_figure(fitted("slopes").sample(**FEW).result, "pairs")
    panels = heights(figure)
    for ax, box in zip([a for a in figure.axes if a.get_visible()], panels):
        label = ax.yaxis.label
        if label.get_text():
            assert label.get_window_extent().height < 1.35 * box.height, label.get_text()
        ticks = [t.label1.get_window_extent() for t in ax.xaxis.get_major_ticks() if t.label1.get_text()]
        inside = [t for t in ticks if box.x0 - 1 <= (t.x0 + t.x1) / 2 <= box.x1 + 1]
        assert all(a.x1 < b.x0 for a, b in itertools.pairwise(inside)), [t.x0 for t in inside]


def test_effects_of_the_spread_are_on_the_log_of_the_sd(fitted):
    figure = groups_figure(fitted("scatter").groups().result)
    labels = [ax.get_xlabel() for ax in figure.axes if ax.get_visible()]
    assert labels == ["effect on yield", "effect on the log of the residual SD"]


def test_words_of_the_spread():
    assert spread_words("orchard", "intercept", 0.9, 0.03) == "Orchards hardly differ in how much they scatter."
    assert spread_words("orchard", "intercept", 0.01, 0.3).startswith(
        "How much an orchard scatters is all but unrelated"
    )
    assert spread_words("tree", "rain", -0.6, 0.3) == "Trees with a larger rain effect mostly scatter less (r = -0.60)."
    assert spread_words("tree", "intercept", 0.3, 0.3) == "Trees with a higher intercept scatter more (r = +0.30)."


def test_chains_that_cannot_be_believed_are_told_first(fitted):
    words = str(fitted("slopes").sample(chains=2, warmup=50, draws=20, seed=1))
    assert "must NOT be used" in words and "cannot be believed" in words
    assert words.index("must NOT be used") < words.index("Posterior")


def test_a_fit_of_the_core_is_that_of_the_model(frames):
    made = fit(DIARY["plain"][0], table_of(frames[0]), Settings())
    assert [p for p, *_ in priors_of(made, {}).listed] == ["intercept", "rain", "soil[sand]", "sd(residual)"]
