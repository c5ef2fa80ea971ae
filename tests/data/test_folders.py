"""A folder or a pattern of files is the table that they make together."""

from __future__ import annotations

import gzip

import numpy as np
import pandas as pd
import pytest

from builders import diaries

SENTENCE = "yield = rain + soil; each tree: intercept"


@pytest.fixture
def parts(quick):
    frame = diaries(units=12, rows=10)
    frame["soil"] = np.where(np.arange(len(frame)) % 7 == 0, "loam", frame["soil"])
    frame.to_csv(quick.folder / "whole.csv", index=False)
    folder = quick.folder / "parts"
    folder.mkdir()
    for k, rows in enumerate(np.array_split(np.arange(len(frame)), 11)):
        frame.iloc[rows].to_csv(folder / f"p{k}.csv", index=False)
    (folder / ".hidden.csv").write_text("a,b\n1,2\n")
    return quick


def figures(document):
    return [[r["estimate"], r["se"]] for r in document["fixed"]], document["fit"]["loglik"], document["rows"]


def test_a_folder_a_pattern_and_one_file_say_the_same(parts):
    whole = parts("fit", "whole.csv", SENTENCE, "--json").json
    for source in ("parts", "parts/*.csv", "parts/p?.csv", "parts/p*"):
        d = parts("fit", source, SENTENCE, "--json").json
        if source != "parts/p?.csv":
            assert figures(d) == figures(whole), source  # rows stand in the same order: p2 before p10
            assert d["reading"] == {"pieces": 11, "rows": 120, "engine": "memory", "workers": 1}
    assert whole["reading"] == {"pieces": 1, "rows": 120, "engine": "memory", "workers": 1}


def test_mixed_formats_read_alike(parts):
    folder = parts.folder / "parts"
    first = pd.read_csv(folder / "p0.csv")
    first.to_parquet(folder / "p0.parquet")
    (folder / "p0.csv").unlink()
    text = (folder / "p1.csv").read_bytes()
    (folder / "p1.csv.gz").write_bytes(gzip.compress(text))
    (folder / "p1.csv").unlink()
    d, whole = (parts("fit", s, SENTENCE, "--json").json for s in ("parts", "whole.csv"))
    assert d["fit"]["loglik"] == pytest.approx(whole["fit"]["loglik"], abs=1e-9)


def test_later_commands_find_the_parts_again(parts):
    assert parts("fit", "parts", SENTENCE, "--save", "m").code == 0
    assert parts("predict", "m", "--json").code == 0 and parts("check", "m", "--json").code == 0
    assert parts("scout", "parts", "--json").json["rows"] == 120
    with (parts.folder / "parts" / "p3.csv").open("a") as f:
        f.write("t1,1.0,clay,5,1,2,0,o0\n")
    done = parts("components", "m")
    assert done.code == 3 and "has changed" in done.err


@pytest.mark.parametrize("change, said", [
    (lambda f: f.drop(columns="rain"), "lacks rain"), (lambda f: f.assign(sun=1), "has sun beside"),
    (lambda f: f.assign(rain="much"), "'rain' holds numbers in p0.csv and text in p4.csv"),
])  # fmt: skip
def test_a_part_unlike_the_others_is_named(parts, change, said):
    path = parts.folder / "parts" / "p4.csv"
    change(pd.read_csv(path)).to_csv(path, index=False)
    done = parts("fit", "parts", SENTENCE)
    assert done.code == 3 and said in done.err and "p4.csv" in done.err and len(done.err.strip().splitlines()) == 1


def test_half_written_and_absent(parts):
    path = parts.folder / "parts" / "p4.parquet"
    pd.read_csv(parts.folder / "parts" / "p4.csv").to_parquet(path)
    path.write_bytes(path.read_bytes()[:-40])
    done = parts("fit", "parts", SENTENCE)
    assert done.code == 3 and "p4.parquet" in done.err and len(done.err.strip().splitlines()) == 1
    done = parts("fit", "parts/*.xyz", SENTENCE)
    assert done.code == 3 and "no file matches" in done.err
    (parts.folder / "empty").mkdir()
    assert "without tables" in parts("fit", "empty", SENTENCE).err


def test_a_column_empty_in_one_part(parts):
    path = parts.folder / "parts" / "p4.csv"
    pd.read_csv(path).assign(rain=np.nan, soil=None).to_csv(path, index=False)
    d = parts("fit", "parts", SENTENCE, "--json").json
    assert d["rows"]["used"] == 109 and d["rows"]["dropped"] == [{"column": "rain", "rows": 11}]
