"""Cells that may mean two things are asked about, not read in one of them."""

from __future__ import annotations

import openpyxl
import pytest

from bold_orchard.data.pieces import pieces_of
from bold_orchard.data.read import read_table
from bold_orchard.errors import OrchardError

THOUSANDS = "plot;yield;x\na;1,234;2\na;933;3\nb;1,100;2\nb;870;1\n"


def written(folder, text, name="t.csv"):
    path = folder / name
    path.write_text(text)
    return path


def test_a_comma_before_three_digits_is_asked_about(tmp_path):
    with pytest.raises(
        OrchardError, match=r"'1,234' in column 'yield' of t.csv may be 1\.234 or 1234, .* write 1,2340 there"
    ):
        read_table(written(tmp_path, THOUSANDS))


@pytest.mark.parametrize("clear", ["0,234", "1,23", "1,2340", "1234,567", "-0,5"])
def test_one_clear_decimal_comma_answers_for_the_file(tmp_path, clear):
    table = read_table(written(tmp_path, THOUSANDS + f"c;950;{clear}\n"))
    assert table.numbers("yield")[0] == 1.234 and table.numbers("x")[-1] == float(clear.replace(",", "."))


def test_the_clear_cell_may_stand_below_the_first_fifty_rows(tmp_path):
    rows = "".join(f"a;{i};{i}\n" for i in range(80))
    table = read_table(written(tmp_path, "plot;yield;x\n" + rows + "b;12,5;3\n"))
    assert table.numbers("yield")[-1] == 12.5


def test_a_point_before_three_digits_among_decimal_commas_is_asked_about(tmp_path):
    text = "plot;yield;x\na;1.234;2,5\na;933;3\n"
    with pytest.raises(OrchardError, match=r"'1.234' in column 'yield' of t.csv may be 1.234 or 1234"):
        read_table(written(tmp_path, text))
    assert read_table(written(tmp_path, text + "b;0.25;1,5\n")).numbers("yield")[0] == 1.234
    assert read_table(written(tmp_path, text.replace("2,5", "2"))).numbers("yield")[0] == 1.234


def test_commas_inside_quotes_of_a_comma_file_are_no_numbers(tmp_path):
    assert read_table(written(tmp_path, 'plot,yield\na,"1,234"\nb,933\n')).kind("yield") == "category"


def workbook(path, header, more=()):
    book = openpyxl.Workbook()
    book.active.title = "harvest"
    book.active.append(header)
    for i in range(12):
        book.active.append([f"p{i % 3}", i * 1.5 + i % 4, i])
    for name in more:
        book.create_sheet(name).append(["something", "else"])
    book.save(path)
    return path


def test_two_columns_of_one_name_in_a_sheet_are_refused_as_in_text(tmp_path):
    path = workbook(tmp_path / "t.xlsx", ["plot", "yield", "yield"])
    with pytest.raises(OrchardError, match=r"t\.xlsx has two columns named 'yield'; rename one of them"):
        read_table(path)


def test_sheets_that_are_not_read_are_named(quick, tmp_path):
    path = workbook(tmp_path / "t.xlsx", ["plot", "yield", "x"], ["legend", "2023"])
    for command in (["scout", path], ["fit", path, "yield = x; each plot: intercept"]):
        told = quick(*command).out.replace("\n  ", " ")
        assert "t.xlsx has 3 sheets: 'harvest', the first, was read; not read: 'legend', '2023'." in told
    assert not read_table(workbook(tmp_path / "one.xlsx", ["plot", "yield", "x"])).notes


STRAY = "plot,x,y\n" + "".join(f"p{i % 5},{i * 0.37:.2f},{i % 7 + i / 9}\n" for i in range(60))


@pytest.mark.parametrize("more", [[], ["--memory", "1MB"]])
def test_a_stray_text_among_numbers_is_told_with_its_row(quick, tmp_path, more):
    written(tmp_path, STRAY.replace("14.80,", "n.d,"))
    made = quick("fit", "t.csv", "y = x; each plot: intercept", *more)
    assert made.code != 0 and not made.out
    assert (
        "column 'x' is text of 60 values, nearly all of them numbers ('n.d' in row 41); if that means missing: --missing n.d"
        in made.err
    )
    assert quick("fit", "t.csv", "y = x; each plot: intercept", "--missing", "n.d", *more).code == 0


def test_rows_left_out_do_not_make_the_others_categories(quick, tmp_path):
    written(tmp_path, STRAY.replace("14.80,", "n.d,"))
    made = quick("fit", "t.csv", "y = x; each plot: intercept", "--where", "x != 'n.d'")
    assert made.code != 0 and "text in rows that are left out" in made.err


def test_who_means_a_category_gets_it(quick, tmp_path):
    cells = "".join(f"p{i % 7},{i % 30 if i != 40 else 'b'},{i * i % 17 + i % 5}\n" for i in range(240))
    written(tmp_path, "plot,x,y\n" + cells)
    assert quick("fit", "t.csv", "y = x; each plot: intercept").code != 0
    assert quick("fit", "t.csv", "y = category(x); each plot: intercept").code == 0
    assert quick("fit", "t.csv", "y = intercept; each x: intercept").code == 0


def test_doses_with_a_control_stay_a_category(tmp_path):
    table = read_table(
        written(tmp_path, "dose,y\n" + "".join(f"{d},{i}\n" for i, d in enumerate(["0", "10", "20", "none"] * 9)))
    )
    assert table.stray_cells("dose") == ""


def test_in_pieces_the_doubtful_cell_is_asked_about_too(tmp_path):
    with pytest.raises(OrchardError, match=r"may be 1\.234 or 1234"):
        list(pieces_of(str(written(tmp_path, THOUSANDS)), ("plot", "yield"), (), None).tables())
