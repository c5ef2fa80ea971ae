"""The typed answers: what they turn into, what they come back from, and the schema that says both."""

from __future__ import annotations

import json

import pytest
from jsonschema import Draft202012Validator

from bold_orchard import api
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.results import HOMES, read, result_of
from bold_orchard.results.fit import FitResult
from bold_orchard.results.schema import SHIPPED, all_schemas
from builders import inspections, make_trees

GAUSSIAN = "yield = power(rain, 2) + sun; each orchard: intercept + rain"


@pytest.fixture(scope="module")
def answers():
    """One answer of every command, of a gaussian fit and of one of counts."""
    one = api.fit(GAUSSIAN, make_trees(rows=120), name="one", force=True)
    less = api.fit("yield = sun; each orchard: intercept", make_trees(rows=120), name="less")
    two = api.fit("aphids = spray + rain; each orchard: intercept", inspections(), family="poisson", ratios=True)
    out = [api.scout(make_trees()), api.compare(less, one), two.means("spray", ratios=True, sed=True)]
    for fit in (one, two):
        out += [fit.answer, fit.components(), fit.terms(), fit.intervals("wald"), fit.groups(), fit.predict()]
        out += [fit.check(influence="one-step"), *(fit.draw(kind=k) for k in ("lines", "against", "effects"))]
    return [
        *out,
        one.draw(kind="coefficients"),
        one.equations(),
        one.explain(),
        api.scan("outcome = sun; each orchard: intercept", make_trees(rows=120), ["yield", "rain"]),
        api.side_by_side(one, two, cells="ratio"),
        one.report(),
        one.terms(contrast="sun = 0"),
        one.check(time="rain", influence="none"),
        one.simulate(2),
        one.carry(
            make_trees(rows=120).assign(price=lambda f: f.sun + f.rain),
            "price = effect(orchard: rain) + sun",
            imputations=5,
        ),
        api.certify(),
        one.sample(draws=40, warmup=60, chains=2),
        one.power(quick=True, units={"orchard": [6, 9]}, want=0.5),
        api.fit("aphids = spray; each orchard: intercept", inspections(), name="classical").anova(),
    ]


@pytest.mark.slow
def test_the_shipped_schemas_are_those_of_the_types():
    assert {p.stem for p in SHIPPED.glob("*.json")} == set(HOMES)
    for command, schema in all_schemas().items():
        Draft202012Validator.check_schema(schema)
        assert json.loads((SHIPPED / f"{command}.json").read_text()) == schema


@pytest.mark.slow
def test_every_document_obeys_its_schema_and_comes_back(answers):
    seen = set()
    for answer in answers:
        document = json.loads(answer.json())
        seen.add(answer.command)
        validator = Draft202012Validator(all_schemas()[answer.command])
        assert not [e.message for e in validator.iter_errors(document)]
        again = read(document)
        assert type(again) is result_of(answer.command)
        assert again.document == document and list(again.document) == list(document)
    assert seen == set(HOMES) - {"plan", "run"}  # whose own tests hold them against their schemas


def test_a_saved_answer_prints_the_same_page(answers):
    for answer in (a for a in answers if a.command != "report"):  # whose page is made of others' answers
        if answer.command in ("check", "draw"):
            continue
        again = api.Answer(read(json.loads(answer.json())), answer.converged, answer.shows)
        assert str(again) == str(answer), answer.command


@pytest.mark.slow
def test_pictures_from_saved_answers_or_a_line_that_says_why_not(answers):
    for answer in answers:
        again = api.Answer(read(json.loads(answer.json())))
        if answer.command in ("check", "draw", "scout", "anova", "sample"):
            with pytest.raises(UsageError, match="saved answer"):
                again.figure()
        elif answer.command in ("equations", "explain", "table", "report", "simulate", "carry", "certify"):
            with pytest.raises(UsageError, match="has no picture"):
                again.figure()
        else:
            assert again.figure().axes


def test_unknown_and_missing_keys_are_refused(answers):
    document = next(a for a in answers if a.command == "fit").to_dict()
    with pytest.raises(OrchardError, match="no key 'pears'"):
        FitResult.from_dict(document | {"pears": 1})
    with pytest.raises(OrchardError, match="needs the key 'link'"):
        FitResult.from_dict({k: v for k, v in document.items() if k != "link"})


def test_results_are_frozen_and_change_by_copies(answers):
    result = next(a for a in answers if a.command == "fit").result
    with pytest.raises(AttributeError):
        result.name = "other"
    other = result.with_keys(name="other")
    assert other["name"] == "other" and result["name"] == "one" and "points" not in result


def test_notes_know_what_they_are_about_and_what_they_propose():
    frame = make_trees(seed=4, slope_sd=0.0, orchard_sd=0.0)
    fit = api.fit("yield = rain; each orchard: intercept", frame)
    note = fit.result.warnings[0]
    assert note.code == "variance at zero" and note.suggestion == "yield = rain"
    assert api.fit(note.suggestion, frame).converged and json.loads(json.dumps(note)) == note
