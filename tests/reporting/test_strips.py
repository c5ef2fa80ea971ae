"""Strips at the ends of rows, and where they are shown."""

from __future__ import annotations

import pandas as pd
import pytest

from bold_orchard.reporting.strips import WIDTH, bar, interval


def test_an_interval_stands_where_it_is():
    middle = WIDTH // 2
    clear, across = interval(2.0, (1.0, 3.0)), interval(0.5, (-1.0, 2.0))
    assert len(clear) == len(across) == WIDTH
    assert clear[middle] == "┊" and clear[-1] == "━" and clear.index("●") == middle + round(2 / 3 * (WIDTH - 1) / 2)
    assert across[middle] == "┿" and across.index("●") > middle
    assert interval(-2.0, (-3.0, -1.0)) == clear[::-1]
    assert interval(4.0, (2.0, 8.0), signed=False)[0] == "┊" and interval(1.0, (1.0, 1.0)).count("●") == 1
    assert (
        interval(None, (1.0, 2.0))
        == interval(1.0, None)
        == interval(1.0, (None, 2.0))
        == interval(0.0, (0.0, 0.0))
        == ""
    )


@pytest.mark.parametrize(("share", "cells"), [(1.0, 10), (0.5, 5), (0.04, 1), (0.0, 0)])
def test_a_bar_is_as_long_as_its_share(share, cells):
    assert len(bar(share)) == cells and bar(None) == bar(1.5) == ""


def test_strips_in_pipes_only_when_asked_and_where_there_is_room(quick, harvest, monkeypatch):
    fit = ("fit", "harvest.csv", "yield = rain + pruning; each orchard: intercept", "--missing", "-999", "--save", "m")
    monkeypatch.setenv("COLUMNS", "110")
    assert "●" not in quick(*fit).out
    for command in ("show m", "components m", "intervals m --method wald", "means m pruning --differences"):
        plain, with_strips = quick(*command.split()).out, quick(*command.split(), "--strips").out
        assert "●" not in plain and ("●" in with_strips or "█" in with_strips)
        bare = with_strips.translate(str.maketrans("", "", "●━┊┿█▏▎▍▌▋▊▉"))
        assert bare.split() == plain.split()
    monkeypatch.setenv("COLUMNS", "60")
    assert "●" not in quick("show", "m", "--strips").out


def test_tables_as_workbooks_and_endings_that_are_no_csv(quick, harvest):
    quick("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m")
    assert quick("groups", "m", "--csv", "g.xlsx").code == 0 and quick("groups", "m", "--csv", "g.csv").code == 0
    pd.testing.assert_frame_equal(pd.read_excel(quick.folder / "g.xlsx"), pd.read_csv(quick.folder / "g.csv"))
    assert quick("check", "m", "--csv", "r.xlsx", "--influence", "none").code == 0
    for option in (("groups", "m", "--csv"), ("check", "m", "--csv-units")):
        done = quick(*option, "a.json")
        assert done.code == 2 and "writes CSV (or .xlsx)" in done.err and option[-1] in done.err
    assert not (quick.folder / "a.json").exists()
