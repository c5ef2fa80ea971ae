"""Parts of a document that are made when somebody looks, and what makes values plain."""

from __future__ import annotations

import json

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.diagnostics.spread import _medians, _ranks, brown_forsythe
from bold_orchard.results.base import Part
from bold_orchard.results.check import CheckResult, LevelInfluence
from bold_orchard.results.groups import LevelEffects
from bold_orchard.results.plain import plain
from bold_orchard.results.rows import Entries, Rows
from bold_orchard.storage import files
from crossings import crossed


@pytest.fixture(scope="module")
def model():
    return bo.fit("yield = rain; each tree: intercept; each picker: intercept", crossed(900, 60, 12, seed=4))


class Looked:
    """Rows that know how often they were made."""

    def __init__(self, rows):
        self.rows, self.made = rows, 0

    def __call__(self):
        self.made += 1
        return self.rows


def row(level, **more):
    return {
        "level": level,
        "effects": {"a": 1.0},
        "se": {"a": None},
        "coefficients": {"a": 2.0},
        "ci": {"a": [0.0, None]},
        "rank": 1,
        "rows": 3,
    } | more


def test_nothing_is_made_before_somebody_looks():
    make = Looked([row("x"), row("y", rank=2)])
    entries = Entries(LevelEffects, 2, make)
    assert len(entries) == 2 and not make.made
    assert isinstance(entries[1], Part) and entries[1].rank == 2 and [e.level for e in entries] == ["x", "y"]
    assert [e.level for e in entries[:1]] == ["x"] and entries == Entries(LevelEffects, 2, make)
    assert plain(entries) == [row("x"), row("y", rank=2)] and make.made <= 2
    with pytest.raises(IndexError):
        entries[2]


def slow(value):
    """What ``plain`` says, value by value."""
    if isinstance(value, Part):
        return {k: slow(v) for k, v in value.items()}
    if isinstance(value, dict):
        return {str(k): slow(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [slow(v) for v in value]
    if isinstance(value, np.generic):
        value = value.item()
    return None if isinstance(value, float) and not np.isfinite(value) else value


@pytest.mark.parametrize(
    "value",
    [
        1.5, np.nan, -np.inf, np.float64(2.0), np.float64(np.nan), np.int64(3), np.bool_(True), None, "a", True, [], {}, (1, 2.0), [1.0, 2.0],
        [1.0, np.inf], [1.0, None], [1, 2.0], [np.float64(1.0), 2.0], ["a", None, 1], [[1.0, np.nan], [2.0]], {"a": 1.0, "b": np.nan},
        {1: [np.nan], "x": {"y": (np.float64(3.0),)}}, LevelEffects.from_dict(row("z", rows=np.int64(4), ci={"a": [np.nan, np.float64(1)]})),
        [1e308, 1e308, -1e308], [{"a": [True, 2]}, np.float32(0.5)],
    ],
    ids=str,
)  # fmt: skip
def test_plain_values_value_by_value_and_at_once(value):
    made = plain(value)
    assert made == slow(value) and json.loads(json.dumps(made, allow_nan=False)) == made
    assert made is not value or not isinstance(value, (list, dict))  # nobody else's list


@pytest.mark.slow
def test_keys_are_made_one_by_one_and_kept_by_what_is_derived(model):
    answer = model.check()
    result = answer.result
    assert "_made" not in vars(result) or not result._made
    assert result["findings"] is result["findings"] and set(result._made) == {"findings"}
    derived = result.with_keys(notes=["one"])
    assert derived["findings"] is result["findings"] and derived["notes"] == ["one"] and result["notes"] != ["one"]
    assert list(result.document) == [k for k in result._fields if k in result] and "zeros" not in result
    with pytest.raises(KeyError):
        result["zeros"]
    assert result.get("zeros", 3) == 3 and result.get("name") == "fit"


@pytest.mark.slow
def test_a_saved_answer_shows_the_page_that_was_printed(model):
    """From arrays, and from the document alone."""
    answer = model.check()
    again = CheckResult.from_dict(json.loads(answer.json()))
    assert again.arrays is None and isinstance(again.influence[0], LevelInfluence)
    assert again.document == answer.document
    assert again.most_influential(4) == answer.result.most_influential(4)
    assert [len(rows) for _, rows in again.most_influential(4)] == [4] * len({r["group"] for r in again["influence"]})
    for made in (model.groups(), model.draw()):
        assert type(made.result).from_dict(json.loads(made.json())).document == made.document


def test_groups_of_levels_agree_with_the_units_own_effects(model):
    made = model.groups()
    for part, unit in zip(made.document["groups"], model.core.model.unit_effects()):
        effects = np.array([r["effects"]["intercept"] for r in part["rows"]])
        assert np.array_equal(effects, unit.effects[:, 0]) and [r["level"] for r in part["rows"]] == list(unit.levels)
        assert np.array_equal(np.argsort([r["rank"] for r in part["rows"]]), np.argsort(-effects, kind="stable"))
        low = np.array([r["ci"]["intercept"][0] for r in part["rows"]])
        assert effects - low == pytest.approx(1.959964 * unit.se[:, 0], rel=1e-6)
        average = model.coefficients["estimate"].iloc[0]
        assert np.array([r["coefficients"]["intercept"] for r in part["rows"]]) == pytest.approx(average + effects)


def test_medians_and_ranks_are_the_plain_ones():
    r = np.random.default_rng(2)
    for n, groups in ((500, 40), (7, 3), (60, 60)):
        values, codes = r.integers(0, 30, n) / 4.0, r.permutation(np.arange(n) % groups)
        medians = _medians(values, codes, np.bincount(codes))
        assert medians.tolist() == [np.median(values[codes == g]) for g in range(groups)]
        slow_ranks = [(np.sum(values < v) + np.sum(values <= v) + 1) / 2 for v in values]
        assert _ranks(values).tolist() == slow_ranks
    scattered = np.array([1.0, 5.0, 2.0, 2.5, 9.0, 4.0])  # the third level has one row and is left out
    test = brown_forsythe(scattered, np.array([0, 0, 1, 1, 2, 0]))
    assert (test["num_df"], test["den_df"]) == (1, 3)


@pytest.mark.parametrize("rows", [
    [{"a": 1.5, "b": "x", "c": 3}, {"a": None, "b": None, "c": 4}], [{"a": 1, "b": True}, {"a": 2, "b": False}],
    [{"a": 1}, {"b": 2.5}], [{"a": "x,y"}, {"a": 'say "so"'}], [{"a": [1]}, {"a": 2}],
])  # fmt: skip
def test_rows_are_written_alike_by_columns(tmp_path, monkeypatch, rows):
    files.write_rows(tmp_path / "one.csv", rows)
    monkeypatch.setattr(files, "MANY_ROWS", 1)
    files.write_rows(tmp_path / "two.csv", rows)
    one, two = ((tmp_path / f"{n}.csv").read_text() for n in ("one", "two"))
    assert two.replace("2.0\n", "2\n") == one.replace("2.0\n", "2\n")
    files.write_rows(tmp_path / "three.parquet", Rows({"a": np.arange(5), "t": np.array(["x"] * 5, dtype=object)}))
    assert bo.read_table(tmp_path / "three.parquet").numbers("a").tolist() == [0, 1, 2, 3, 4]
