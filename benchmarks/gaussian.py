"""Speed and memory of Gaussian fits, each as a ratio to a yardstick measured in the same run.

    python benchmarks/gaussian.py            all cases
    python benchmarks/gaussian.py slopes ar1 some of them

Whole processes are timed in turn with their yardstick (best of three); made-up data go to a temporary folder.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd

PROGRAM = str(Path(sys.executable).parent / "orchard")
READ = "import pandas as pd, sys; pd.read_csv(sys.argv[1])"
INSIDE = """
import sys, time
import pandas as pd
import scipy.special
from bold_orchard import read_table, fit
from bold_orchard.sentence.parse import read_sentence
best_read = min(timed(lambda: pd.read_csv(sys.argv[1])) for _ in range(3))
table = read_table(sys.argv[1])
spec = read_sentence(sys.argv[2])
best_fit = min(timed(lambda: fit(spec, table)) for _ in range(3))
print(best_read, best_fit)
"""
TIMED = """
def timed(f):
    import time
    start = time.perf_counter(); f(); return time.perf_counter() - start
"""
CHOLESKY = """
import numpy as np, time
from scipy.linalg import lapack
r = np.random.default_rng(1)
a = r.normal(size=(3000, 3000)); a = a @ a.T + 3000 * np.eye(3000)
best = 1e9
for _ in range(3):
    start = time.perf_counter(); lapack.dpotrf(a, lower=1); best = min(best, time.perf_counter() - start)
