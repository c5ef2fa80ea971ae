"""Work that cannot fit into memory is refused before it begins, and what will take hours says so."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from bold_orchard import demo, machine
from bold_orchard.cli import progress
from bold_orchard.data.pieces import quarter_of_memory
from bold_orchard.errors import UsageError

DATA = Path(demo.__file__).parent / "data"


@pytest.fixture
def limited(monkeypatch, tmp_path):
    def to(text, second="9223372036854771712\n"):
        for name, value in (("max", text), ("limit", second)):
            (tmp_path / name).write_text(value)
        monkeypatch.setattr(machine, "GROUPS", (tmp_path / "max", tmp_path / "limit"))
        machine.memory.cache_clear()

    yield to
    machine.memory.cache_clear()


def test_the_limit_of_a_container_counts(limited):
    limited("max\n")
    whole = machine.memory()
    limited("400000000\n")
    assert machine.memory() == 400_000_000 and quarter_of_memory() == 100_000_000 and whole > 400_000_000
    limited("max\n", "300000000\n")
    assert machine.memory() == 300_000_000
    with pytest.raises(UsageError, match=r"tables take about 250 MB of memory, and there are 300 MB; ask for fewer"):
        machine.check_room(250e6, "tables", "ask for fewer")
    machine.check_room(200e6, "tables", "ask for fewer")


@pytest.fixture
def fitted(quick, harvest):
    (quick.folder / "blossom.csv").write_bytes((DATA / "blossom.csv").read_bytes())
    made = quick(
        "fit",
        "harvest.csv",
        "yield = rain + pruning; each orchard: intercept; each tree in orchard: intercept",
        "--missing",
        "-999",
        "--save",
        "m",
        "--quiet",
    )
    assert made.code == 0
    return quick


@pytest.mark.parametrize("words", [
    ["power", "m", "--rows", "1000000000"], ["power", "m", "--units", "orchard=1000000000"], ["power", "m", "--units", "tree in orchard=4000000000"],
    ["power", "m", "--runs", "100000000000"], ["intervals", "m", "--method", "bootstrap", "--samples", "1000000000000"],
    ["simulate", "m", "--draws", "1000000000", "--to", "x.csv"], ["sample", "m", "--draws", "100000000000"], ["sample", "m", "--warmup", "100000000000"],
    ["carry", "m", "blossom.csv", "bees = effect(orchard: intercept)", "--imputations", "1000000000000"],
    ["compare", "m", "n", "--bootstrap", "1000000000000"],
])  # fmt: skip
def test_sizes_beyond_memory_are_refused(fitted, words):
    if words[0] == "compare":
        assert (
            fitted(
                "fit",
                "harvest.csv",
                "yield = rain + pruning; each orchard: intercept",
                "--missing",
                "-999",
                "--save",
                "n",
                "--quiet",
            ).code
            == 0
        )
    made = fitted(*words)
    assert made.code == 2 and not made.out and "of memory, and there are" in made.err, made.err
    assert len(made.err.splitlines()) == 1 and not (fitted.folder / "x.csv").exists()


def test_a_category_of_too_many_levels_is_refused_with_what_to_do(quick, limited):
    limited("200000000\n")
    n = 20_000
    pd.DataFrame({"tree": [f"t{i // 2}" for i in range(n)], "y": np.arange(n) % 17 + np.arange(n) % 5}).to_csv(
        quick.folder / "t.csv", index=False
    )
    made = quick("fit", "t.csv", "y = tree")
    assert made.code == 2 and "the 10,000 columns of tree over 20,000 rows take about 1.6 GB" in made.err
    assert "each UNIT: intercept" in made.err


def test_what_will_take_hours_says_so_once(monkeypatch, capsys):
    now = [0.0]
    monkeypatch.setattr(progress.time, "monotonic", lambda: now[0])
    for quiet, told in ((False, 1), (True, 0)):
        now[0] = 0.0
        with progress.Steps("simulating", quiet) as steps:
            for done in range(1, 60):
                now[0] += 1.0
                steps(done, 1_000_000)
        said = capsys.readouterr().err
        assert said.count("simulating will take some 12 days more at this pace; Ctrl-C ends it") == told
    with progress.Steps("simulating", False) as steps:
        now[0] += 20.0
        steps(500, 1_000)
    assert not capsys.readouterr().err


def test_without_a_terminal_long_work_says_a_line_now_and_then(monkeypatch, capsys):
    clock = [0.0]
    monkeypatch.setattr(progress.time, "monotonic", lambda: clock[0])
    with progress.Steps("drawing", False) as steps:
        for second in range(0, 200, 5):
            clock[0] = float(second)
            steps(second, 400)
    lines = capsys.readouterr().err.splitlines()
    assert lines == [f"orchard: drawing: step {n} of 400, some {left} more" for n, left in
                     ((30, "6 minutes"), (90, "5 minutes"), (150, "4 minutes"))]  # fmt: skip
    clock[0] = 0.0
    with progress.Steps("drawing", True) as steps:
        for second in range(0, 200, 5):
            clock[0] = float(second)
            steps(second, 400)
    assert capsys.readouterr().err == ""
