"""What stands beside a fit does not depend on where its rows lie: the same warnings, notes and refusals in memory and in pieces."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data import pieces
from bold_orchard.data.codes import CODES, Seen
from bold_orchard.errors import OrchardError

ROWS = 360


def orchard_rows(rows=ROWS):
    """Trees 1 to 5 of twelve orchards, whose labels start again in each, six weeks."""
    r = np.random.default_rng(11)
    place = np.arange(rows)
    orchard, tree, week = place // 30 % 12, place // 6 % 5, place % 6
    tall, effect = r.normal(size=(12, 5)), r.normal(size=(12, 5))
    rain = r.normal(30, 8, rows)
    y = 40 + 0.3 * rain + 4 * effect[orchard, tree] + r.normal(size=rows)
    return pd.DataFrame({
        "orchard": np.array([f"o{k}" for k in range(12)])[orchard], "tree": tree + 1, "week": week, "rain": rain, "yield": y,
        "height": 3 + tall[orchard, tree], "site": orchard % 3, "day": 2_000_000 + week, "far": 1e9 + week,
        "plot": np.array([f"p{k}" for k in range(24)])[place * 7 % 24], "same": 1,
        "half": np.array([f"h{k}" for k in range(24)])[place // 15 % 24], "huge": rain * 1e60, "fruits": r.poisson(np.exp(0.5 + 0.5 * effect[orchard, 0])),
        "picked": r.integers(1, 90, rows), "row": place,
    })  # fmt: skip


def coded(frame, column, code, every=40):
    values = frame[column].astype(float)
    values[::every] = code
    return frame.assign(**{column: values})


CASES = {
    "nothing": ("yield = rain; each orchard: intercept", {}, None, ""),
    "code of the outcome": ("yield = rain; each orchard: intercept", {}, ("yield", -999), "yield is -999 in 9 rows"),
    "code of a covariate": ("yield = rain; each orchard: intercept + rain", {}, ("rain", 9999), "rain is 9999 in 9 rows"),
    "code of whole numbers": ("yield = picked; each orchard: intercept", {}, ("picked", -9), "picked is -9 in 9 rows"),
    "code that is a value": ("yield = picked; each orchard: intercept", {}, ("picked", 88), ""),
    "code under the one-reading unit": ("yield = rain; each site: intercept", {}, ("rain", -99), "rain is -99 in 9 rows"),
    "code beside a transformation": ("yield = zscore(rain); each orchard: intercept", {}, ("rain", -999), "rain is -999"),
    "code of an outcome transformed": ("let kg = rescale(yield, 2); kg = rain; each orchard: intercept", {}, ("yield", -999), "yield is -999"),
    "code left out": ("yield = rain; each orchard: intercept", {"missing": ["yield=-999"]}, ("yield", -999), ""),
    "code filtered away": ("yield = rain; each orchard: intercept", {"where": "yield > 0"}, ("yield", -999), ""),
    "counts": ("fruits = rain; each orchard: intercept", {}, None, "looks like counts"),
    "counts of a named family": ("fruits = rain; each orchard: intercept", {"family": "gaussian"}, None, ""),
    "far from zero": ("yield = rain + day; each orchard: intercept + day", {}, None, "'day' lies 1e+06 of its SDs from zero"),
    "many levels": ("yield = rain + plot; each orchard: intercept", {}, None, "plot has 24 levels in the fixed part"),
    "labels that start again": ("yield = rain; each tree: intercept", {"force": True}, None, "seem to start again in every orchard"),
    "few levels": ("yield = rain; each site: intercept", {}, None, "only 3 levels of site"),
    "crossed": ("yield = rain; each orchard: intercept; each tree: intercept", {}, None, "tree and orchard are crossed"),
    "taken up": ("yield = rain + half; each orchard: intercept", {}, None, "the fixed part takes up what they would explain"),
    "baseline not needed": ("yield = rain; each orchard: intercept", {"baseline": {"week": "1"}}, None, "was not needed"),
}  # fmt: skip

REFUSED = {
    "too far from zero": "yield = rain*far; each orchard: intercept",
    "out of arithmetic": "yield = huge; each orchard: intercept",
    "a level for every row": "yield = rain; each row: intercept",
    "a slope without variation": "yield = rain; each tree in orchard: intercept + height",
    "one level": "yield = rain; each same: intercept",
    "more parameters than effects": "yield = rain; each site: intercept + rain + week + picked + fruits + height",
    "more effects than rows": "yield = rain; each tree in orchard in week: intercept + rain",
}


@pytest.fixture
def lay(tmp_path, monkeypatch):
    """Rows as one file, and in parts that no memory could hold at once."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(pieces, "LEAST", 1)
    monkeypatch.setattr(pieces, "ROWS", 80)
    (tmp_path / "parts").mkdir()

    def made(frame):
        frame.to_parquet("whole.parquet")
        for k, rows in enumerate(np.array_split(np.arange(len(frame)), 5)):
            frame.iloc[rows].to_parquet(f"parts/p{k}.parquet")

    return made


