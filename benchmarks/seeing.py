"""Checks and pictures against the fit they belong to, measured in the same run.

    python benchmarks/seeing.py

Whole processes are timed in turn with the fit's (best of five); leaving units out is timed inside one process.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from gaussian import PROGRAM, TIMED, covariates, finish, line, race

LEAVING = """
import sys
from bold_orchard import read_table, fit
from bold_orchard.diagnostics.influence import influence
from bold_orchard.progress import silent
table = read_table(sys.argv[1])
made = fit(sys.argv[2], table)
best_fit = min(timed(lambda: fit(sys.argv[2], table)) for _ in range(3))
units = made.design.units[0]
best = min(timed(lambda: influence(made, units, False, silent)) for _ in range(3))
print(best_fit, best)
"""


def data(folder: Path, n: int, units: int) -> tuple[str, str]:
    """A table and its sentence: intercepts and slopes of rain vary."""
    r = np.random.default_rng(1)
    code = r.integers(0, units, n)
    frame = covariates(r, n)
    frame.insert(0, "orchard", code)
    u = r.normal(size=(units, 2))
    path = finish(frame, u[code, 0] + 0.5 * u[code, 1] * frame["rain"].to_numpy(), r, folder, "groves")
    return path, "yield = rain + sun; each orchard: intercept + rain"


def against(name: str, command: list[str], fitting: list[str], limit: float, runs: int) -> None:
    """A line: what a command takes beside the fit it belongs to."""
    ours, theirs, memory = race(command, fitting, runs)
    line(name, ours / theirs, limit, f"{ours:.2f} s, the fit {theirs:.2f} s, {memory:.0f} MB")


def millions(folder: Path) -> None:
    """What follows a fit of a million rows and 50,000 units."""
    path, sentence = data(folder, 1_000_000, 50_000)
    saved = str(folder / "large")
    fitting = [PROGRAM, "fit", path, sentence, "--quiet"]
    subprocess.run([*fitting, "--save", saved], check=True, capture_output=True)
    for name, more, limit in (
        ("check --figure, 1M rows, 50k units", ["check", saved, "--figure", str(folder / "c.png")], 4),
        ("predict --csv", ["predict", saved, "--csv", str(folder / "p.csv")], 2),
        ("groups --csv", ["groups", saved, "--csv", str(folder / "g.csv")], 4),
        ("intervals --method wald", ["intervals", saved, "--method", "wald"], 2),
        ("draw --figure", ["draw", saved, "--figure", str(folder / "d.png")], 8),
    ):
        against(name, [PROGRAM, *more, "--quiet"], fitting, limit, 3)


def main(folder: Path) -> None:
    path, sentence = data(folder, 100_000, 5_000)
    saved = str(folder / "m")
    fitting = [PROGRAM, "fit", path, sentence, "--quiet"]
    subprocess.run([*fitting, "--save", saved], check=True, capture_output=True)
    for name, more, limit in (
        ("check, 100k rows, 5k units, with its figure", ["--figure", str(folder / "c.png")], 3),
        ("   without", [], 2),
    ):
        against(name, [PROGRAM, "check", saved, *more], fitting, limit, 5)
    for kind in ("lines", "panels", "effects"):
        drawing = [PROGRAM, "draw", saved, "--kind", kind, "--figure", str(folder / "d.png")]
        against(f"draw --kind {kind}", drawing, fitting, 6, 3)
    done = subprocess.run(
        [sys.executable, "-c", TIMED + LEAVING, path, sentence], check=True, capture_output=True, text=True
    )
    one_fit, leaving = map(float, done.stdout.split())
    line("   leaving out each of 5k units, inside", leaving / one_fit, 5, f"{leaving:.3f} s, one fit {one_fit:.3f} s")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        main(Path(temporary))
        millions(Path(temporary))
