"""What must not change: equivalent sentences, permuted rows, renamed levels, scaled and shifted columns.

No oracle is needed: two ways of saying one model must give one likelihood and the same means, effects, lines, tests,
predictions and words through every road.
"""

from __future__ import annotations

import os

import numpy as np
import pandas as pd
import pytest
from hypothesis import Phase, assume, example, given
from hypothesis import settings as examples
from hypothesis import strategies as st

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.coefficients.means import means
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.drawing import effects
from bold_orchard.inference.prediction.groups import groups
from bold_orchard.inference.prediction.predict import predict
from bold_orchard.inference.prediction.unit_lines import unit_lines
from bold_orchard.inference.variances.components import components

FAMILIES = ["gaussian", "poisson", "binomial", "ordinal", "gamma"]
RANDOM = [
    "each orchard: intercept",
    "each orchard: intercept + centre(rain)",
    "each orchard (diagonal): intercept + centre(rain)",
    "each orchard: intercept; each picker: intercept",
    "each orchard: intercept; each tree in orchard: intercept",
    "each orchard: intercept; spread = soil",
    "each orchard: intercept; within tree in orchard: ar1(week)",
]
CASES = st.tuples(st.sampled_from(FAMILIES), st.sampled_from(RANDOM), st.integers(0, 10**4))
HELD = (10.0, 40.0)
PHASES = (Phase.explicit, Phase.reuse, Phase.generate)


def few(count):
    """Examples are few and slow, and each names its own case: no shrinking. ORCHARD_EXAMPLES multiplies them."""
    return examples(max_examples=count * int(os.environ.get("ORCHARD_EXAMPLES", "1")), deadline=None, phases=PHASES)


