"""Columns as files: what is written is what is read again, whichever writer served."""

from __future__ import annotations

import importlib.util

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.read import read_table
from bold_orchard.errors import OrchardError
from bold_orchard.results.rows import Rows
from bold_orchard.storage import files
from bold_orchard.storage.files import write_rows

arrow = pytest.mark.skipif(importlib.util.find_spec("pyarrow") is None, reason="needs pyarrow")
ODD = ["plain", "a,b", 'say "so"', "two\nlines", "é", "nan", None]


def columns(n=200, odd=True):
    r = np.random.default_rng(1)
    texts = np.array(ODD if odd else ["plain", "é", None], dtype=object)
    numbers = r.normal(size=n) * 10.0 ** r.integers(-8, 9, n)
    numbers[3] = np.nan
    return {"row": np.arange(1, n + 1), "size": numbers, "name, with comma": texts[r.integers(0, len(texts), n)]}


@arrow
@pytest.mark.parametrize("odd", [True, False])
def test_both_writers_leave_the_same_table(tmp_path, monkeypatch, odd):
    made = Rows(columns(odd=odd))
    write_rows(tmp_path / "plain.csv", made)
    monkeypatch.setattr(files, "MANY_ROWS", 10)
    write_rows(tmp_path / "arrow.csv", made)
    one, two = (pd.read_csv(tmp_path / f"{n}.csv", keep_default_na=False, na_values=[""]) for n in ("plain", "arrow"))
    pd.testing.assert_frame_equal(one, two)
    assert one["size"].to_numpy() == pytest.approx(made.columns["size"], rel=0, abs=0, nan_ok=True)  # every digit
    assert (tmp_path / "arrow.csv").read_text().splitlines()[0] == 'row,size,"name, with comma"'


@arrow
@pytest.mark.parametrize("odd", [True, False])
def test_a_frame_is_written_as_its_columns_are(tmp_path, monkeypatch, odd):
    """A frame's texts are held otherwise than an array's, in several chunks where there are many rows."""
    made = columns(odd=odd)
    frame = pd.concat([pd.DataFrame({k: v.tolist() for k, v in made.items()})] * 3, ignore_index=True)
    frame.columns = ["row", "size", "name"]
    write_rows(tmp_path / "plain.csv", frame)
    monkeypatch.setattr(files, "MANY_ROWS", 10)
    write_rows(tmp_path / "arrow.csv", frame)
    write_rows(tmp_path / "rows.csv", Rows({c: frame[c].to_numpy() for c in frame}))
    one, two, three = (
        pd.read_csv(tmp_path / f"{n}.csv", keep_default_na=False, na_values=[""]) for n in ("plain", "arrow", "rows")
    )
    pd.testing.assert_frame_equal(one, two)
    pd.testing.assert_frame_equal(two, three)


def test_what_is_written_is_read_again(tmp_path):
    made = Rows(columns())
    write_rows(tmp_path / "t.csv", made)
    table = read_table(tmp_path / "t.csv")
    np.testing.assert_array_equal(table.numbers("size"), made.columns["size"])
    assert table.column("name, with comma").values().tolist() == made.columns["name, with comma"].tolist()


@arrow
def test_frames_and_columns_as_parquet(tmp_path):
    made = columns()
    write_rows(tmp_path / "a.parquet", Rows(made))
    write_rows(tmp_path / "b.parquet", pd.DataFrame(made))
    one, two = (read_table(tmp_path / f"{n}.parquet") for n in "ab")
    for name in made:
        assert one.column(name) is not None
        assert one.frame[name].equals(two.frame[name])


def test_rows_are_made_when_they_are_looked_at():
    rows = Rows(columns(20))
    assert len(rows) == 20 and rows[3]["size"] is None and rows[-1]["row"] == 20
    assert [r["row"] for r in rows[5:8]] == [6, 7, 8] and list(rows)[2] == rows[2]
    assert rows == list(rows) and rows != list(rows)[:-1] and type(rows[0]["row"]) is int
    with pytest.raises(IndexError):
        _ = rows[20]
    assert len(Rows({})) == 0 and list(Rows({})) == []


def test_nothing_half_written_and_nothing_lost(tmp_path):
    target = tmp_path / "t.csv"
    target.write_text("before\n")

    def half(path):
        path.write_text("half")
        raise OSError(28, "no space left")

    with pytest.raises(OrchardError, match="no space left; make room"):
        files.write_safely(target, half)
    assert target.read_text() == "before\n" and [p.name for p in tmp_path.iterdir()] == ["t.csv"]
