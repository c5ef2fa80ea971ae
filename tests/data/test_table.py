from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.data.natural_order import natural_order
from bold_orchard.data.read import read_table
from bold_orchard.data.scout import scout
from bold_orchard.errors import OrchardError


def write(tmp_path, text, name="t.csv", encoding="utf-8"):
    path = tmp_path / name
    path.write_bytes(text.encode(encoding))
    return path


def test_only_the_five_missing_marks_are_missing(tmp_path):
    path = write(tmp_path, "a,b\n1,none\nNA,None\nNaN,null\n.,nan\n,N/A\n7,.\n")
    t = read_table(path)
    assert np.isnan(t.numbers("a")).tolist() == [False, True, True, True, True, False]
    assert sorted(t.labels("b").texts) == ["N/A", "None", "nan", "none"]


def test_missing_codes_for_all_or_for_one_column(tmp_path):
    path = write(tmp_path, "a,b\n-999,-999\n1,2\nx,3\n")
    assert read_table(path, ["-999"]).is_missing("b").tolist() == [True, False, False]
    only = read_table(path, ["a=-999", "a=x"])
    assert only.kind("a") == "number" and not only.is_missing("b").any()
    with pytest.raises(OrchardError, match="did you mean 'a'"):
        read_table(path, ["A=1"])


def test_kinds_leading_zeros_and_truth_words_stay_as_written(tmp_path):
    t = read_table(write(tmp_path, "id,flag,x,e\n007,TRUE,1,\n010,False,2.5,\n"))
    assert t.labels("id").texts == ["007", "010"]
    assert t.labels("flag").texts == ["TRUE", "False"]
    assert [t.kind(c) for c in t.columns] == ["category", "category", "number", "empty"]


def test_separators_decimal_commas_and_encodings(tmp_path):
    semicolons = read_table(write(tmp_path, "a;b\n1,5;x\n2,25;y\n"))
    assert semicolons.numbers("a").tolist() == [1.5, 2.25]
    tabs = read_table(write(tmp_path, "a\tb\n1\t2\n", "t.tsv"))
    assert tabs.columns == ["a", "b"]
    latin = read_table(write(tmp_path, "sorte,x\nBüchner,1\nGrün,2\n", encoding="cp1252"))
    assert latin.labels("sorte").texts == ["Büchner", "Grün"]
    marked = read_table(write(tmp_path, "\ufeffa,b\n1,2\n"))
    assert marked.columns == ["a", "b"]


def test_long_numbers_are_read_to_the_last_digit(tmp_path):
    values = [1000000000000.4, 0.1234567890123456, 123456.78901234567, 1e-300]
    t = read_table(write(tmp_path, "a\n" + "\n".join(map(repr, values)) + "\n"))
    assert t.numbers("a").tolist() == values


def test_where_with_three_valued_logic(tmp_path):
    path = write(tmp_path, "a,b\n1,x\n2,y\n,x\n4,\n")
    rows = lambda e: read_table(path, where=e).row_numbers.tolist()  # noqa: E731
    assert rows("a > 1") == [2, 4]
    assert rows("not a > 1") == [1]
    assert rows("b = x") == [1, 3]
    assert rows("b != x") == [2]
    assert rows("a > 3 or b = x") == [1, 3, 4]
    assert rows("b in ('x', y) and a*2 <= 4") == [1, 2]
    with pytest.raises(OrchardError, match="no row"):
        rows("a > 10")
    with pytest.raises(OrchardError, match="no level 'z'"):
        rows("b = z")


def test_natural_order():
    labels = ["block 10", "block 2", "B1", "b", "10", "9", "-1"]
    assert [labels[i] for i in natural_order(labels)] == ["-1", "9", "10", "b", "B1", "block 2", "block 10"]


