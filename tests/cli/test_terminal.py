"""Any width from 60 columns up: nothing is cut, running text wraps; on a terminal one line says what usually comes next."""

from __future__ import annotations

import os
import pty
import subprocess

import pytest

from conftest import DATA, PROGRAM

MODEL = "yield = centre(rain)*pruning + centre(rain) + pruning; each orchard: intercept + centre(rain); each tree in orchard: intercept"


@pytest.fixture(scope="module")
def saved(tmp_path_factory):
    folder = tmp_path_factory.mktemp("wide")
    (folder / "harvest.csv").write_bytes((DATA / "harvest.csv").read_bytes())
    for name, sentence in (("large", MODEL), ("small", "yield = pruning; each orchard: intercept")):
        subprocess.run(
            [PROGRAM, "fit", "harvest.csv", sentence, "--missing", "-999", "--save", name],
            cwd=folder,
            check=True,
            capture_output=True,
        )
    return folder


@pytest.mark.slow
@pytest.mark.parametrize("columns", [40, 60, 80, 120, 300])
@pytest.mark.parametrize(
    "command",
    [("show", "large"), ("compare", "small", "large"), ("components", "large"), ("terms", "large")],
    ids=lambda c: c[0],
)
def test_every_width_shows_every_figure(saved, command, columns):
    done = subprocess.run(
        [PROGRAM, *command], cwd=saved, capture_output=True, text=True, env=os.environ | {"COLUMNS": str(columns)}
    )
    lines = done.stdout.splitlines()
    assert "…" not in done.stdout and max(map(len, lines)) <= max(min(columns, 120), 80)
    prose = [line for line in lines if line.count("  ") == 0]
    assert max(map(len, prose)) <= max(min(columns, 88), 60)
    usual = subprocess.run([PROGRAM, *command], cwd=saved, capture_output=True, text=True).stdout
    assert sorted("".join(usual.split())) == sorted("".join(done.stdout.split()))


def on_a_terminal(folder, *command):
    above, below = pty.openpty()
    done = subprocess.run(
        [PROGRAM, *command],
        cwd=folder,
        stdout=below,
        stderr=subprocess.PIPE,
        env=os.environ | {"NO_COLOR": "1", "COLUMNS": "100"},
    )
    os.close(below)
    out = b""
    while True:
        try:
            piece = os.read(above, 65536)
        except OSError:
            break
        if not piece:
            break
        out += piece
    os.close(above)
    assert done.returncode == 0
    return out.decode().replace("\r\n", "\n")


@pytest.mark.slow
def test_a_terminal_is_told_what_usually_comes_next(saved):
    assert on_a_terminal(saved, "show", "small").rstrip().endswith("next: orchard check small")
    assert on_a_terminal(saved, "components", "small").rstrip().endswith("next: orchard terms small")
    scouted = on_a_terminal(saved, "scout", "harvest.csv", "--missing", "-999").rstrip().splitlines()[-1]
    assert (
        scouted
        == "next: orchard fit harvest.csv 'yield = intercept; each orchard: intercept' --missing -999 --save empty"
    )
    for quiet in (("show", "small", "--quiet"), ("show", "small", "--json")):
        assert "next:" not in on_a_terminal(saved, *quiet)
    assert "next:" not in subprocess.run([PROGRAM, "show", "small"], cwd=saved, capture_output=True, text=True).stdout
