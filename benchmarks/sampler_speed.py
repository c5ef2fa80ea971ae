"""Sampling against fitting, whole processes on the demo data, in turns: `python benchmarks/sampler_speed.py [ROUNDS]`.

Prints the time of 4 x 1,000 draws (after 1,000 of warm-up) of the gaussian and the binomial demo fit beyond that of starting the program,
as a multiple of the fit's own, and the least effective draws of any parameter.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "orchard"


def seconds(folder: str, *arguments: str) -> tuple[float, str]:
    start = time.perf_counter()
    done = subprocess.run([PROGRAM, *arguments], cwd=folder, capture_output=True, text=True, check=True)
    return time.perf_counter() - start, done.stdout


def main(rounds: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        seconds(folder, "demo", ".")
        for name in ("slopes", "fruit-set"):
            saved = json.loads(Path(folder, f"{name}.fit.json").read_text())
            data = "blossom.csv" if name == "fruit-set" else "harvest.csv"
            again = ["fit", data, saved["model"], "--family", saved["family"], "--missing", "-999"]
            ratios = []
            for _ in range(rounds):
                begin = seconds(folder, "--version")[0]
                fit = seconds(folder, *again)[0]
                took, out = seconds(folder, "sample", name, "--json")
                ratios.append((took - begin) / fit)
                print(
                    f"{name}: start {begin:.2f} s, fit {fit:.2f} s, sample {took:.1f} s, {ratios[-1]:.1f} fits",
                    flush=True,
                )
            least = min(min(p["effective_bulk"], p["effective_tail"]) for p in json.loads(out)["parameters"])
            print(f"{name}: median {statistics.median(ratios):.1f} fits, {least:,.0f} effective draws of 4,000 or more")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3)
