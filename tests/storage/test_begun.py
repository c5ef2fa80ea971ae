"""The data of a saved fit are read ahead where that is safe; what is found amiss is told as without it."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

from bold_orchard.storage import begun

SENTENCE = "yield = rain; each tree: intercept"


def rows(n=6000, seed=1):
    r = np.random.default_rng(seed)
    tree, rain = r.integers(0, 300, n), r.normal(size=n).round(3)
    made = {"tree": tree, "rain": rain, "sun": r.normal(size=n).round(3)}
    return pd.DataFrame(made | {"yield": (r.normal(size=300)[tree] + 0.4 * rain + r.normal(size=n)).round(3)})


@pytest.fixture
def saved(orchard):
    rows().to_csv(orchard.folder / "h.csv", index=False)
    assert orchard("fit", "h.csv", SENTENCE, "--where", "sun > -1", "--save", "m", "--quiet").code == 0
    return orchard


def test_what_was_begun_is_taken_once(saved, monkeypatch):
    monkeypatch.chdir(saved.folder)
    begun.begin("m")
    path = next(p for p, _ in begun._begun)
    held = begun.taken(path, [])
    assert held is not None and begun.taken(path, []) is None
    assert set(held.table.result().data.held) == {"tree", "rain", "sun", "yield"}
    assert held.digest.result() == json.loads((saved.folder / "m.fit.json").read_text())["saved"]["fingerprint"]


@pytest.mark.parametrize("text", ["", "[]", "{}", '{"saved": 3}', '{"saved": {"data": 1}, "model": "y = x"}', "\x00"])
def test_what_cannot_be_read_is_left_to_the_one_who_asks(tmp_path, monkeypatch, text):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "m.fit.json").write_text(text)
    for name in ("m", "m.fit.json", "none", ".", "a\x00b"):
        begun.begin(name)
    assert not begun._begun


def test_a_fit_taken_up_ahead_answers_as_one_of_a_small_table(saved):
    few = rows(400)
    few.to_csv(saved.folder / "few.csv", index=False)
    for data, name in (("h.csv", "large"), ("few.csv", "small")):
        assert saved("fit", data, SENTENCE, "--where", "sun > -1", "--save", name, "--quiet").code == 0
        found = saved("check", name, "--json").json
        n = int((rows().sun > -1).sum()) if name == "large" else int((few.sun > -1).sum())
        assert found["levels"][0]["n"] == n
    with (saved.folder / "h.csv").open("a") as f:
        f.write("1,2,3,4\n")
    changed = saved("check", "large")
    assert changed.code == 3 and "h.csv has changed since 'large' was fitted" in changed.err


def test_a_changed_file_says_so_before_its_lines_do(saved):
    with (saved.folder / "h.csv").open("a") as f:
        f.write("1,2,3,4,5,6,7\n")
    told = saved("groups", "m")
    assert told.code == 3 and "has changed" in told.err


def test_showing_a_fit_again_reads_no_data(saved, monkeypatch, quick):
    asked = []
    monkeypatch.setattr(begun, "begin", asked.append)
    assert quick("show", "m").code == 0 and not asked
    assert quick("groups", "m").code == 0 and asked == ["m"]
