"""A column that numbers the rows is neither unit, outcome nor predictor; one that only looks so is."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from builders import trial


def frame_of():
    frame = trial(trees=30).sort_values(["orchard", "tree", "week"]).reset_index(drop=True)
    frame["orchard"] = [f"o{o}" for o in frame["orchard"]]
    return frame


def kinds(frame):
    d = bo.scout(frame).to_dict()
    return {c["column"]: c["kind"] for c in d["columns"]}, d


@pytest.mark.parametrize("name", ["nr", "zzz"])
def test_numbers_of_all_rows(name):
    frame = frame_of()
    frame[name] = np.arange(7, len(frame) + 7)
    made, d = kinds(frame)
    assert made[name] == "row number" and made["rain"] == "number"
    assert name not in [g["column"] for g in d["groupings"]] and name not in [o["column"] for o in d["outcomes"]]
    assert not any(name in s for s in d["sentences"]) and any(f"{name} numbers the rows" in n for n in d["notes"])


def test_numbers_that_start_again_in_every_level():
    frame = frame_of()
    frame["row_id"] = frame.groupby("orchard").cumcount() + 1
    made, d = kinds(frame)
    assert made["row_id"] == "row number" and not any("row_id" in s for s in d["sentences"])


def test_shuffled_numbers_by_their_name():
    frame = frame_of()
    frame["id"] = np.random.default_rng(1).permutation(len(frame))
    assert kinds(frame)[0]["id"] == "row number"


@pytest.mark.parametrize("make", [
    lambda f: f.assign(dose=f.groupby("tree").cumcount() + 1),  # a dose given in turn is a predictor
    lambda f: f.assign(week2=f["week"]), lambda f: f.assign(tree_id=np.unique(f["tree"], return_inverse=True)[1]),
    lambda f: f.assign(count=np.random.default_rng(2).poisson(40, len(f))),
])  # fmt: skip
def test_what_only_looks_so(make):
    frame = make(frame_of())
    assert kinds(frame)[0][frame.columns[-1]] == "number"


def test_the_rows_of_the_answer_keep_their_numbers():
    frame = frame_of()
    frame["nr"] = np.arange(len(frame))
    _, d = kinds(frame)
    assert [r["nr"] for r in d["first_rows"]] == [0, 1, 2, 3, 4]
    entry = next(c for c in d["columns"] if c["column"] == "nr")
    assert entry["min"] == 0 and entry["max"] == len(frame) - 1
