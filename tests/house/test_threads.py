"""Threads compute: nothing is imported in one of them, where an interrupted import of the main thread could hold it for ever."""

from __future__ import annotations

import json
import subprocess
import sys

import numpy as np
import pytest

WATCH = """
import json, sys, threading
found = []
def watch(event, arguments):
    if event == "import" and threading.current_thread() is not threading.main_thread():
        found.append((arguments[0], threading.current_thread().name))
sys.addaudithook(watch)
from bold_orchard.cli.main import main
code = main(json.loads(sys.argv[1]))
print(json.dumps([code, found]), file=sys.stderr)
"""
COMMANDS = ["fit t.csv 'y = x; each g: intercept + x' --figure f.png --save s --quiet", "check s --figure c.png", "predict s --csv p.csv", "groups s --csv g.csv",
            "draw s --figure d.png", "fit odd.csv 'y = x; each g: intercept' --quiet", "fit t.csv 'b = x; each g: intercept' --family binomial --quiet"]  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("threads")
    r = np.random.default_rng(1)
    rows = [f"g{i % 4000},{r.normal():.4f},{r.normal() + i % 5:.4f},{int(r.random() < 0.4)}" for i in range(60_000)]
    (made / "t.csv").write_text("\n".join(["g,x,y,b", *rows]))
    (made / "odd.csv").write_text("\r\n".join(["g,x,y,b", *rows[:20_000], '"g\n1",1,2,1']), encoding="cp1252")
    return made


@pytest.mark.slow
def test_no_thread_imports(folder):
    import shlex

    for command in COMMANDS:  # in their order: later ones need the fit of the first
        words = json.dumps(shlex.split(command))
        done = subprocess.run(
            [sys.executable, "-c", WATCH, words], cwd=folder, capture_output=True, text=True, timeout=120
        )
        code, found = json.loads(done.stderr.splitlines()[-1])
        assert code == 0 and found == [], (command, found)