def harvest(seed: int, family: str) -> pd.DataFrame:
    """Orchards of unequal size with their own mean rain; trees numbered anew in each; one soil an orchard's rows differ in."""
    r = np.random.default_rng(seed)
    orchard = np.repeat(np.arange(10), r.integers(6, 14, 10))
    n = len(orchard)
    tree = np.concatenate([np.arange(k) // 3 + 1 for k in np.bincount(orchard)])
    week = np.concatenate([np.arange(k) % 3 + 1 for k in np.bincount(orchard)])
    rain = 25 + 8 * r.normal(size=10)[orchard] + 6 * r.normal(size=n)
    soil, pruning = r.choice(["clay", "loam", "sand"], n), r.choice(["hard", "none"], n)
    nitrogen = r.choice([0, 50, 100], n)
    eta = 0.03 * (rain - 25) + 0.5 * (pruning == "hard") + 0.3 * (soil == "sand") + 0.002 * nitrogen
    eta = eta + 0.6 * r.normal(size=10)[orchard] + 0.2 * r.normal(size=5)[np.arange(n) % 5]
    noise = r.normal(size=n)
    y = {
        "gaussian": 20 + 3 * eta + noise,
        "poisson": r.poisson(np.exp(0.5 + 0.4 * eta)),
        "binomial": (r.random(n) < 1 / (1 + np.exp(-eta))).astype(int),
        "ordinal": np.array(["poor", "fair", "good"])[np.digitize(eta + noise, [-0.3, 0.9])],
        "gamma": np.exp(0.3 * eta) * r.gamma(5, 0.2, n),
    }[family]
    return pd.DataFrame({"orchard": [f"o{j}" for j in orchard], "tree": tree, "week": week, "picker": [f"p{i % 5}" for i in range(n)],
                         "rain": rain, "soil": soil, "pruning": pruning, "nitrogen": nitrogen, "y": y})  # fmt: skip


def made(sentence, frame, family, **options):
    gaussian = family == "gaussian"
    if not gaussian:
        sentence = sentence.split("; spread")[0].split("; within")[0]
    return fit(sentence, Table(frame, "t.csv", len(frame)), Settings(options=Options(family=family, **options)))


def by_levels(document, names=None):
    """Means, standard errors and what stands on the outcome's scale, keyed by the levels in any order."""
    names = names or {}
    out = {}
    for m in document["means"]:
        key = frozenset((k, names.get(v, v)) for k, v in m["levels"].items())
        out[key] = [m["mean"], m["se"], m.get("outcome"), m.get("population")]
        out[key] += [c["chance"] for c in m.get("chances") or []]
    return out


def answers(f, rows=None, hold=HELD, along="rain", names=None):
    """Everything that two equivalent fits must agree on; ``rows`` brings predictions to one order."""
    rain = f.design.table.numbers(along)
    table = f.design.table
    rows = np.arange(len(table)) if rows is None else rows
    found = {
        "loglik": f.result["fit"]["loglik"],
        "means": by_levels(means(f, "pruning"), names),
        "held": by_levels(means(f, "pruning", {along: list(hold)}), names),
        "soil held": by_levels(means(f, "pruning", {"soil": [table.labels("soil").texts[0]]}), names),
        "slope": by_levels(means(f, "pruning", slope=along), names),
        "effect": effects(f, [along], None, 0.95)[0]["estimate"],
        "predicted": predict(f, table).predicted[rows],
        "r2": list(components(f)["r2"].values()),
    }
    unit = f.design.units[0]
    lines = unit_lines(f, unit, along, np.arange(unit.size))
    found["average line"] = lines.average
    for part in groups(f)["groups"]:
        rows_of = sorted(part["rows"], key=lambda r: r["level"])
        found[f"effects of {part['group']}"] = np.array([[r["effects"][t] for t in part["terms"]] for r in rows_of])
    order = np.argsort(unit.texts)
    found["lines"] = np.concatenate([lines.y[j] for j in order])
    assert len(rain) == len(rows)
    return found


def agree(one, two, rel=2e-4, skip=()):
    for key, value in one.items():
        if key in skip or key not in two:
            continue
        other = two[key]
        if isinstance(value, dict):
            assert set(value) == set(other), key
            for k, entries in value.items():
                np.testing.assert_allclose(
                    np.array(entries, float), np.array(other[k], float), rtol=rel, atol=1e-6, err_msg=f"{key} {k}"
                )
        else:
            scale = float(np.abs(np.asarray(value, float)).max())
            np.testing.assert_allclose(
                np.asarray(value, float), np.asarray(other, float), rtol=rel, atol=rel * scale + 1e-9, err_msg=key
            )


@few(10)
@given(CASES)
@pytest.mark.slow
def test_within_and_between_parts_are_one_model_however_written(case):
    family, random, seed = case
    frame = harvest(seed, family)
    ways = ["split(rain, orchard)", "centre(rain, orchard) + mean(rain, orchard)", "centre(rain, orchard) + centre(mean(rain, orchard))",
            "mean(rain, orchard) + centre(centre(rain), orchard)"]  # fmt: skip
    fits = [made(f"y = {w} + pruning + soil; {random}", frame, family) for w in ways]
    first = answers(fits[0])
    within = next(r["estimate"] for r in fits[0].result["fixed"] if r["term"] == "centre(rain, orchard)")
    if family == "gaussian":  # held values move the row inside the average unit, along the within slope
        a, b = (first["held"][frozenset({("pruning", "none"), ("rain", v)})][0] for v in HELD)
        assert (b - a) / (HELD[1] - HELD[0]) == pytest.approx(within, rel=1e-6)
        assert first["effect"][-1] - first["effect"][0] == pytest.approx(within * np.ptp(frame["rain"]), rel=1e-6)
    for other in fits[1:]:
        agree(first, answers(other))
    tests = [{t["term"]: t["value"] for t in terms(f)["tests"]} for f in fits]
    for other in tests[1:]:
        assert other["pruning"] == pytest.approx(tests[0]["pruning"], rel=1e-4)


@pytest.mark.slow
@few(5)
@given(CASES)
def test_products_baselines_and_intercepts_are_choices_of_words(case):
    family, random, seed = case
    frame = harvest(seed, family)
    base = made(f"y = cross(pruning, soil) + rain; {random}", frame, family)
    assume(base.converged)  # small tables may separate
    first, tested = answers(base), {frozenset(t["term"].split("*")): t["value"] for t in terms(base)["tests"]}
    again = [
        made(f"y = pruning + soil + pruning*soil + rain; {random}", frame, family),
        made(f"y = rain + soil*pruning + soil + pruning; {random}", frame, family),
        made(
            f"y = cross(pruning, soil) + rain; {random}", frame, family, baselines={"pruning": "none", "soil": "sand"}
        ),
    ]
    for f in again:
        agree(first, answers(f))
        other = {frozenset(t["term"].split("*")): t["value"] for t in terms(f)["tests"]}
        assert other == {k: pytest.approx(v, rel=1e-3, abs=1e-6) for k, v in tested.items()}
    if family != "ordinal":
        agree(first, answers(made(f"y = pruning*soil + rain without intercept; {random}", frame, family)))
        agree(first, answers(made(f"y = soil + pruning*soil + rain without intercept; {random}", frame, family)))


@pytest.mark.slow
@few(5)
@given(CASES)
def test_numbers_as_categories_answer_like_their_labels(case):
    family, random, seed = case
    frame = harvest(seed, family)
    text = frame.assign(level=[f"n{v}" for v in frame["nitrogen"]])
    one = made(f"y = category(nitrogen) + pruning + rain + soil; {random}", frame, family)
    two = made(f"y = level + pruning + rain + soil; {random}", text, family)
    agree(answers(one), answers(two))
    numbers = means(one, "pruning", {"nitrogen": ["0", 100.0]})["means"]
    labels = means(two, "pruning", {"level": ["n0", "n100"]})["means"]
    assert [m["levels"]["nitrogen"] for m in numbers] == ["0", "0", "100", "100"]
    np.testing.assert_allclose([m["mean"] for m in numbers], [m["mean"] for m in labels], rtol=1e-5)
    assert numbers[0]["mean"] != pytest.approx(numbers[2]["mean"], rel=1e-9)  # what is held is used
    named = {m["levels"]["category(nitrogen)"]: m["mean"] for m in means(one, "nitrogen")["means"]}
    assert named == pytest.approx({m["levels"]["level"][1:]: m["mean"] for m in means(two, "level")["means"]}, rel=1e-5)


@few(2)
@given(CASES)
def test_rows_in_any_order_and_labels_by_any_name(case):
    family, random, seed = case
    frame = harvest(seed, family)
    sentence = f"y = split(rain, orchard) + pruning + soil; {random}"
    base = made(sentence, frame, family)
    first = answers(base)
    r = np.random.default_rng(seed)
    order = r.permutation(len(frame))
    shuffled = made(sentence, frame.iloc[order].reset_index(drop=True), family)
    agree(first, answers(shuffled, rows=np.argsort(order)), skip=("soil held",))
    assert [n.split(":")[0] for n in shuffled.result["notes"]] == [n.split(":")[0] for n in base.result["notes"]]
    names = {"hard": "z, heavy", "none": "a (nothing)"}
    units = dict(zip(sorted(set(frame["orchard"])), (f"unit {k}" for k in r.permutation(10))))
    renamed = frame.assign(pruning=frame["pruning"].map(names), orchard=frame["orchard"].map(units))
    back = {v: k for k, v in names.items()}
    agree(
        first,
        answers(made(sentence, renamed, family), names=back),
        skip=("lines", "effects of orchard", "effects of tree in orchard"),
    )
    unique = frame.assign(tree=[f"{o}/{t}" for o, t in zip(frame["orchard"], frame["tree"])])
    agree(first, answers(made(sentence.replace("tree in orchard", "tree"), unique, family)))


@pytest.mark.slow
@few(5)
@example(("gaussian", "each orchard: intercept + centre(rain)", 256), 1e5, -3.0)
@given(CASES, st.sampled_from([1e-4, 1e-2, 37.0, 1e5]), st.sampled_from([0.0, -3.0, 1e3]))
def test_units_of_measurement_are_only_units(case, factor, shift):
    family, random, seed = case
    frame = harvest(seed, family)
    moved = frame.assign(rain=(frame["rain"] + shift) * factor)
    hold = tuple((v + shift) * factor for v in HELD)
    for fixed in (
        "split(rain, orchard) + pruning + soil",
        "power(centre(rain), 2) + pruning + soil",
        "zscore(rain)*pruning + zscore(rain) + pruning + soil",
    ):
        one = answers(made(f"y = {fixed}; {random}", frame, family))
        two = answers(made(f"y = {fixed}; {random}", moved, family), hold=hold)
        two["held"] = {
            frozenset((k, HELD[hold.index(v)] if k == "rain" else v) for k, v in key): entries
            for key, entries in two["held"].items()
        }
        agree(one, two, skip=("slope", "loglik", "effects of orchard"), rel=1e-3)
        for key, entries in one["slope"].items():
            assert two["slope"][key][0] * factor == pytest.approx(entries[0], rel=2e-3, abs=1e-6)
    if family == "gaussian":
        one = made(f"y = rain + pruning + soil; {random}", frame, family)
        two = made(f"y = rain + pruning + soil; {random}", frame.assign(y=5.0 + factor * frame["y"]), family)
        for a, b in zip(means(one, "pruning")["means"], means(two, "pruning")["means"]):
            assert b["mean"] == pytest.approx(5.0 + factor * a["mean"], rel=1e-5) and b["se"] == pytest.approx(
                factor * a["se"], rel=1e-4
            )


def test_functions_of_a_column_answer_like_a_column_made_beforehand():
    frame = harvest(3, "gaussian").assign(trees=lambda d: 5 + np.arange(len(d)) % 7)
    ready = frame.assign(logged=np.log(frame["rain"].clip(1)), rain=frame["rain"].clip(1))
    one = made("y = log(rain) + pruning; each orchard: intercept", ready, "gaussian")
    two = made("y = logged + pruning; each orchard: intercept", ready, "gaussian")
    held = (
        means(one, "pruning", {"rain": [10.0]})["means"],
        means(two, "pruning", {"logged": [float(np.log(10.0))]})["means"],
    )
    np.testing.assert_allclose([m["mean"] for m in held[0]], [m["mean"] for m in held[1]], rtol=1e-8)
    poisson = harvest(4, "poisson").assign(trees=frame["trees"].iloc[0])
    poisson["trees"] = 5 + np.arange(len(poisson)) % 7
    rate = made("y = pruning + offset(log(trees)); each orchard: intercept", poisson, "poisson")
    five, ten = (means(rate, "pruning", {"trees": [v]})["means"][0]["outcome"] for v in (5, 10))
    assert ten / five == pytest.approx(2.0, rel=1e-9)  # an offset is a transformation too


def test_columns_that_describe_units_pass_through_their_own_mean():
    frame = harvest(5, "gaussian")
    frame["height"] = frame["orchard"].str[1:].astype(float) * 10
    one = made("y = height + pruning; each orchard: intercept", frame, "gaussian")
    two = made("y = mean(height, orchard) + pruning; each orchard: intercept", frame, "gaussian")
    for hold in (None, {"height": [20.0, 60.0]}):
        a, b = (means(f, "pruning", hold)["means"] for f in (one, two))
        np.testing.assert_allclose([m["mean"] for m in a], [m["mean"] for m in b], rtol=1e-7)


def test_aliased_columns_change_no_answer_and_empty_cells_have_none():
    frame = harvest(6, "gaussian")
    one = made("y = rain + pruning; each orchard: intercept", frame, "gaussian")
    two = made("y = rain + rescale(rain, 7) + pruning; each orchard: intercept", frame, "gaussian")
    a, b = (means(f, "pruning", {"rain": [10.0, 30.0]}) for f in (one, two))
    np.testing.assert_allclose([m["mean"] for m in a["means"]], [m["mean"] for m in b["means"]], rtol=1e-8)
    empty = frame[~((frame["soil"] == "sand") & (frame["pruning"] == "hard"))]
    cells = means(made("y = cross(soil, pruning); each orchard: intercept", empty, "gaussian"), "soil*pruning")
    lost = [m["levels"] for m in cells["means"] if m["mean"] is None]
    assert lost == [{"soil": "sand", "pruning": "hard"}] and "sand, hard" in cells["notes"][0]
    assert all("sand, hard" not in (p["a"], p["b"]) for p in cells["pairs"])
