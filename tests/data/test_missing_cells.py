"""Columns that are missing together, and gaps that go with other columns."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data.missing_cells import patterns, related
from bold_orchard.tables import table


def frame(n=400, depends=True):
    r = np.random.default_rng(2)
    made = pd.DataFrame({"orchard": r.choice(["north", "south", "west"], n), "rain": r.normal(50, 10, n), "bees": r.normal(size=n), "yield": r.normal(size=n)})  # fmt: skip
    lost = r.random(n) < (0.1 + 0.5 * (made["rain"] > 50) if depends else 0.3)
    made.loc[lost, "bees"] = np.nan
    made.loc[(made["orchard"] == "west") & (r.random(n) < (0.6 if depends else 0.1)), "yield"] = np.nan
    return made


def test_patterns_count_every_row_that_lacks_something_once():
    data = frame()
    made = patterns(table(data))
    assert sum(p["rows"] for p in made) == data.isna().any(axis=1).sum()
    both = next(p["rows"] for p in made if p["missing"] == ["bees", "yield"])
    assert both == (data["bees"].isna() & data["yield"].isna()).sum()


def test_gaps_that_go_with_a_column_are_told_with_their_shares():
    data = frame()
    told = {(m["column"], m["by"]): m["sides"] for m in related(table(data))}
    assert set(told) == {("bees", "rain"), ("yield", "orchard")}
    above = data["rain"] > data["rain"].median()
    low, high = (s["share"] for s in told["bees", "rain"])
    assert (low, high) == pytest.approx([data["bees"].isna()[~above].mean(), data["bees"].isna()[above].mean()])
    assert told["yield", "orchard"][1]["side"] == "west" and told["yield", "orchard"][0]["share"] == 0.0


def test_gaps_without_a_reason_are_not_explained():
    r, found = np.random.default_rng(6), 0
    for _ in range(40):
        data = frame(depends=False).assign(bees=r.normal(size=400))
        data["yield"] = r.normal(size=400)
        for column in ("bees", "yield"):
            data.loc[r.random(400) < 0.3, column] = np.nan
        found += len(related(table(data)))
    assert found <= 2


def test_scout_says_so():
    answer = bo.scout(frame())
    assert answer.missing_together[0]["rows"] > 0 and "is missing in" in str(answer) and "--impute" in str(answer)
    assert "missing_together" not in bo.scout(frame().dropna()).to_dict()


def test_names_in_brackets_are_scouted():
    odd = frame().rename(columns={"yield": "yield [kg]", "rain": "rain = x"})
    odd["yield [kg]"] += odd["orchard"].map({"north": 1.0, "south": 0.0, "west": 2.0})
    answer = bo.scout(odd)
    assert answer.sentences and answer.figure().axes


def test_units_in_brackets_are_checked_and_scouted():
    r, n = np.random.default_rng(3), 240
    data = pd.DataFrame({"row [no]": r.integers(0, 12, n).astype(str), "plot [no]": r.integers(0, 40, n).astype(str), "x": r.normal(size=n), "yield": r.normal(size=n)})  # fmt: skip
    assert bo.scout(data, unit=["row [no]"]).units == ["row [no]"]
    fit = bo.fit("yield = x; each [row [no]]: intercept", data)
    assert fit.check(unit="[plot [no]]").converged and fit.check(unit="plot [no]").converged
