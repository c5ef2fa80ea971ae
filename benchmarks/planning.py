"""Simulated power against the formula in 50 balanced designs, and how long 12 designs of 400 studies take.

python benchmarks/planning.py
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from scipy import stats

from bold_orchard.planned import power

NESTED = """sentence = "yield = spray; each orchard: intercept; each tree in orchard: intercept"
[units]
orchard = {orchards}
"tree in orchard" = {trees}
rows = {rows}
[columns]
spray = "levels(no, yes) by {home}"
[effects]
intercept = 20
"spray[yes]" = {effect}
[variation]
"sd(orchard: intercept)" = 1
"sd(tree in orchard: intercept)" = 1
"sd(residual)" = 2
"""


def write(folder: Path, **values: object) -> str:
    path = folder / "design.toml"
    path.write_text(NESTED.format(**values))
    return str(path)


def agreement(folder: Path) -> None:
    inside, worst, count = 0, 0.0, 0
    for home, orchards, effect in (("orchard", [6, 10, 16, 24, 30], 2.0), ("tree", [4, 8, 12, 16, 20], 1.2)):
        made = power(
            write(folder, orchards=orchards, trees=[2, 4, 6, 8, 10], rows=3, home=home, effect=effect),
            runs=400,
            seed=11,
        )
        for d in made.designs:
            e = d["effects"][0]
            inside += e["low"] <= e["power_formula"] <= e["high"]
            count += 1
            if home == "orchard":
                j, t = d["units"]["orchard"], d["units"]["tree in orchard"]
                lam = j * effect**2 / (4 * (1 + 1 / t + 4 / (3 * t)))
                worst = max(worst, abs(e["power_formula"] - stats.ncf.sf(stats.f.isf(0.05, 1, j - 2), 1, j - 2, lam)))
    print(f"formula inside the 95% interval of 400 simulated studies: {inside} of {count} designs")
    print(f"formula against exact noncentral F, largest difference: {worst:.1e}")


def speed(folder: Path) -> None:
    path = write(folder, orchards=[10, 15, 20], trees=[5, 10], rows=[6, 4], home="tree", effect=0.5)
    begun = time.perf_counter()
    made = power(path, runs=400)
    rows = [d["total_rows"] for d in made.designs]
    print(f"{len(rows)} designs x 400 studies of {min(rows)}-{max(rows)} rows: {time.perf_counter() - begun:.1f} s")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        agreement(Path(name))
        speed(Path(name))
