"""Comment lines above the header, and tables whose columns stand apart by spaces, read like the CSV they might have
been."""

import csv

import numpy as np
import pytest

from bold_orchard.data.read import read_table
from bold_orchard.errors import OrchardError

NAMES = ["orchard", "tree", "height"]
ROWS = [["North End" if i % 2 else "South", f"t{i % 5}", str(1.5 + i / 7)] for i in range(300)]


def _written(path, separator, above="", header=None):
    with path.open("w", newline="", encoding="utf-8") as file:
        file.write(above)
        writer = csv.writer(file, delimiter=separator)
        if header is None:
            writer.writerow(NAMES)
        else:
            file.write(header + "\n")
        writer.writerows(ROWS)
    return path


def _same(table, plain):
    assert table.columns == NAMES
    assert len(table) == len(plain) == len(ROWS)
    np.testing.assert_array_equal(table.numbers("height"), plain.numbers("height"))
    for name in ("orchard", "tree"):
        labels, expected = table.labels(name), plain.labels(name)
        assert [labels.texts[c] for c in labels.codes] == [expected.texts[c] for c in expected.codes]


@pytest.fixture
def plain(tmp_path):
    return read_table(_written(tmp_path / "plain.csv", ","))


@pytest.mark.parametrize("above", ["# heights, in metres\n", "# two lines\n# of words, and one comma\n", "#\n# x\n"])
def test_comment_lines_above_the_header_are_no_header(tmp_path, plain, above):
    _same(read_table(_written(tmp_path / "c.csv", ",", above)), plain)
    _same(read_table(_written(tmp_path / "c.txt", " ", above)), plain)


def test_a_header_that_is_itself_commented_out_names_the_columns(tmp_path, plain):
    _same(read_table(_written(tmp_path / "c.csv", ",", "# of 2025\n", "# orchard,tree,height")), plain)
    _same(read_table(_written(tmp_path / "c.txt", " ", "", "# orchard tree height")), plain)


@pytest.mark.parametrize("name", ["s.txt", "s.dat", "s"])
def test_columns_apart_by_spaces(tmp_path, plain, name):
    _same(read_table(_written(tmp_path / name, " ")), plain)


def test_a_name_that_begins_with_the_sign_stays_a_name(tmp_path):
    path = tmp_path / "t.csv"
    path.write_text("#tree,height\n1,2.5\n2,3.5\n")
    assert read_table(path).columns == ["#tree", "height"]


def test_labels_with_spaces_in_a_table_of_commas_stay_whole(tmp_path, plain):
    _same(read_table(_written(tmp_path / "t.txt", ",")), plain)


def test_a_line_of_too_many_cells_is_named(tmp_path):
    path = _written(tmp_path / "s.txt", " ")
    with path.open("a") as file:
        file.write("South t1 2.5 7\n")
    with pytest.raises(OrchardError, match=r"line 302 of s\.txt has 4 cells where the header has 3"):
        read_table(path)
