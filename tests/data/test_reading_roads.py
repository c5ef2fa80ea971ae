"""A table is the same whichever way it is read: small files, large ones through Arrow, odd ones by the patient reader."""

from __future__ import annotations

import importlib.util
import io

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bold_orchard.data import read
from bold_orchard.data.columns import Texts, factorize
from bold_orchard.data.other_formats import frame_table
from bold_orchard.data.read import read_bytes, read_table
from bold_orchard.errors import OrchardError

arrow = pytest.mark.skipif(importlib.util.find_spec("pyarrow") is None, reason="needs pyarrow")
CELLS = st.sampled_from(["", "NA", ".", "1", "-2", "+3", " 4", "5.5", "1e3", ".5", "-999", "abc", "true", "False", "2024-05-31",
                         "10:30", "x y", "0.1", "00", "007", "1,5", "é", "nan", "inf"])  # fmt: skip


def same(a, b):
    assert a.columns == b.columns and len(a) == len(b)
    for c in a.columns:
        one, two = a.column(c), b.column(c)
        assert isinstance(one, Texts) == isinstance(two, Texts), (c, one, two)
        if isinstance(one, Texts):
            assert list(one.raw) == list(two.raw) and one.codes.tolist() == two.codes.tolist()
        else:
            np.testing.assert_array_equal(one.astype(float), two.astype(float))


def by_road(raw, road, missing=()):
    """The table as one of the three readers gives it."""
    patch = pytest.MonkeyPatch()
    with patch.context() as m:
        whole = read._peek
        m.setattr(read, "FIRST", 2)  # what the first rows promise, later ones break
        if road != "small":
            m.setattr(
                read,
                "_peek",
                lambda *a: __import__("dataclasses").replace(whole(*a), whole=False, plain=road == "arrow"),
            )
        return read_bytes(raw, "t", missing)


@arrow
@given(
    st.lists(st.tuples(CELLS, CELLS, CELLS), min_size=1, max_size=12),
    st.sampled_from([(), ("-999",), ("b=-999",), ("c=abc", "5.5")]),
)
def test_three_roads_lead_to_one_table(rows, missing):
    text = "a,b,c\n" + "".join(",".join('"1,5"' if v == "1,5" else v for v in r) + "\n" for r in rows)
    if all(v == "" for r in rows for v in r):
        return
    tables = [by_road(text.encode(), road, missing) for road in ("small", "arrow", "pandas")]
    same(tables[0], tables[1])
    same(tables[0], tables[2])


def large(folder, rows=30_000):
    r = np.random.default_rng(2)
    frame = pd.DataFrame({
        "tree": r.integers(0, 500, rows), "site": np.array(["north", "Süd", "east side"])[r.integers(0, 3, rows)], "rain": r.normal(size=rows).round(3),
        "week": r.integers(1, 9, rows), "code": np.where(r.random(rows) < 0.1, -999, r.integers(0, 5, rows)), "day": "2024-05-31", "plot": "007",
    })  # fmt: skip
    frame.loc[5, "rain"] = np.nan
    frame.loc[7, "site"] = None
    path = folder / "large.csv"
    frame.to_csv(path, index=False)
    assert path.stat().st_size > read.PEEK
    return frame, path


@arrow
def test_a_large_file_is_read_by_column_and_as_pandas_reads_it(tmp_path, monkeypatch):
    frame, path = large(tmp_path)
    table = read_table(path, ["code=-999"], columns=["rain", "tree"])
    assert set(table.data.held) == {"rain", "tree"}
    monkeypatch.setattr(read, "_by_arrow", lambda *a: None)
    same(table, read_table(path, ["code=-999"]))
    assert (
        table.column("plot").raw.tolist() == ["007"]
        and np.isnan(table.numbers("code")).sum() == (frame.code == -999).sum()
    )


@arrow
def test_columnar_and_packed_files_give_the_same(tmp_path):
    import gzip

    import pyarrow as pa
    import pyarrow.feather
    import pyarrow.parquet

    frame, path = large(tmp_path)
    plain = read_table(path, ["code=-999"])
    (tmp_path / "t.csv.gz").write_bytes(gzip.compress(path.read_bytes()))
    with pa.output_stream(str(tmp_path / "t.csv.zst"), compression="zstd") as f:
        f.write(path.read_bytes())
    made = pa.Table.from_pandas(frame.assign(site=frame.site.astype("category")), preserve_index=False)
    pa.parquet.write_table(made, tmp_path / "t.parquet", row_group_size=7000)
    pa.feather.write_feather(made, tmp_path / "t.feather")
    for name in ("t.csv.gz", "t.csv.zst", "t.parquet", "t.feather"):
        same(plain, read_table(tmp_path / name, ["code=-999"]))
    same(plain, frame_table(frame, "t", ["code=-999"]))
    (tmp_path / "broken.csv.gz").write_bytes(b"nothing packed")
    with pytest.raises(OrchardError, match="cannot be unpacked"):
        read_table(tmp_path / "broken.csv.gz")
    (tmp_path / "half.parquet").write_bytes((tmp_path / "t.parquet").read_bytes()[:5000])
    with pytest.raises(OrchardError, match=r"half.parquet cannot be read"):
        read_table(tmp_path / "half.parquet")


