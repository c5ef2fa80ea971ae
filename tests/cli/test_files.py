"""Tables as CSV beside the main one, labels in columns of their own, and completion by the tab key."""

from __future__ import annotations

import csv

import numpy as np
import pandas as pd
import pytest

from bold_orchard.cli.main import COMMANDS
from builders import make_trees


def rows_of(path):
    with path.open(newline="") as f:
        return list(csv.DictReader(f))


def test_every_figure_of_a_fit_has_a_table(quick, harvest):
    sentence = "yield = rain; each orchard: intercept + rain; each tree in orchard: intercept"
    options = (
        "--missing",
        "-999",
        "--save",
        "m",
        "--csv-variation",
        "v.csv",
        "--csv-figures",
        "f.csv",
        "--csv",
        "c.csv",
        "--json",
    )
    d = quick("fit", "harvest.csv", sentence, *options).json
    variation = rows_of(quick.folder / "v.csv")
    g = d["random"][0]
    assert [float(r["covariance"]) for r in variation[:3]] == [
        g["covariance"][0][0],
        g["covariance"][1][0],
        g["covariance"][1][1],
    ]
    assert float(variation[1]["correlation"]) == g["correlation"][1][0] and variation[-1]["group"] == "residual"
    figures = {r["figure"]: r["value"] for r in rows_of(quick.folder / "f.csv")}
    assert float(figures["loglik"]) == d["fit"]["loglik"] and int(figures["levels of tree in orchard"]) == 240
    again = quick("show", "m", "--csv-variation", "w.csv", "--json")
    assert again.code == 0 and rows_of(quick.folder / "w.csv") == variation
    units = [r for r in rows_of_groups(quick) if r["group"] == "tree in orchard"]
    assert len(units) == 240 and all(f"{r['tree']} in {r['orchard']}" == r["level"] for r in units)
    assert "no folder" in quick("show", "m", "--csv-figures", "no/where.csv").err


def rows_of_groups(quick):
    assert quick("groups", "m", "--csv", "g.csv").code == 0
    return rows_of(quick.folder / "g.csv")


def test_a_column_of_the_user_called_row_or_predicted_stays_theirs(quick):
    frame = make_trees()
    unit, outcome = frame.columns[0], frame.select_dtypes("number").columns[-1]
    frame["row"], frame["predicted"] = [f"R{i}" for i in range(len(frame))], 7
    frame.to_csv(quick.folder / "t.csv", index=False)
    assert quick("fit", "t.csv", f"[{outcome}] = intercept; each [{unit}]: intercept", "--save", "m").code == 0
    rows = quick("predict", "m", "--json", "--csv", "p.csv").json["rows"]
    assert rows[2]["row"] == "R2" and rows[2]["row of m"] == 3 and rows[2]["predicted"] == 7
    assert rows_of(quick.folder / "p.csv")[2]["row"] == "R2"
    quick("check", "m", "--csv", "k.csv")
    assert np.array_equal(pd.read_csv(quick.folder / "k.csv")["row of m"], np.arange(1, len(frame) + 1))


@pytest.mark.parametrize(("line", "expected"), [
    ("orchard fi", {"fit"}), ("orchard fit --fam", {"--family"}), ("orchard check sl", {"slopes"}), ("orchard compare empty s", {"slopes"}),
])  # fmt: skip
def test_the_tab_key_knows_commands_options_and_fits(orchard, monkeypatch, line, expected):
    pytest.importorskip("argcomplete")
    for name in ("slopes", "empty"):
        (orchard.folder / f"{name}.fit.json").write_text("{}")
    told = orchard.folder / "told"
    for key, value in {"COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE": "1", "_ARGCOMPLETE_STDOUT_FILENAME": str(told),
                       "_ARGCOMPLETE_IFS": "\n"}.items():  # fmt: skip
        monkeypatch.setenv(key, value)
    orchard()
    assert {w.strip() for w in told.read_text().split("\n") if w.strip()} == expected


def test_each_shell_gets_its_lines(quick):
    pytest.importorskip("argcomplete")
    for shell in ("bash", "zsh", "fish"):
        assert "orchard" in quick("completion", shell).out
    assert quick("completion", "csh").code == 2 and "completion" in COMMANDS
