"""Reading that begins before the columns used are known leads to the same table, and to the same words where it cannot."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.ahead import Mentioned, read_ahead
from bold_orchard.data.read import PEEK, read_table
from bold_orchard.tables import table


def rows(n=6000, seed=1):
    r = np.random.default_rng(seed)
    tree = r.integers(0, 300, n)
    rain = r.normal(size=n).round(3)
    made = {"tree": tree, "rain": rain, "rain today": rain + 1, "sun": r.normal(size=n).round(3)}
    return pd.DataFrame(made | {"yield": (r.normal(size=300)[tree] + 0.4 * rain + r.normal(size=n)).round(3)})


@pytest.fixture()
def harvest(tmp_path):
    path = tmp_path / "harvest.csv"
    rows().to_csv(path, index=False)
    assert path.stat().st_size > PEEK
    return path


@pytest.mark.parametrize(
    ("name", "text", "stands"),
    [
        ("rain", "yield = rain; each tree: intercept", True),
        ("rain", "yield = rainfall", False),
        ("rain", "yield = centre(rain)", True),
        ("rain today", "yield = [rain today]", True),
        ("a.b", "yield = axb", False),
        ("(x)", "y = '(x)'", True),
    ],
)
def test_names_are_words_of_their_own(name, text, stands):
    assert (name in Mentioned(text)) is stands


def test_columns_named_are_at_hand_and_others_come_when_asked_for(harvest):
    found = read_ahead(str(harvest), (), "yield = rain; each tree: intercept").result()
    assert set(found.data.held) == {"tree", "rain", "yield"}
    made = table(found, columns=["yield", "rain", "tree", "sun"])
    assert "sun" in made.data.held
    np.testing.assert_array_equal(made.column("sun"), read_table(harvest).column("sun"))


@pytest.mark.parametrize("source", ["none.csv", "small.csv", "folder", "table.parquet", "-"])
def test_what_is_not_worth_it_or_cannot_be_read_is_left_to_the_usual_road(tmp_path, source):
    (tmp_path / "small.csv").write_text("a,b\n1,2\n")
    (tmp_path / "folder").mkdir()
    rows().to_parquet(tmp_path / "table.parquet")
    assert read_ahead(source if source == "-" else str(tmp_path / source), (), "a = b") is None


def test_a_large_table_is_fitted_as_its_rows_on_standard_input(harvest, orchard):
    sentence = "yield = rain + [rain today] * sun; each tree: intercept + sun"
    where = ["--where", "[rain today] > 0", "--json"]
    ahead = orchard("fit", "harvest.csv", sentence, *where).json
    usual = orchard("fit", "-", sentence, *where, stdin=harvest.read_text()).json
    for document in (ahead, usual):
        for key in ("data", "seconds", "made", "fingerprint"):
            document.pop(key, None)
    assert ahead == usual


@pytest.mark.parametrize(
    ("sentence", "more", "says"),
    [
        ("yield = rian; each tree: intercept", (), "rain"),
        ("yield = rain; each tre: intercept", (), "tree"),
        ("yield = rain; each tree intercept", (), "cannot be read"),
        ("yield = rain; each tree: intercept", ("--where", "snow > 1"), "snow"),
        ("yield = rain; each tree: intercept", ("--missing", "snow=-9"), "snow"),
    ],
)
def test_mistakes_are_told_as_for_a_small_table(harvest, orchard, sentence, more, says):
    rows(200).to_csv(harvest.parent / "few.csv", index=False)
    large, few = (orchard("fit", name, sentence, *more) for name in ("harvest.csv", "few.csv"))
    assert large.code == few.code != 0
    assert says in large.err
    assert large.err.replace("harvest.csv", "few.csv") == few.err


def test_a_line_too_long_far_below_is_told(harvest, orchard):
    with harvest.open("a") as f:
        f.write("1,2,3,4,5,6,7\n")
    told = orchard("fit", "harvest.csv", "yield = rain; each tree: intercept").err
    assert "line 6002" in told and "Traceback" not in told