@arrow
def test_kinds_of_a_parquet_file(tmp_path):
    import pyarrow as pa
    import pyarrow.parquet

    table = pa.table({
        "day": pa.array([19000, None, 19001], pa.date32()), "when": pa.array([0, 1, None], pa.timestamp("s")), "yes": [True, None, False],
        "few": pa.array([1, None, 3], pa.int8()), "none": pa.nulls(3), "price": pa.array(["1", "2", "3"]).cast(pa.decimal128(5, 2)), "name": ["b", "NA", "a"],
    })  # fmt: skip
    pa.parquet.write_table(table, tmp_path / "t.parquet")
    made = read_table(tmp_path / "t.parquet")
    assert made.column("day").values().tolist() == ["2022-01-08", None, "2022-01-09"]
    assert made.column("when").values().tolist() == ["1970-01-01 00:00:00", "1970-01-01 00:00:01", None]
    assert made.column("yes").values().tolist() == ["True", None, "False"] and made.kind("none") == "empty"
    assert made.numbers("few")[2] == 3 and made.numbers("price").tolist() == [1, 2, 3]
    assert made.column("name").values().tolist() == ["b", None, "a"]


@arrow
def test_odd_lines_of_a_large_file_are_told(tmp_path):
    _, path = large(tmp_path)
    lines = path.read_text().splitlines()
    lines[20_000] += ",1,2"
    path.write_text("\n".join(lines) + "\n")
    with pytest.raises(OrchardError, match=r"line 20001 of large\.csv has 9 cells where the header has 7"):
        read_table(path)


@given(st.lists(st.sampled_from([1.0, 2.5, float("nan"), -3.0, 7.0]), max_size=30))
def test_codes_stand_in_order_of_appearance(values):
    codes, distinct = factorize(np.array(values))
    wanted, raw = pd.factorize(np.array(values))
    assert codes.tolist() == wanted.tolist() and distinct.tolist() == raw.tolist()


@pytest.mark.parametrize("seed", range(4))
def test_some_rows_of_texts_keep_the_order_of_appearance(seed):
    r = np.random.default_rng(seed)
    frame = pd.DataFrame(
        {"site": np.array(["d", "b", None, "a", "c"], dtype=object)[r.integers(0, 5, 40)], "x": r.normal(size=40)}
    )
    table = frame_table(frame, "t", [])
    for keep in (r.random(40) < 0.3, r.permutation(40)[:15]):
        made = table.take(keep)
        same(made, frame_table(frame[keep] if keep.dtype == bool else frame.iloc[keep], "t", []))
        assert made.frame["x"].tolist() == frame["x"].to_numpy()[keep].tolist()
    assert io.StringIO(table.frame.to_csv()).read().count("\n") == 41


@arrow
def test_columns_that_are_asked_for_together_are_read_together(tmp_path, monkeypatch):
    _, path = large(tmp_path)
    asked = []
    real = read.read_text
    monkeypatch.setattr(
        read,
        "read_text",
        lambda source, header, wanted, *more: asked.append(list(wanted)) or real(source, header, wanted, *more),
    )
    table = read_table(path, columns=["rain"]).take(np.arange(100)).with_columns({"new": np.zeros(100)})
    assert table.frame.shape == (100, 8)
    assert [len(a) for a in asked] == [1, 6]


@pytest.mark.parametrize("ending", [".csv", ".csv.gz", ".parquet"])
def test_a_line_of_names_longer_than_any_buffer_is_read_whole(tmp_path, ending):
    """20,000 names are more than the first bytes by which a file is judged."""
    r, columns = np.random.default_rng(1), [f"measurement_{k}" for k in range(9_000)]
    frame = pd.DataFrame(r.normal(size=(3, len(columns))).round(3), columns=columns).assign(
        tree=["a", "b", "c"], code=["01", "02", "10"]
    )
    path = tmp_path / f"wide{ending}"
    frame.to_parquet(path) if ending == ".parquet" else frame.to_csv(path, index=False)
    made = read_table(path)
    assert made.columns == list(frame.columns) and len(made) == 3
    assert made.numbers("measurement_8999") == pytest.approx(frame["measurement_8999"])
    assert made.labels("tree").texts == ["a", "b", "c"] and made.labels("code").texts == ["01", "02", "10"]
