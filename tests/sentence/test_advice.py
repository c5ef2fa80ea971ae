"""Every sentence that is proposed reads, runs, and keeps what the question is about; odd column names included."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bold_orchard.sentence.parse import read_condition, read_sentence

MARKS = r"(?:write|Try|or|Centre it|a curve|the logarithm of the outcome|--where): "
NAMES = {"y": "yield [kg]", "x": "rain mm", "g": "orchard no.", "t": "tree-id", "a": "soil & site", "time": "week"}


def proposed(text):
    """Sentences after one of the marks, up to a remark in brackets or the end."""
    text = " ".join(text.split())
    found = re.findall(rf"{MARKS}([^=]+? = .+?)(?= +\(or add| +or: |$)", text)
    found += [text] if text.startswith("[yield [kg]] = ") else []
    return [f.strip() for f in found]


def plain():
    r = np.random.default_rng(7)
    n = 120
    g = np.repeat(np.arange(12), 10)
    frame = pd.DataFrame(
        {
            "g": [f"o{k}" for k in g],
            "t": np.tile(np.repeat([1, 2], 5), 12),
            "x": r.normal(5, 1, n),
            "time": np.tile(np.arange(5), 24),
        }
    )
    frame["a"] = np.where(g % 2, "clay", "sand")
    frame["y"] = 20 + frame["x"] + r.normal(size=12)[g] + 1.5 * r.normal(size=24)[np.arange(n) // 5] + r.normal(size=n)
    return frame


def problem(kind):
    frame = plain()
    r = np.random.default_rng(8)
    if kind == "no variance":
        frame["y"] = 20 + frame["x"] + r.normal(size=120)
    elif kind == "curve":
        frame["y"] = 20 + (frame["x"] - 5) ** 2 + 0.3 * r.normal(size=120)
    elif kind == "skewed":
        frame["y"] = np.exp(0.4 * frame["y"] - 7 + 0.5 * r.normal(size=120))
    elif kind == "serial":
        noise = np.zeros(120)
        for i in range(120):
            noise[i] = r.normal() + (0.9 * noise[i - 1] if i % 5 else 0.0)
        frame["y"] = 20 + frame["x"] + noise
    return frame.rename(columns=NAMES)


Y, X, G, T, A = "[yield [kg]]", "[rain mm]", "[orchard no.]", "[tree-id]", "[soil & site]"
FITS = [
    ("plain", f"{Y} = {X}; each {G}: intercept + {A}"),
    ("plain", f"{Y} = {X}; each {T}: intercept"),
    ("plain", f"{Y} = {X}; each {T}: intercept; each {G}: intercept"),
    ("no variance", f"{Y} = {X}; each {G}: intercept"),
    ("no variance", f"{Y} = {X} + {A}; each {G}: intercept + {X}"),
    ("no variance", f"{Y} = {X}; each {G} (diagonal): intercept + power({X}, 3)"),
    ("no variance", f"{Y} = {X}; each {G}: intercept + power(centre({X}), 2)"),
    ("no variance", f"{Y} = {A}*{X} + {X}; each {G}: intercept; each {T} in {G}: intercept"),
    ("curve", f"{Y} = {X}; each {G}: intercept"),
    ("skewed", f"{Y} = {X}; each {G}: intercept"),
    ("serial", f"{Y} = {X} + week; each {T} in {G}: intercept"),
    ("plain", f"{Y} = {X} + {A}; each {G}: intercept"),
]


@pytest.mark.few(2)
@pytest.mark.parametrize(("kind", "sentence"), FITS)
def test_what_is_proposed_reads_and_runs(quick, kind, sentence):
    problem(kind).to_csv(quick.folder / "t.csv", index=False)
    done = quick("fit", "t.csv", sentence, "--save", "m", "--json")
    words = [done.err] if done.code == 3 else done.json["notes"]
    if done.code == 0:
        for extra in ((), ("--unit", "tree-id in orchard no."), ("--time", "week")):
            checked = quick("check", "m", *extra, "--json")
            words += checked.json["closing"]["try"] if checked.code == 0 else []
    offers = [s for w in words for s in proposed(w)]
    assert offers or kind == "plain", words
    for offer in offers:
        read_sentence(offer)
        again = quick("fit", "t.csv", offer)
        assert again.code in (0, 4), (offer, again.err)
    for where in (m for w in words for m in re.findall(r'--where "(.*)"', w)):
        read_condition(where)


def test_powers_are_lowered_and_treatments_kept(quick):
    problem("no variance").to_csv(quick.folder / "t.csv", index=False)
    d = quick("fit", "t.csv", f"{Y} = {X} + {A}; each {G} (diagonal): intercept + power(centre({X}), 3)", "--json").json
    offers = [s for n in d["warnings"] for s in proposed(n)]
    assert offers == [f"{Y} = {X} + {A}; each {G} (diagonal): intercept + power(centre({X}), 2)"]


def test_a_split_plot_is_not_told_that_its_units_cross_nor_to_drop_a_treatment(quick):
    r = np.random.default_rng(5)
    rows = [(b, i, v) for b in range(1, 7) for i in ("drip", "none") for v in ("a", "b", "c")]
    frame = pd.DataFrame(rows, columns=["block", "irrigation", "variety"])
    frame["y"] = 10 + r.normal(size=6)[frame["block"] - 1] + 9 * (frame["irrigation"] == "drip") + r.normal(size=36)
    frame.to_csv(quick.folder / "t.csv", index=False)
    d = quick(
        "fit",
        "t.csv",
        "y = cross(irrigation, variety); each block: intercept; each irrigation in block: intercept",
        "--save",
        "m",
        "--json",
    )
    assert not any("cross" in n or "start again" in n for n in d.json["notes"])
    quick("fit", "t.csv", "y = cross(irrigation, variety); each block: intercept", "--save", "m")
    advice = quick("check", "m", "--unit", "irrigation", "--json").json["closing"]["try"]
    assert not any("--where" in a and "irrigation" in a for a in advice)


COLUMNS = st.one_of(
    st.sampled_from(["rain", "in", "each", "intercept", "x y", "a*b", "1st", "a+b", "Höhe", "[kg]", "log(x)"]),
    st.text("abc d-[]", min_size=1, max_size=5),
)
NAMED = COLUMNS.filter(lambda n: n.strip() == n and (n.count("[") == n.count("]") == 0 or n == "[kg]")).map(
    lambda n: f"[{n}]"
)
CALLS = st.one_of(NAMED, NAMED.map(lambda c: f"centre({c})"), st.tuples(NAMED, NAMED).map(lambda p: f"mean({p[0]}, {p[1]})"),
                  st.tuples(NAMED, st.floats(0.001, 1e6)).map(lambda p: f"calc(({p[0]} - 2)^2 / -{p[1]!r} + {p[0]} - 1)"))  # fmt: skip
TERMS = st.lists(st.lists(CALLS, min_size=1, max_size=2).map("*".join), min_size=1, max_size=3).map(" + ".join)
SENTENCES = st.tuples(
    TERMS,
    NAMED,
    st.sampled_from(["", " (diagonal)", ' (known "k.csv")']),
    TERMS,
    st.sampled_from(["", "; within [u v]: ar1([w])", "; spread = [s t]"]),
)


@pytest.mark.slow
@settings(max_examples=150, deadline=None)
@given(SENTENCES)
def test_a_sentence_writes_itself_so_that_it_reads_back(parts):
    fixed, unit, structure, random, rest = parts
    sentence = read_sentence(f"[out come] = {fixed}; each {unit}{structure}: intercept + {random}{rest}")
    again = read_sentence(sentence.written)
    assert again == sentence and again.written == sentence.written
