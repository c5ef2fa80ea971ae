"""Labels that a terminal, a spreadsheet or a page would obey: formulas, escapes, marks of direction, and those that begin with '<'."""

from __future__ import annotations

import numpy as np
import openpyxl
import pandas as pd
import pytest

LABELS = ["=1+1", "+2", "-x", "@a", "<18", ">65", "\x1b[31mred", "a\u202eb", "plain"]


@pytest.fixture
def odd(quick):
    """A saved fit to data whose levels and units have such labels."""
    r = np.random.default_rng(0)
    rows = {"bed": LABELS * 8, "age": ["<18", ">=18"] * 36, "yield": r.normal(size=72)}
    pd.DataFrame(rows).to_csv(quick.folder / "odd.csv", index=False)
    assert quick("fit", "odd.csv", "yield = age; each bed: intercept", "--save", "odd").code in (0, 4)
    return quick


def test_the_page_shows_what_it_would_obey(odd):
    out = odd("groups", "odd").out
    assert "\x1b[31m" not in out and "\u202e" not in out
    assert "\\x1b[31mred" in out and "a\\u202eb" in out and "<18" in out and ">65" in out


def test_an_error_shows_it_too(odd):
    done = odd("fit", "odd.csv", "yield = a\x1b[31m; each bed: intercept")
    assert done.code == 3 and "\x1b" not in done.err


@pytest.mark.parametrize("ending", ["html", "md", "txt", "tex"])
def test_every_format_keeps_labels_that_begin_with_a_bracket(odd, ending):
    assert odd("means", "odd", "age", "--to", f"t.{ending}").code == 0
    text = (odd.folder / f"t.{ending}").read_text()
    assert any(mark in text for mark in ("<18", "&lt;18", "\\textless{}18", "\\<18", "$<$18")), text
    assert "\x1b" not in text


def test_a_workbook_holds_texts_and_is_the_same_file_again(odd):
    assert odd("groups", "odd", "--csv", "g.xlsx").code == 0
    first = (odd.folder / "g.xlsx").read_bytes()
    sheet = openpyxl.load_workbook(odd.folder / "g.xlsx").active
    cells = [c for column in sheet.columns for c in column]
    assert {c.data_type for c in cells} <= {"s", "n"}
    texts = {c.value for c in cells}
    assert {"=1+1", "+2", "-x", "@a", "<18", "plain", "\\x1b[31mred"} <= texts
    assert odd("groups", "odd", "--csv", "g.xlsx").code == 0
    assert (odd.folder / "g.xlsx").read_bytes() == first
