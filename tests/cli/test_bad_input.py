"""Whatever is wrong with the input: one clear line, the right exit code, no traceback, nothing half-written."""

from __future__ import annotations

import pytest

GOOD = "unit,x,z,y\n" + "".join(f"u{i % 4},{i},{i % 4},{(i * 7) % 11}.5\n" for i in range(24))
MODEL = "y = x; each unit: intercept"


def refused(done, code, *words):
    assert done.code == code, (done.out, done.err)
    assert done.out == ""
    assert done.err.startswith("orchard: ") and "Traceback" not in done.err
    first, *rest = done.err.rstrip("\n").splitlines()
    assert not rest or (len(rest) == 2 and set(rest[1].strip()) == {"^"}), done.err  # sentence and caret only
    for word in words:
        assert word in first, (word, first)


CASES = [
    ("empty file", "", MODEL, ("is empty",)),
    ("header only", "unit,x,z,y\n", MODEL, ("no rows",)),
    ("unknown column", GOOD, "y = xx; each unit: intercept", ("no column 'xx'", "did you mean 'x'")),
    ("unknown unit", GOOD, "y = x; each unt: intercept", ("no column 'unt'", "did you mean 'unit'")),
    ("text outcome", GOOD, "unit = x", ("'unit' is text", "needs numbers")),
    ("as many levels as rows", GOOD, "y = z; each x: intercept", ("as many levels as there are rows",)),
    (
        "constant slope",
        GOOD,
        "y = x; each unit: intercept + z",
        ("'z' does not vary inside any unit", "write: y = x; each unit: intercept", "--force"),
    ),
    ("all missing", "unit,x,y\na,1,\na,2,NA\nb,3,.\n", MODEL, ("missing in every row",)),
    ("no complete row", "unit,x,y\na,,1\na,,2\nb,,4\nb,3,\n", MODEL, ("no row", "complete")),
    ("infinite value", GOOD.replace("u1,5,", "u1,inf,"), MODEL, ("'x' is infinite in 1 row", "6")),
    ("twin columns", GOOD.replace("unit,x,z,y", "unit,x,x,y"), MODEL, ("two columns named 'x'",)),
    ("ragged line", GOOD.replace("u1,5,", "u1,9,9,5,"), MODEL, ("line 7", "cells")),
    ("mostly numbers", GOOD.replace("0.5\n", "n/a\n"), MODEL, ("'y' is text", "--missing n/a")),
    ("log of zero", GOOD, "y = log(x); each unit: intercept", ("log(x)", "not a finite number", "1 row")),
    ("time twice", GOOD, "y = x; within unit: ar1(z)", ("unit u0 has z = 0 twice", "rows 1 and 5")),
    ("time as text", GOOD, "y = x; within unit: ar1(unit)", ("ar1 needs numbers",)),
    (
        "constant spread",
        GOOD,
        "y = x; each unit: intercept; spread = calc(0 * x + 1)",
        ("spread cannot depend", "same in every row"),
    ),
    ("no pairs", GOOD, "y = z; within x: exchangeable", ("no x has two rows",)),
    ("no matrix", GOOD, 'y = x; each unit (known "kin.csv"): intercept', ("no file kin.csv", "working folder")),
    (
        "too many covariances",
        GOOD + GOOD.split("\n", 1)[1] * 3,
        "y = x; each unit: power(x, 8)",
        ("36 variances and covariances", "(diagonal)"),
    ),
    ("too many effects", GOOD, "y = x; each unit: power(x, 6)", ("24 random effects", "from 24 rows")),
]


@pytest.mark.parametrize(("name", "text", "sentence", "words"), CASES, ids=[c[0] for c in CASES])
def test_bad_tables_and_sentences(orchard, name, text, sentence, words):
    (orchard.folder / "t.csv").write_text(text)
    done = orchard("fit", "t.csv", sentence, "--save", "m")
    refused(done, 3, *words)
    assert not (orchard.folder / "m.fit.json").exists()


def test_no_such_file(orchard):
    (orchard.folder / "harvest.csv").write_text(GOOD)
    refused(orchard("fit", "harvst.csv", MODEL), 3, "no file harvst.csv", "did you mean harvest.csv")
    refused(orchard("scout", "nowhere/t.csv"), 3, "folder nowhere does not exist")
    (orchard.folder / "bare").mkdir()
    refused(orchard("scout", "bare"), 3, "folder without tables")