print(best)
"""


def wall(command: list[str]) -> tuple[float, float]:
    """Seconds and peak megabytes of one process."""
    before = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    assert os.waitstatus_to_exitcode(status) in (0, 4), command
    return time.perf_counter() - before, usage.ru_maxrss / 1024


def race(ours: list[str], theirs: list[str], runs: int = 3) -> tuple[float, float, float]:
    """Best seconds of ours and of the yardstick, run in turn, and our peak megabytes."""
    pairs = [(wall(ours), wall(theirs)) for _ in range(runs)]
    return min(a[0] for a, _ in pairs), min(b[0] for _, b in pairs), max(a[1] for a, _ in pairs)


def line(name: str, ratio: float, limit: float, detail: str) -> None:
    print(f"{name:<46} {ratio:6.2f} x  (limit {limit:g} x)  {detail}", flush=True)


def covariates(r: np.random.Generator, n: int) -> pd.DataFrame:
    return pd.DataFrame({k: r.normal(size=n).round(4) for k in ("rain", "sun", "frost", "wind")})


def finish(frame: pd.DataFrame, effect: np.ndarray, r: np.random.Generator, folder: Path, name: str) -> str:
    frame["yield"] = (1 + 0.5 * frame["rain"] - 0.2 * frame["sun"] + effect + r.normal(size=len(frame))).round(4)
    path = folder / f"{name}.csv"
    frame.to_csv(path, index=False)
    return str(path)


def slopes(folder: Path) -> None:
    r = np.random.default_rng(1)
    n, units = 1_000_000, 50_000
    g = r.integers(0, units, n)
    frame = covariates(r, n)
    frame.insert(0, "tree", g)
    path = finish(frame, r.normal(size=units)[g] + 0.5 * r.normal(size=units)[g] * frame["rain"], r, folder, "slopes")
    sentence = "yield = rain + sun + frost + wind; each tree: intercept + rain"
    done = subprocess.run(
        [sys.executable, "-c", TIMED + INSIDE, path, sentence], capture_output=True, text=True, check=True
    )
    read, fit = map(float, done.stdout.split())
    line("1M rows, 50k units, slopes: fit after reading", fit / read, 1.5, f"{fit:.3f} s, reading {read:.3f} s")
    ours, theirs, memory = race([PROGRAM, "fit", path, sentence, "--quiet"], [sys.executable, "-c", READ, path], 5)
    line("   the whole process", ours / theirs, 1, f"{ours:.2f} s, yardstick {theirs:.2f} s")
    used = 6 * n * 8 / 2**20
    line("   memory", memory / (8 * used + 150), 1, f"{memory:.0f} MB")


def small(folder: Path) -> None:
    r = np.random.default_rng(2)
    g = np.repeat(np.arange(50), 20)
    frame = covariates(r, 1000)
    frame.insert(0, "tree", g)
    path = finish(frame, r.normal(size=50)[g], r, folder, "small")
    yardstick = [sys.executable, "-c", "import numpy, scipy.linalg"]
    command = [PROGRAM, "fit", path, "yield = rain + sun; each tree: intercept + rain"]
    ours, theirs, _ = race(command, yardstick, 7)
    line("1,000 rows: the whole process", ours / theirs, 1.5, f"{ours:.2f} s, yardstick {theirs:.2f} s")
    ours, theirs, _ = race([PROGRAM, "--version"], [sys.executable, "-c", "pass"], 15)
    line("orchard --version", ours / theirs, 4, f"{1000 * ours:.0f} ms, bare interpreter {1000 * theirs:.0f} ms")


def nested(folder: Path) -> None:
    r = np.random.default_rng(3)
    n, trees, orchards = 1_000_000, 50_000, 2_000
    tree = r.integers(0, trees, n)
    frame = covariates(r, n)
    frame.insert(0, "orchard", tree // (trees // orchards))
    frame.insert(1, "tree", tree % (trees // orchards))
    effect = r.normal(size=trees)[tree] + r.normal(size=orchards)[frame["orchard"]]
    path = finish(frame, effect, r, folder, "nested")
    sentence = "yield = rain + sun + frost + wind; each tree in orchard: intercept; each orchard: intercept"
    ours, theirs, memory = race([PROGRAM, "fit", path, sentence, "--quiet"], [sys.executable, "-c", READ, path], 5)
    line(
        "1M rows, 2k orchards, 50k trees nested",
        ours / theirs,
        1.5,
        f"{ours:.2f} s, yardstick {theirs:.2f} s, {memory:.0f} MB",
    )


def crossed(folder: Path) -> None:
    r = np.random.default_rng(4)
    n = 500_000
    tree, picker = r.integers(0, 20_000, n), r.integers(0, 500, n)
    frame = covariates(r, n)
    frame.insert(0, "tree", tree)
    frame.insert(1, "picker", picker)
    path = finish(frame, r.normal(size=20_000)[tree] + r.normal(size=500)[picker], r, folder, "crossed")
    sentence = "yield = rain + sun; each tree: intercept; each picker: intercept"
    ours, theirs, memory = race([PROGRAM, "fit", path, sentence, "--quiet"], [sys.executable, "-c", READ, path])
    line(
        "500k rows, 20,000 x 500 crossed", ours / theirs, 2, f"{ours:.2f} s, yardstick {theirs:.2f} s, {memory:.0f} MB"
    )


def random_crossed(folder: Path) -> None:
    r = np.random.default_rng(5)
    n = 100_000
    tree, picker = r.integers(0, 6_000, n), r.integers(0, 3_000, n)
    frame = covariates(r, n)
    frame.insert(0, "tree", tree)
    frame.insert(1, "picker", picker)
    path = finish(frame, r.normal(size=6_000)[tree] + r.normal(size=3_000)[picker], r, folder, "random")
    one = float(subprocess.run([sys.executable, "-c", CHOLESKY], capture_output=True, text=True, check=True).stdout)
    command = [PROGRAM, "fit", path, "yield = rain + sun; each tree: intercept; each picker: intercept", "--quiet"]
    seconds, memory = min(wall(command) for _ in range(2))
    line(
        "100k rows, 6,000 x 3,000 crossed at random",
        seconds / one,
        20,
        f"{seconds:.2f} s, one Cholesky {one:.3f} s, {memory:.0f} MB",
    )


def growth(folder: Path) -> None:
    times = []
    for n in (100_000, 1_000_000):
        r = np.random.default_rng(6)
        g = r.integers(0, 5_000, n)
        frame = covariates(r, n)
        frame.insert(0, "tree", g)
        path = finish(frame, r.normal(size=5_000)[g], r, folder, f"growth{n}")
        sentence = "yield = rain + sun; each tree: intercept + rain"
        done = subprocess.run(
            [sys.executable, "-c", TIMED + INSIDE, path, sentence], capture_output=True, text=True, check=True
        )
        times.append(float(done.stdout.split()[1]))
    line("ten times the rows at fixed units", times[1] / times[0], 10, f"{times[0]:.3f} s and {times[1]:.3f} s")


def ar1(folder: Path) -> None:
    r = np.random.default_rng(7)
    units, length = 50_000, 20
    e = np.zeros((units, length))
    e[:, 0] = r.normal(size=units)
    for t in range(1, length):
        e[:, t] = 0.6 * e[:, t - 1] + 0.8 * r.normal(size=units)
    frame = covariates(r, units * length)
    frame.insert(0, "tree", np.repeat(np.arange(units), length))
    frame.insert(1, "week", np.tile(np.arange(1, length + 1), units))
    effect = e.ravel() + np.repeat(r.normal(size=units), length) - r.normal(size=units * length)
    path = finish(frame, effect, r, folder, "ar1")
    sentence = "yield = rain + sun; each tree: intercept; within tree: ar1(week)"
    ours, theirs, memory = race([PROGRAM, "fit", path, sentence, "--quiet"], [sys.executable, "-c", READ, path])
    line(
        "1M rows, AR(1) within 50k units of 20",
        ours / theirs,
        6,
        f"{ours:.2f} s, yardstick {theirs:.2f} s, {memory:.0f} MB",
    )


CASES: dict[str, Callable[[Path], None]] = {
    f.__name__: f for f in (slopes, small, nested, crossed, random_crossed, growth, ar1)
}

if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with tempfile.TemporaryDirectory() as temporary:
        for chosen in sys.argv[1:] or CASES:
            CASES[chosen](Path(temporary))
