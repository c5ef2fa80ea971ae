"""Programs that are stopped, pipes that close, writers that meet: no orphans, no traceback, files whole or as they were."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import time

import numpy as np
import pandas as pd
import pytest

from builders import groves, inspections
from conftest import PROGRAM

LONG = {
    "sample": ("sample", "a", "--warmup", "20000", "--keep", "out.parquet", "--save", "out"),
    "bootstrap": ("intervals", "a", "--method", "bootstrap", "--samples", "100000", "--csv", "out.csv"),
    "compare": ("compare", "e", "a", "--bootstrap", "100000", "--to", "out.html"),
    "power": ("power", "a", "--effect", "rain = 0.1", "--runs", "100000", "--units", "orchard=40", "--to", "out.txt"),
    "influence": ("check", "b", "--influence", "exact", "--figure", "out.png"),
    "carry": ("carry", "a", "second.csv", "price = effect(orchard: intercept)", "--imputations", "100000", "--csv", "out.csv"),
}  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("long")
    groves(30, 6).to_csv(made / "g.csv", index=False)
    inspections(2500, 220).to_csv(made / "i.csv", index=False)
    pd.DataFrame({"orchard": [f"o{k}" for k in range(30)], "price": np.arange(30.0)}).to_csv(
        made / "second.csv", index=False
    )
    for arguments in (("g.csv", "yield = rain; each orchard: intercept", "--save", "a"), ("g.csv", "yield = intercept; each orchard: intercept", "--save", "e"),
                      ("i.csv", "aphids = rain + spray; each orchard: intercept + rain", "--family", "negative-binomial", "--save", "b")):  # fmt: skip
        assert subprocess.run([PROGRAM, "fit", *arguments], cwd=made, capture_output=True).returncode == 0
    return made


def _from_a_terminal():
    """Where the tests themselves run in the background, Ctrl-C may be turned off for all that they start."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


@pytest.fixture
def begun():
    """Starts a command in a group of its own, as a terminal does; what is left of it in the end is killed."""
    groups = []

    def start(folder, arguments, **how):
        made = subprocess.Popen([PROGRAM, *arguments], cwd=folder, start_new_session=True, stderr=subprocess.PIPE, text=True,
                                preexec_fn=_from_a_terminal, **how)  # noqa: PLW1509  # fmt: skip
        groups.append(made.pid)
        return made

    yield start
    for group in groups:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(group, signal.SIGKILL)


def gone(group, seconds=10.0):
    """Whether no process of a group is left."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        try:
            os.killpg(group, 0)
        except ProcessLookupError:
            return True
        time.sleep(0.05)
    return False


@pytest.mark.parametrize("name", LONG)
@pytest.mark.slow
def test_ctrl_c_ends_a_long_command_and_all_its_workers(folder, begun, name):
    """As the terminal does it, the signal goes to the whole group; nothing is left running, nothing half-written."""
    before = set(folder.iterdir())
    running = begun(folder, LONG[name], stdout=subprocess.PIPE)
    time.sleep(4.0)
    assert running.poll() is None, running.stderr.read()
    os.killpg(running.pid, signal.SIGINT)
    out, err = running.communicate(timeout=20)
    assert running.returncode == 130 and "Traceback" not in err and not out.strip(), (running.returncode, err)
    assert len(err.strip().splitlines()) <= 1
    assert gone(running.pid)
    assert set(folder.iterdir()) == before


@pytest.mark.slow
def test_terminated_workers_follow_their_parent(folder, begun):
    """Told to end without the terminal: the parent goes, and no worker stays behind."""
    running = begun(folder, LONG["sample"], stdout=subprocess.DEVNULL)
    time.sleep(4.0)
    os.kill(running.pid, signal.SIGTERM)
    running.wait(timeout=20)
    assert gone(running.pid)


@pytest.mark.few(2)
@pytest.mark.parametrize("delay", [0.9, 1.2, 1.5, 1.8, 2.4])
def test_killed_at_any_moment_files_are_whole_or_as_they_were(folder, begun, tmp_path, delay):
    """kill -9 while a fit is saved, drawn and written: each file is the old one or the new one."""
    names = ("s.fit.json", "s.csv", "s.html", "s.png")
    command = (
        "fit",
        str(folder / "g.csv"),
        "yield = rain; each orchard: intercept",
        "--save",
        "s",
        "--csv",
        "s.csv",
        "--to",
        "s.html",
        "--figure",
        "s.png",
    )
    old = {n: b"old " + n.encode() for n in names}
    for name, content in old.items():
        (tmp_path / name).write_bytes(content)
    running = begun(tmp_path, command, stdout=subprocess.DEVNULL)
    time.sleep(delay)
    running.kill()
    running.wait()
    for name in names:
        content = (tmp_path / name).read_bytes()
        if content == old[name]:
            continue
        if name.endswith(".json"):
            json.loads(content)
        assert content.endswith(
            {"s.csv": b"\n", "s.html": b"</html>\n", "s.png": b"IEND\xaeB`\x82", "s.fit.json": b"\n"}[name]
        ), name
    assert {p.name for p in tmp_path.iterdir() if not p.name.startswith(".")} == set(names)


@pytest.mark.few(1)
@pytest.mark.parametrize("command", [("groups", "b"), ("predict", "b", "--json"), ("show", "a"), ("power", "--help")])
def test_a_pipe_that_closes_early_is_no_fault(folder, begun, command):
    running = begun(folder, command, stdout=subprocess.PIPE)
    running.stdout.read(20)
    running.stdout.close()
    err = running.stderr.read()
    running.wait(timeout=60)
    assert "Traceback" not in err and "Error" not in err and "Exception" not in err, err
    assert gone(running.pid)


@pytest.mark.slow
def test_two_writers_of_one_name_leave_one_whole_file(folder, begun, tmp_path):
    sentences = ("yield = rain; each orchard: intercept", "yield = intercept; each orchard: intercept")
    running = [
        begun(tmp_path, ("fit", str(folder / "g.csv"), s, "--save", "same"), stdout=subprocess.DEVNULL)
        for s in sentences * 2
    ]
    assert [r.wait(timeout=60) for r in running] == [0] * 4
    assert json.loads((tmp_path / "same.fit.json").read_text())["model"] in sentences
    assert [p.name for p in tmp_path.iterdir()] == ["same.fit.json"]
