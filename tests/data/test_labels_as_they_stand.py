"""Labels are what stands in the file: ids beyond the reach of a double, leading zeros, whatever the format and the order of rows."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.tables import table

ROWS = 60
NEIGHBOURS = [2**60 + i for i in range(6)]  # one and the same number to a double


def frame(gap):
    ids = pd.Series([NEIGHBOURS[i % 6] for i in range(ROWS)], dtype="Int64")
    if gap:
        ids[5] = pd.NA
    return pd.DataFrame({"id": ids, "yield": np.arange(ROWS) / 7})


WRITERS = {
    "csv": lambda f, p: f.to_csv(p, index=False),
    "parquet": lambda f, p: f.to_parquet(p),
    "xlsx": lambda f, p: f.assign(id=f["id"].astype(object)).to_excel(p, index=False),
}


@pytest.mark.parametrize("gap", [False, True])
@pytest.mark.parametrize("ending", WRITERS)
def test_ids_that_a_double_cannot_tell_apart_stay_apart(tmp_path, ending, gap):
    path = tmp_path / f"trees.{ending}"
    WRITERS[ending](frame(gap), path)
    labels = table(str(path)).labels("id")
    if ending == "xlsx":  # a workbook holds doubles: six ids are one there, in any program
        assert set(labels.texts) <= {str(i) for i in NEIGHBOURS}
    else:
        assert sorted(labels.texts) == [str(i) for i in NEIGHBOURS]
    assert (labels.codes < 0).sum() == gap


@pytest.mark.parametrize("gap", [False, True])
def test_a_frame_keeps_its_ids(gap):
    assert sorted(table(frame(gap)).labels("id").texts) == [str(i) for i in NEIGHBOURS]


def test_ids_beyond_signed_integers():
    ids = np.array([2**63 + i % 6 for i in range(ROWS)], dtype=np.uint64)
    assert len(table(pd.DataFrame({"id": ids, "yield": 1.0})).labels("id").texts) == 6


@pytest.mark.parametrize("gap", [False, True])
def test_twenty_digits_in_a_long_file(tmp_path, gap):
    ids = [str(10**19 + i % 6) for i in range(20_000)]
    if gap:
        ids[19_000] = ""
    pd.DataFrame({"yield": np.arange(20_000.0), "id": ids}).to_csv(tmp_path / "t.csv", index=False)
    assert sorted(table(str(tmp_path / "t.csv")).labels("id").texts) == [str(10**19 + i) for i in range(6)]


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "latin-1"])
@pytest.mark.parametrize("shuffled", [False, True])
def test_leading_zeros_make_labels_wherever_they_first_stand(tmp_path, encoding, shuffled):
    plots = [str(1 + i % 20) if i < 15_000 else f"{1 + i % 20:02d}" for i in range(20_000)]
    rows = pd.DataFrame({"plot": plots, "count": range(20_000)})
    if shuffled:
        rows = rows.sample(frac=1, random_state=1)
    rows.to_csv(tmp_path / "t.csv", index=False, encoding=encoding)
    read = table(str(tmp_path / "t.csv"))
    assert set(read.labels("plot").texts) == set(plots)
    assert read.kind("count") == "number"


@pytest.mark.parametrize("gap", [False, True])
@pytest.mark.parametrize("form", ["{:#x}", "{:#X}", "{:03d}", "0{}"])
def test_digits_that_are_not_how_a_number_is_written_stay_as_they_are(tmp_path, form, gap):
    """Beyond the lines that are looked at first, too, and beside an empty cell."""
    ids = [str(100 + i % 50) if i < 15_000 and form != "{:#x}" else form.format(i % 50) for i in range(30_000)]
    wanted = sorted(set(ids))
    if gap:
        ids[29_999] = ""
    pd.DataFrame({"yield": np.arange(30_000.0) / 7, "id": ids}).to_csv(tmp_path / "t.csv", index=False)
    assert sorted(table(str(tmp_path / "t.csv")).labels("id").texts) == wanted
