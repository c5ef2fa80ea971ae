"""A library changes nothing of the process that calls it."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

SCRIPT = """
import json, os, signal, sys, warnings
import matplotlib, numpy as np, scipy.stats, threading
from mpl_toolkits.mplot3d import Axes3D  # noqa
import bold_orchard as bo

def state():
    return {
        "folder": os.getcwd(), "environment": dict(os.environ), "warnings": [str(f[:3]) for f in warnings.filters], "style": {k: str(v) for k, v in matplotlib.rcParams.items()},
        "arithmetic": str(np.geterr()), "print": str(np.get_printoptions()), "docstrings": [bool(np.dot.__doc__), bool(np.ndarray.sum.__doc__), bool(scipy.stats.norm.__doc__)],
        "signals": [str(signal.getsignal(s)) for s in (signal.SIGINT, signal.SIGTERM)], "recursion": sys.getrecursionlimit(), "switch": sys.getswitchinterval(),
        "streams": [id(sys.stdout), id(sys.stderr)], "random": str(np.random.get_state()[1][:5]), "projections": matplotlib.projections.get_projection_names(),
    }

before = state()
fit = bo.fit("yield = rain; each orchard: intercept", "harvest.csv", missing=["-999"])
fit.check().figure(); fit.check().save("c.png"); fit.groups().save("g.svg");
fit.intervals(method="bootstrap", samples=40)
fit.save("m")
bo.run("p.toml")
after = state()
print(json.dumps([k for k in before if before[k] != after[k]]))
"""

PLAN = """title = "t"
[data]
file = "harvest.csv"
missing = ["-999"]
[fits.m1]
sentence = "yield = rain; each orchard: intercept"
[[steps]]
command = "check"
fit = "m1"
figure = "c.png"
"""


@pytest.mark.slow
def test_nothing_is_left_changed(tmp_path, harvest):
    (tmp_path / "p.toml").write_text(PLAN)
    done = subprocess.run([sys.executable, "-c", SCRIPT], cwd=tmp_path, capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout.splitlines()[-1]) == [], done.stderr
    assert (tmp_path / "p" / "m1.fit.json").exists(), done.stderr