def test_constant_outcome_one_level_and_two_values(orchard):
    (orchard.folder / "t.csv").write_text("unit,x,y,b\na,1,5,0\na,2,5,1\na,3,5,0\na,4,5,1\n")
    refused(orchard("fit", "t.csv", "y = x"), 3, "'y' is 5 in every row")
    refused(orchard("fit", "t.csv", "x = intercept; each unit: intercept"), 3, "'unit' has one level only")
    refused(orchard("fit", "t.csv", "b = x"), 3, "two values 0 and 1", "--family")
    assert orchard("fit", "t.csv", "b = x", "--family", "gaussian").code == 0


@pytest.mark.parametrize("content", [b"\x89PNG\r\n\x1a\n\0\0\0", bytes(range(256)), b"a,b\n\x00\x01,2\n"])
def test_a_file_that_is_not_text(orchard, content):
    (orchard.folder / "t.csv").write_bytes(content)
    refused(orchard("scout", "t.csv"), 3, "is not a text file")


def test_targets_that_cannot_be_written(orchard):
    (orchard.folder / "t.csv").write_text(GOOD)
    refused(orchard("fit", "t.csv", MODEL, "--save", "no/such/m"), 3, "cannot be written", "no folder")
    refused(orchard("fit", "t.csv", MODEL, "--csv", "no/such.csv"), 3, "cannot be written")
    refused(orchard("fit", "t.csv", MODEL, "--figure", "m.gif"), 2, ".png")
    (orchard.folder / "m.fit.json").mkdir()
    refused(orchard("fit", "t.csv", MODEL, "--save", "m"), 3, "is a folder")
    (orchard.folder / "parts").mkdir()
    refused(orchard("fit", "t.csv", MODEL, "--save", "parts/"), 3, "is a folder")
    refused(orchard("fit", "t.csv", MODEL, "--csv", "parts"), 3, "is a folder")
    assert orchard("fit", "t.csv", MODEL, "--save", "parts").code == 0  # the file is parts.fit.json
    assert orchard("show", "parts").code == 0


def test_wrong_command_lines(orchard):
    (orchard.folder / "t.csv").write_text(GOOD)
    refused(orchard("fitt"), 2, "no command 'fitt'", "did you mean 'fit'")
    refused(orchard("fit", "t.csv"), 2, "SENTENCE", "--help")
    refused(orchard("fit", "t.csv", MODEL, "--sav", "m"), 2, "--sav")
    refused(orchard("fit", "t.csv", MODEL, "--confidence", "95"), 2, "between 0 and 1")
    refused(orchard("fit", "t.csv", MODEL, "--family", "poisson"), 3, "must be whole numbers of zero or more")
    refused(orchard("fit", "t.csv", MODEL, "--baseline", "unit"), 2, "COLUMN=LEVEL")
    refused(orchard("compare", "m"), 3, "no saved fit 'm'")


def test_baselines_and_weights_that_do_not_exist(orchard):
    (orchard.folder / "t.csv").write_text(GOOD)
    refused(orchard("fit", "t.csv", "y = unit", "--baseline", "unit=u9"), 3, "no level 'u9'")
    assert "was not needed" in orchard("fit", "t.csv", "y = x", "--baseline", "unit=u1").out
    refused(orchard("fit", "t.csv", "y = unit", "--weights", "x"), 3, "weights must be positive", "first: 1")
    refused(orchard("fit", "t.csv", "y = unit", "--where", "x > 100"), 3, "no row")


def test_force_goes_on_with_a_constant_slope(orchard):
    (orchard.folder / "t.csv").write_text(GOOD)
    done = orchard("fit", "t.csv", "y = x; each unit: intercept + z", "--force", "--json")
    assert done.code in (0, 4)
    assert any("--force" in n for n in done.json["notes"])


def test_a_broken_or_outdated_saved_fit(orchard):
    (orchard.folder / "t.csv").write_text(GOOD)
    assert orchard("fit", "t.csv", MODEL, "--save", "m").code == 0
    (orchard.folder / "t.csv").write_text(GOOD.replace("u1,5,", "u1,6,"))
    refused(orchard("check", "m"), 3, "has changed since 'm' was fitted")
    (orchard.folder / "t.csv").unlink()
    refused(orchard("components", "m"), 3, "data of fit 'm' are gone")
    (orchard.folder / "m.fit.json").write_text("{")
    refused(orchard("show", "m"), 3, "is not a saved fit")


def test_a_defect_of_ours_is_one_line(orchard, monkeypatch, capsys):
    from bold_orchard.cli import driver
    from bold_orchard.cli.main import main

    monkeypatch.setattr(driver, "run", lambda command, args: {}["x"])
    assert main(["fit", "t.csv", MODEL]) == 1
    assert capsys.readouterr().err.startswith("orchard: a defect of ours: KeyError")