def test_scout_finds_units_levels_codes_and_repeated_labels(harvest):
    d = scout(read_table(harvest))
    columns = {c["column"]: c for c in d["columns"]}
    assert columns["yield"]["suspected_missing_codes"] == [-999.0] and columns["yield"]["missing"] == 12
    assert columns["soil"]["levels_within"] == {"orchard": "constant", "tree": "varies", "season": "varies"}
    assert d["groupings"][0]["column"] == "orchard" and d["groupings"][0]["levels"] == 24
    assert {"unit": "tree", "parent": "orchard", "relation": "labels repeat"} in d["nesting"]
    assert not any(n["unit"] == "season" and n["relation"] == "labels repeat" for n in d["nesting"])
    assert d["sentences"][0] == "yield = intercept; each orchard: intercept"


def test_scout_tells_nested_from_crossed(tmp_path):
    rows = ["plot,farm,sort,y"]
    for farm in range(6):
        for plot in range(4):
            rows += [f"p{farm}-{plot},f{farm},s{sort},{farm + plot + sort}.5" for sort in range(5)]
    d = scout(read_table(write(tmp_path, "\n".join(rows))), ["plot", "farm", "sort"])
    found = {(n["unit"], n["parent"]): n["relation"] for n in d["nesting"]}
    assert found["plot", "farm"] == "nested"
    assert "crossed" in (found.get(("plot", "sort")), found.get(("sort", "plot")))
    assert not any(c["suspected_missing_codes"] for c in d["columns"])


@pytest.mark.parametrize("ending", ["xlsx", "ods", "jsonl", "tsv"])
def test_every_format_reads_alike(tmp_path, ending):
    import pandas as pd

    frame = pd.DataFrame({"orchard": ["north", "north", "south"], "tree": [1, 2, 1], "yield": [1.5, None, -999.0],
                          "note": ["none", "NA", "x"]})  # fmt: skip
    path = tmp_path / f"t.{ending}"
    if ending == "jsonl":
        frame.to_json(path, orient="records", lines=True)
    elif ending == "tsv":
        frame.to_csv(path, sep="\t", index=False)
    else:
        frame.to_excel(path, index=False, engine="odf" if ending == "ods" else "openpyxl")
    t = read_table(path, ["yield=-999"])
    assert t.columns == ["orchard", "tree", "yield", "note"] and len(t) == 3
    assert [t.kind(c) for c in t.columns] == ["category", "number", "number", "category"]
    assert np.isnan(t.numbers("yield")).tolist() == [False, True, True]
    assert t.labels("note").texts == ["none", "x"] and t.labels("tree").texts == ["1", "2"]


def test_scout_warns_of_rows_that_occur_twice_and_of_small_groups(tmp_path):
    rows = [f"f{f},t{f}-{t},{w},{f + t * w}.25" for f in range(6) for t in range(1, 4) for w in range(1, 9)]
    d = scout(
        read_table(write(tmp_path, "\n".join(["farm,trap,week,moths", *rows, "f3,t3-2,5,9.5"]))), ["farm", "trap"]
    )
    assert [(e["unit"], e["time"], e["count"]) for e in d["duplicates"]] == [("trap", "week", 1)]
    joined = " ".join(d["notes"])
    assert "farm has 6 levels only" in joined


@pytest.mark.parametrize(("code", "others", "suspected"), [
    (-999, range(20, 60), True), (99, range(1, 30), True), (-9, range(1, 9), True), (-1, [-3, -2, 0, 1, 2], False),
    (99, range(80, 120), False), (999, range(900, 1100, 7), False), (-99, [-120, -80, 5, 60], False),
])  # fmt: skip
def test_only_codes_far_from_the_rest_are_suspected(tmp_path, code, others, suspected):
    rows = "".join(f"u{i % 5},{v}\n" for i, v in enumerate([*others, *others, code]))
    d = scout(read_table(write(tmp_path, "unit,x\n" + rows)))
    found = next(c for c in d["columns"] if c["column"] == "x")["suspected_missing_codes"]
    assert found == ([float(code)] if suspected else [])


def test_scout_of_a_table_without_groups_says_so(tmp_path):
    d = scout(
        read_table(
            write(tmp_path, "id,x,y\n" + "".join(f"n{i},{i * 0.37:.2f},{i * i * 0.11:.2f}\n" for i in range(30)))
        )
    )
    assert d["groupings"] == [] and d["sentences"] == [] and any("No column seems to group" in n for n in d["notes"])
