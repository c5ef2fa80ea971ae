"""The data of a saved fit are read again by the commands that need them, and only if they are what they were."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

SENTENCE = "yield = rain; each tree: intercept"


def rows(n=6000, seed=1):
    r = np.random.default_rng(seed)
    tree, rain = r.integers(0, 300, n), r.normal(size=n).round(3)
    made = {"tree": tree, "rain": rain, "sun": r.normal(size=n).round(3)}
    return pd.DataFrame(made | {"yield": (r.normal(size=300)[tree] + 0.4 * rain + r.normal(size=n)).round(3)})


@pytest.fixture
def saved(quick):
    rows().to_csv(quick.folder / "h.csv", index=False)
    assert quick("fit", "h.csv", SENTENCE, "--where", "sun > -1", "--save", "m", "--quiet").code == 0
    return quick


@pytest.mark.slow
def test_the_same_rows_are_used_again(saved):
    assert saved("check", "m", "--json").json["levels"][0]["n"] == int((rows().sun > -1).sum())


@pytest.mark.parametrize("line", ["1,2,3,4\n", "1,2,3,4,5,6,7\n", "\n"])
def test_a_changed_file_says_so_whatever_its_lines_are(saved, line):
    with (saved.folder / "h.csv").open("a") as f:
        f.write(line)
    told = saved("groups", "m")
    assert told.code == 3 and "h.csv has changed since 'm' was fitted" in told.err


def test_showing_a_fit_again_needs_no_data(saved):
    (saved.folder / "h.csv").unlink()
    assert saved("show", "m").code == 0
    gone = saved("groups", "m")
    assert gone.code == 3 and "h.csv" in gone.err
