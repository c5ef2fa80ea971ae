"""Rows in pieces against a process that only reads the used columns, piece by piece, by the Arrow library.

    python benchmarks/pieces.py [MILLIONS OF ROWS] [KIND]

KIND: gaussian (default; 500,000 units), binomial (a fiftieth as many units as rows, of the fiftieth part of the rows). Ten columns on disk, four used; made-up
Parquet files of a million rows in a temporary folder (75 MB each). Memory is that of all processes together (shared pages once).
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import parquet

PROGRAM = str(Path(sys.executable).parent / "orchard")
COLUMNS = ["yield", "rain", "sun", "tree"]
READ = f"""
import sys, glob
from pyarrow import parquet
for path in sorted(glob.glob(sys.argv[1] + "/*.parquet")):
    for batch in parquet.ParquetFile(path).iter_batches(columns={COLUMNS}):
        pass
"""


def write(folder: Path, files: int, rows: int, units: int, binary: bool) -> None:
    r = np.random.default_rng(1)
    u, s = r.normal(size=units), 0.3 * r.normal(size=units)
    for k in range(files):
        tree = r.integers(0, units, rows)
        columns = {"tree": tree} | {c: r.normal(size=rows) for c in "abcdef"}
        columns |= {"rain": r.normal(size=rows), "sun": r.normal(size=rows)}
        eta = 0.1 + 0.5 * columns["rain"] - 0.2 * columns["sun"] + u[tree] + s[tree] * columns["rain"]
        columns["yield"] = (
            (r.random(rows) < 1 / (1 + np.exp(-eta))).astype(int) if binary else eta + r.normal(size=rows)
        )
        parquet.write_table(pa.table(columns), folder / f"p{k:04d}.parquet")


def family_of(pid: int) -> list[int]:
    """A process and those it started."""
    try:
        children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return []
    return [pid, *(p for c in children for p in family_of(int(c)))]


def proportional(pid: int) -> int:
    """Bytes of a process, pages that others have as well by shares."""
    try:
        lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith("Pss:"))


def run(command: list[str]) -> tuple[float, float, str]:
    """Seconds, peak megabytes of all its processes, and what it printed."""
    start = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    peak, over = [0], threading.Event()

    def watch() -> None:
        while not over.wait(0.25):
            peak[0] = max(peak[0], sum(proportional(p) for p in family_of(process.pid)))

    watcher = threading.Thread(target=watch)
    watcher.start()
    printed, _ = process.communicate()
    seconds = time.perf_counter() - start
    over.set()
    watcher.join()
    assert process.returncode == 0, command
    return seconds, peak[0] / 2**20, printed


def main() -> None:
    millions = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    binary = sys.argv[2:] == ["binomial"]
    rows = 20_000 if binary else 1_000_000
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "parts"
        folder.mkdir()
        write(folder, millions, rows, millions * rows // 50 if binary else 500_000, binary)
        sentence = "yield = rain + sun; each tree: intercept + rain"
        fit = [PROGRAM, "fit", str(folder), sentence, "--memory", "1MB" if binary else "200MB", "--quiet", "--json"]
        ours = [run([*fit, "--family", "binomial"] if binary else fit) for _ in range(2)]
        theirs = [run([sys.executable, "-c", READ, str(folder)]) for _ in range(3)]
        best, yard = min(t for t, _, _ in ours), min(t for t, _, _ in theirs)
        d = json.loads(ours[0][2])
        print(
            f"{d['rows']['used']:,} rows in {millions} files, {d['groups'][0]['levels']:,} units: {best:.1f} s, {best / yard:.2f} x reading "
            f"({yard:.1f} s), peak {max(m for _, m, _ in ours):.0f} MB, engine {d['reading']['engine']}, {os.cpu_count()} processors"
        )


if __name__ == "__main__":
    main()
