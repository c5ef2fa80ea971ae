"""What scout shows of the rows themselves: the first of them, spread of columns, an outcome by cells."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError


def rows(n=240, seed=3):
    r = np.random.default_rng(seed)
    made = pd.DataFrame(
        {
            "bed": r.integers(1, 9, n),
            "soil": r.choice(["sand", "clay"], n),
            "dose": r.choice([0, 10, 5], n),
            "a+b": r.choice(["x", "y"], n),
        }
    )
    made["mass"] = r.normal(20, 4, n)
    made.loc[[3, 77], "mass"] = np.nan
    made.loc[5, "soil"] = None
    return made[~((made.soil == "clay") & (made.dose == 10))].reset_index(drop=True)


@pytest.mark.parametrize("by", [["soil"], ["soil", "dose"], ["dose", "soil"], ["a+b"], ["soil", "a+b"]])
def test_cells_are_those_of_a_plain_summary(by):
    frame = rows()
    cells = bo.scout(frame, by=by, outcome="mass").to_dict()["cells"]
    judge = frame.dropna(subset=["mass", *by]).groupby(by)["mass"].agg(["size", "mean", "std"])
    seen = 0
    for cell in cells:
        key = tuple(float(v) if c == "dose" else v for c, v in cell["levels"].items())
        key = key if len(by) > 1 else key[0]
        if cell["n"] == 0:
            assert key not in judge.index and cell["mean"] is None and cell["sd"] is None
            continue
        seen += 1
        n, mean, sd = judge.loc[key]
        assert (
            cell["n"] == n
            and cell["mean"] == pytest.approx(mean, rel=1e-12)
            and cell["sd"] == pytest.approx(sd, rel=1e-9)
        )
    assert seen == len(judge) and list(cells[0]["levels"]) == by


def test_order_of_rows_and_names_of_levels_do_not_matter():
    frame = rows()
    one = bo.scout(frame, by="soil+dose", outcome="mass").to_dict()["cells"]
    two = bo.scout(frame.sample(frac=1, random_state=1), by="soil+dose", outcome="mass").to_dict()["cells"]
    three = bo.scout(
        frame.replace({"soil": {"sand": "1: zz", "clay": "=a"}}), by="soil+dose", outcome="mass"
    ).to_dict()["cells"]
    assert [c["levels"] for c in one] == [c["levels"] for c in two]
    for a, b in zip(one, two):
        assert a["n"] == b["n"] and (a["mean"] is None or a["mean"] == pytest.approx(b["mean"], rel=1e-12))
    assert sorted((c["n"], c["mean"] or 0.0) for c in one) == sorted((c["n"], c["mean"] or 0.0) for c in three)


def test_what_cannot_be_summarised_is_refused():
    frame = rows()
    for by, outcome, words in (
        ("soil+dsoe", "mass", "did you mean 'dose'"),
        ("soil", "mas", "did you mean 'mass'"),
        ("soil", "soil", "holds text"),
    ):
        with pytest.raises(OrchardError, match=words):
            bo.scout(frame, by=by, outcome=outcome)
    many = frame.assign(row=np.arange(len(frame)), other=np.arange(len(frame))[::-1])
    with pytest.raises(UsageError, match="cells; name columns of fewer levels"):
        bo.scout(many, by=["row", "other"], outcome="mass")
    with pytest.raises(UsageError, match="--by needs --outcome"):
        bo.scout(pd.DataFrame({"soil": ["a", "b"] * 9}), by="soil")


def test_the_first_rows_and_spreads_are_shown_as_they_stand(quick):
    frame = rows()
    frame.to_csv(quick.folder / "t.csv", index=False)
    d = quick("scout", "t.csv", "--json").json
    assert len(d["first_rows"]) == 5 and list(d["first_rows"][0]) == list(frame.columns)
    assert (
        d["first_rows"][3]["mass"] is None
        and d["first_rows"][0]["mass"] == frame.mass[0]
        and d["first_rows"][0]["bed"] == frame.bed[0]
    )
    assert next(c for c in d["columns"] if c["column"] == "mass")["sd"] == pytest.approx(frame.mass.std(), rel=1e-12)
    page = quick("scout", "t.csv", "--by", "soil+dose", "--outcome", "mass").out
    assert "The first rows" in page and "mass by soil and dose" in page and ", SD " in page
    (quick.folder / "one.csv").write_text("a,b\n1,x\n")
    assert quick("scout", "one.csv", "--json").json["columns"][0]["sd"] is None
