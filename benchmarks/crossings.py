"""Crossings too large for a dense factor: whole fits of made-up rows, and what random signs leave open.

    python benchmarks/crossings.py [MILLIONS OF ROWS]

A tenth as many trees as rows, a hundredth as many pickers, crossed at random. The yardstick is a process that reads the used columns by the Arrow library.
"""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

import numpy as np
import pyarrow as pa
from pieces import PROGRAM, run
from pyarrow import parquet

SENTENCES = ("yield = rain; each tree: intercept; each picker: intercept", "yield = rain; each tree: intercept + rain; each picker: intercept")  # fmt: skip
READ = "import sys; from pyarrow import parquet; parquet.read_table(sys.argv[1])"


def write(path: Path, rows: int) -> None:
    r = np.random.default_rng(5)
    trees, pickers = rows // 10, rows // 100
    tree, picker, rain = r.integers(0, trees, rows), r.integers(0, pickers, rows), r.normal(size=rows)
    y = 3 + 0.4 * rain + r.normal(size=trees)[tree] + 0.3 * r.normal(size=trees)[tree] * rain
    y += 0.7 * r.normal(size=pickers)[picker] + 1.5 * r.normal(size=rows)
    parquet.write_table(pa.table({"tree": tree, "picker": picker, "rain": rain, "yield": y}), path)


def main() -> None:
    rows = int(1_000_000 * float(sys.argv[1])) if len(sys.argv) > 1 else 2_000_000
    with tempfile.TemporaryDirectory() as temporary:
        path = Path(temporary) / "picked.parquet"
        write(path, rows)
        yard = min(run([sys.executable, "-c", READ, str(path)])[0] for _ in range(3))
        for sentence in SENTENCES:
            seconds, memory, printed = run([PROGRAM, "fit", str(path), sentence, "--quiet", "--json"])
            d = json.loads(printed)
            units = " x ".join(f"{g['levels']:,}" for g in d["groups"])
            m = d["monte_carlo"]
            print(
                f"{rows:,} rows, {units}: {sentence}\n  {seconds:.1f} s ({seconds / yard:.0f} x reading, {yard:.2f} s), peak {memory:.0f} MB, "
                f"{d['convergence']['evaluations']} evaluations; error of the log-likelihood {m['loglik']:.2g}, "
                f"of variances {m['share_of_se']:.2g} SE at most"
            )


if __name__ == "__main__":
    main()