def test_arithmetic_that_breaks_down_is_one_line_about_the_model(monkeypatch, capsys):
    import numpy as np

    from bold_orchard.cli import driver
    from bold_orchard.cli.main import main

    def broken(command, args):
        raise np.linalg.LinAlgError("Singular matrix")

    monkeypatch.setattr(driver, "run", broken)
    assert main(["fit", "t.csv", MODEL]) == 3
    assert "double precision" in capsys.readouterr().err


MATRICES = [
    ("not square", ",u0,u1\nu0,1,0\nu1,0,1\nu2,0,0\n", "not square"),
    ("asymmetric", ",u0,u1,u2,u3\nu0,1,0.5,0,0\nu1,0,1,0,0\nu2,0,0,1,0\nu3,0,0,0,1\n", "not symmetric: (u0, u1)"),
    ("indefinite", ",u0,u1,u2,u3\nu0,1,2,0,0\nu1,2,1,0,0\nu2,0,0,1,0\nu3,0,0,0,1\n", "not positive definite"),
    ("a unit missing", ",u0,u1,u2\nu0,1,0,0\nu1,0,1,0\nu2,0,0,1\n", "no row for unit u3"),
    ("a gap", ",u0,u1\nu0,1,\nu1,0,1\n", "not a number"),
    ("a label twice", ",u0,u0\nu0,1,0\nu0,0,1\n", "label twice"),
]


@pytest.mark.parametrize(("name", "matrix", "words"), MATRICES, ids=[m[0] for m in MATRICES])
def test_bad_matrices(orchard, name, matrix, words):
    (orchard.folder / "t.csv").write_text(GOOD)
    (orchard.folder / "kin.csv").write_text(matrix)
    refused(orchard("fit", "t.csv", 'y = x; each unit (known "kin.csv"): intercept'), 3, "kin.csv", words)


def test_given_needs_the_terms_of_the_clause(orchard):
    (orchard.folder / "t.csv").write_text(GOOD)
    (orchard.folder / "g.csv").write_text(",intercept,z\nintercept,1,0\nz,0,1\n")
    refused(orchard("fit", "t.csv", 'y = x; each unit (given "g.csv"): intercept + x'), 3, "no row for the term x")
    (orchard.folder / "g.csv").write_text(",intercept,x\nintercept,1,2\nx,2,1\n")
    refused(orchard("fit", "t.csv", 'y = x; each unit (given "g.csv"): intercept + x'), 3, "not positive semi-definite")


def test_an_extra_that_is_not_installed_is_named_before_any_work(quick, monkeypatch):
    import importlib.util

    (quick.folder / "t.csv").write_text(GOOD)
    known = importlib.util.find_spec
    monkeypatch.setattr(
        importlib.util, "find_spec", lambda name, *more: None if name == "openpyxl" else known(name, *more)
    )
    done = quick("fit", "t.csv", "y = x; each unit: intercept", "--csv", "out.xlsx", "--save", "m")
    refused(done, 3, "bold-orchard[excel]")
    assert not (quick.folder / "m.fit.json").exists()


def test_a_file_that_is_not_what_its_name_says(orchard):
    (orchard.folder / "t.parquet").write_bytes(b"PAR1")
    refused(orchard("scout", "t.parquet"), 3, "t.parquet cannot be read")


@pytest.mark.slow
def test_large_crossings_beside_what_needs_a_factor_are_refused_by_name(orchard):
    import numpy as np
    import pandas as pd

    r = np.random.default_rng(1)
    frame = pd.DataFrame({"tree": r.integers(0, 14000, 40000), "picker": r.integers(0, 13000, 40000)})
    frame.assign(y=r.normal(size=40000).round(3)).to_csv(orchard.folder / "t.csv", index=False)
    sentence = "y = intercept; each tree: intercept; each picker: intercept"
    refused(orchard("fit", "t.csv", sentence + "; within tree: exchangeable"), 3, "picker (", "too many beside within")
    d = orchard("fit", "t.csv", sentence, "--json").json  # alone they are fitted; of noise two variances of nothing
    assert d["convergence"]["converged"] and max(d["random"][0]["sd"][0], d["random"][1]["sd"][0]) < 0.2


def test_a_column_that_is_not_there_is_told_by_columns_alone(quick):
    (quick.folder / "t.csv").write_text("y,g\n1,a\n2,b\n3,a\n")
    assert quick("fit", "t.csv", "y = zzz; each g: intercept").err.splitlines()[0].endswith("there are: y, g")
    assert "did you mean 'intercept'?" in quick("fit", "t.csv", "y = intercpt; each g: intercept").err