def told(fitted):
    d = fitted.to_dict()
    return d["warnings"], sorted(n for n in d["notes"] if "summed in pieces" not in n)


@pytest.mark.parametrize("name", CASES)
def test_warnings_and_notes_are_those_in_memory(lay, name):
    sentence, options, code, words = CASES[name]
    frame = orchard_rows()
    lay(frame if code is None else coded(frame, *code))
    one, two = bo.fit(sentence, "whole.parquet", **options), bo.fit(sentence, "parts", memory=20, **options)
    assert two.to_dict()["reading"]["engine"] == "pieces"
    assert told(one) == told(two)
    everything = " ".join([*told(two)[0], *told(two)[1]])
    assert words in everything
    if not words:
        assert told(two) == ([], [])


@pytest.mark.parametrize("name", REFUSED)
def test_refusals_are_those_in_memory(lay, name):
    lay(orchard_rows())
    said = []
    for source, memory in (("whole.parquet", None), ("parts", 20)):
        try:
            bo.fit(REFUSED[name], source, **({} if memory is None else {"memory": memory}))
            said.append("")
        except OrchardError as e:
            said.append(re.sub("around [0-9]", "around #", str(e).replace(source, "FILE")))
    assert said[0] and said[0] == said[1]


def test_a_note_on_labels_needs_no_more_than_some_rows(lay, monkeypatch):
    """Files of one orchard each: what groups what shows only in several of them."""
    lay(orchard_rows())
    found = pieces.pieces_of("parts", ("yield", "tree"), (), "week < 5")
    monkeypatch.setattr(pieces, "LOOKED_AT", 100)
    monkeypatch.setattr(pieces, "MOST_LOOKED_AT", 3)
    some = found.some_rows()
    assert 40 <= len(some) <= 100 and len(set(some.labels("orchard").texts)) >= 3
    assert set(some.columns) == set(orchard_rows().columns) and some.numbers("week").max() == 4


def slowly(values):
    """Codes taken off the ends of a list one by one, by sorting it anew every time."""
    found = []
    while True:
        rest = sorted(v for v in values if v not in found)
        if len(rest) < 3:
            return found
        for code in (rest[0], rest[-1]):
            if code not in CODES:
                continue
            others = [v for v in rest if v != code and not (v in CODES and abs(v) >= abs(code) and v * code > 0)]
            if len(others) < 3:
                continue
            gap = others[0] - code if code < others[0] else code - others[-1]
            apart = gap > 3 * (np.std(others) or 1.0)
            if apart or (code < 0 <= others[0] and gap > 0 and len(set(others)) > 2):
                found.append(code)
                break
        else:
            return found


def test_codes_are_those_of_a_slow_search_however_the_rows_come():
    r = np.random.default_rng(4)
    pool = [*sorted(CODES), 0.0, 1.0, 2.0, 3.5, 40.0, 87.0, 100.0, -5.0]
    some = 0
    for _ in range(400):
        values = np.concatenate([r.normal(r.choice([0, 50, 500]), r.choice([1, 10, 0.01]), r.integers(0, 8)),
                                 r.choice(pool, r.integers(1, 10))])  # fmt: skip
        expected = {c: int((values == c).sum()) for c in sorted(slowly(values.tolist()))}
        some += bool(expected)
        r.shuffle(values)
        seen = Seen()
        for run in np.array_split(values, r.integers(1, 5)):
            part = Seen()
            part.add(np.concatenate([run, [np.nan]]))
            seen.join(part)
        assert seen.suspected() == expected == Seen.of(values).suspected()
        whole = seen.without([])
        assert (whole.n, whole.low, whole.high) == (len(values), values.min(), values.max())
        assert whole.mean == pytest.approx(values.mean(), rel=1e-9, abs=1e-9)
        assert whole.square == pytest.approx(((values - values.mean()) ** 2).sum(), rel=1e-6, abs=1e-9)
        assert whole.between == (len(set(values)) > 2) and whole.whole == bool((values == np.round(values)).all())
    assert some > 50
