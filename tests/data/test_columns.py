"""Tables as columns: rows taken, columns changed, kinds told, whatever they were made from."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.columns import (
    Texts,
    in_order,
    is_number,
    numbers_of,
    of_array,
    of_cells,
    texts_or_numbers,
    without_codes,
)
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError


def table():
    return Table(
        {
            "site": np.array(["b", "a", None, "b"], dtype=object),
            "rain": np.array([1.0, np.nan, 3.0, 4.0]),
            "week": np.arange(4),
        },
        "t",
        4,
    )


def test_a_mapping_and_a_frame_are_one_table():
    one, two = (
        table(),
        Table(pd.DataFrame({"site": ["b", "a", None, "b"], "rain": [1.0, np.nan, 3.0, 4.0], "week": range(4)}), "t", 4),
    )
    for t in (one, two):
        assert [t.kind(c) for c in t.columns] == ["category", "number", "number"]
        assert t.labels("site").texts == ["b", "a"] and t.labels("site").codes.tolist() == [0, 1, -1, 0]
        assert t.is_missing("rain").tolist() == [False, True, False, False]
    assert one.frame.equals(two.frame)


def test_rows_taken_twice_and_columns_changed_on_the_way():
    made = (
        table()
        .take(np.array([True, False, True, True]))
        .with_columns({"rain": np.array([9.0, 8.0, 7.0])})
        .take(np.array([2, 0]))
    )
    assert made.numbers("rain").tolist() == [7.0, 9.0] and made.numbers("week").tolist() == [3.0, 0.0]
    assert made.labels("site").texts == ["b"] and made.row_numbers.tolist() == [4, 1]
    assert table().numbers("rain")[0] == 1.0  # the first table is what it was


def test_names_that_are_not_there():
    with pytest.raises(OrchardError, match="did you mean 'rain'"):
        table().column("rian")
    with pytest.raises(OrchardError, match="holds text, not numbers"):
        table().numbers("site")
    mixed = Table({"x": np.array(["1", "2", "3", "n/a"], dtype=object)}, "t", 4)
    with pytest.raises(OrchardError, match=r"\('n/a' in row 4\); if that means missing: --missing n/a"):
        mixed.numbers("x")


@pytest.mark.parametrize(("cells", "made"), [
    (["1", "2"], [1, 2]), (["1", ""], [1.0, np.nan]), (["1.5", "2"], [1.5, 2.0]), (["+3", " 4 "], [3, 4]), (["1e2", ".5"], [100.0, 0.5]), (["", "."], [np.nan, np.nan]),
])  # fmt: skip
def test_cells_that_are_numbers(cells, made):
    out = of_cells(cells, ["", "NA", "."])
    assert not isinstance(out, Texts)
    np.testing.assert_array_equal(out, np.array(made))


@pytest.mark.parametrize(
    "cells",
    [["1", "x"], ["nan", "1"], ["1_000", "2"], ["0x1", "2"], ["2024-05-31", ""], ["true", "false"], ["1,5", "2"]],
)
def test_cells_that_are_texts(cells):
    out = of_cells(cells, [""])
    assert isinstance(out, Texts) and [v or "" for v in out.values().tolist()] == cells


def test_decimal_commas_and_codes():
    assert of_cells(["1,5", "2"], [""], ",").tolist() == [1.5, 2.0]
    np.testing.assert_array_equal(of_cells(["1", "-999", "-999.0"], ["-999"]), [1.0, np.nan, np.nan])
    assert isinstance(of_cells(["01", "2"], [""], as_text=True), Texts)
    np.testing.assert_array_equal(without_codes(np.array([1, 9, 3]), ["9", "x"]), [1.0, np.nan, 3.0])
    assert without_codes(np.array([1, 2]), ["9"]).dtype.kind == "i"


def test_what_a_number_is():
    assert all(is_number(t) for t in ("1", "-1.", " .5", "+2e-3", "inf", "-Infinity"))
    assert not any(is_number(t) for t in ("", "nan", "1_0", "e5", "1 2", "--1", "0x10"))
    assert numbers_of(["9223372036854775808"]) is None  # an id that a double would merge with its neighbours
    assert numbers_of(["9.3e18"]).dtype.kind == "f" and numbers_of(["1", "x"]) is None


def test_codes_are_numbered_in_order_of_appearance():
    made = in_order(np.array([3, -1, 3, 0, -1]), np.array(["z", "y", "x", "w"], dtype=object))
    assert made.raw.tolist() == ["w", "z"] and made.codes.tolist() == [0, -1, 0, 1, -1]
    assert of_array(np.array(["a", None, float("nan"), "a"], dtype=object)).codes.tolist() == [0, -1, -1, 0]
    turned = texts_or_numbers(Texts(np.array([0, -1, 1]), np.array([" 1", "2.5"], dtype=object)), [])
    np.testing.assert_array_equal(turned, [1.0, np.nan, 2.5])
