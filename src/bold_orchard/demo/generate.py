"""The shipped data, made up by a seeded generator; the truths it uses are told in docs/demo-data.md.

``python -m bold_orchard.demo.generate FOLDER`` writes the three files again. RandomState is used because its
stream is frozen for good.
"""

from __future__ import annotations

import csv
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

SEED = 2031  # any fixed number: the shipped files follow from it
ORCHARDS = (
    "Alder Rise", "Barrow", "Cold Spring", "Dunmore", "Elm Bank", "Fallow End", "Gorse Hill", "Hazel Dene",
    "Ivy Lane", "Juniper", "Kestrel", "Long Acre", "Mill Foot", "North Croft", "Old Wall", "Pike Mead",
    "Quarry Top", "Rushey", "South Croft", "Thorn Gate", "Upper Lea", "Vale Side", "West Field", "Yarrow",
)  # fmt: skip
TREES, SEASONS = 10, 6  # of each orchard: enough for every command, few enough to be read in a file
PRUNING = ("none", "light", "hard")
SOILS = ("clay", "loam", "sand")
FILES = ("harvest.csv", "blossom.csv", "pests.csv")

HARVEST: dict[str, float] = {
    "at": 60.0, "mean": 48.0, "rain": 0.25, "light": 3.0, "hard": -2.0, "loam": 2.5, "sand": -1.5,
    "orchard_sd": 5.0, "slope_sd": 0.10, "correlation": -0.4, "tree_sd": 2.0, "residual_sd": 4.0,
}  # fmt: skip
BLOSSOM: dict[str, float] = {"base": -1.1, "bees": 0.35, "late_frost": -0.8, "orchard_sd": 0.5, "tree_sd": 0.3}
PESTS: dict[str, Any] = {"base": 0.9, "week": 0.12, "netting": -0.7, "orchard_sd": 0.6, "cut_points": (0.5, 2.0)}


def harvest(r: np.random.RandomState) -> Iterable[list[object]]:
    """24 orchards x 10 trees x 6 seasons of yield in kg per tree."""
    t = HARVEST
    yield ["orchard", "tree", "season", "rain", "pruning", "soil", "yield"]
    rows = []
    for i, orchard in enumerate(ORCHARDS):
        level = r.normal(0, t["orchard_sd"])
        apart = r.normal() * np.sqrt(1 - t["correlation"] ** 2) + t["correlation"] * level / t["orchard_sd"]
        slope = t["rain"] + t["slope_sd"] * apart
        soil = SOILS[i % 3]
        rain = np.round(60 + r.normal(0, 6) + r.normal(0, 14, SEASONS), 1)
        for tree in range(1, TREES + 1):
            pruning = PRUNING[(tree + i) % 3]
            own = r.normal(0, t["tree_sd"])
            for season in range(1, SEASONS + 1):
                mean = t["mean"] + level + own + slope * (rain[season - 1] - t["at"])
                mean += t.get(pruning, 0.0) + t.get(soil, 0.0)
                kilos = round(mean + r.normal(0, t["residual_sd"]), 2)
                rows.append([orchard, tree, season, rain[season - 1], pruning, soil, kilos])
    gone = r.choice(len(rows), 13, replace=False)
    for position in gone[:12]:
        rows[position][-1] = ""
    rows[gone[12]][-1] = -999
    yield from rows


def blossom(r: np.random.RandomState) -> Iterable[list[object]]:
    """Fruit set out of blossoms counted: 24 orchards x 8 trees x 2 branches."""
    t = BLOSSOM
    yield ["orchard", "tree", "branch", "bees", "late_frost", "counted", "fruit"]
    for orchard in ORCHARDS:
        level, bees = r.normal(0, t["orchard_sd"]), round(float(r.gamma(4, 0.5)), 1)
        frost = "yes" if r.uniform() < 0.4 else "no"
        for tree in range(1, 9):
            own = r.normal(0, t["tree_sd"])
            for branch in ("low", "high"):
                counted = int(r.poisson(30)) + 5
                eta = t["base"] + t["bees"] * bees + t["late_frost"] * (frost == "yes") + level + own
                fruit = int(r.binomial(counted, 1 / (1 + np.exp(-eta))))
                yield [orchard, tree, branch, bees, frost, counted, fruit]


def pests(r: np.random.RandomState) -> Iterable[list[object]]:
    """Moths per trap and the damage graded: 24 orchards x 3 traps x 8 weeks."""
    t = PESTS
    yield ["orchard", "trap", "week", "netting", "moths", "damage"]
    for i, orchard in enumerate(ORCHARDS):
        level, netting = r.normal(0, t["orchard_sd"]), "yes" if i % 2 else "no"
        for trap in "ABC":
            for week in range(1, 9):
                eta = t["base"] + t["week"] * week + t["netting"] * (netting == "yes") + level
                moths = int(r.poisson(np.exp(eta)))
                latent = eta - 1.0 + r.logistic()
                low, high = t["cut_points"]
                grade = "none" if latent < low else "mild" if latent < high else "severe"
                yield [orchard, trap, week, netting, moths, grade]


def write(folder: Path) -> None:
    """Write the three CSV files into ``folder``."""
    for offset, (name, rows) in enumerate(zip(FILES, (harvest, blossom, pests))):
        with (folder / name).open("w", newline="", encoding="utf-8") as f:
            csv.writer(f, lineterminator="\n").writerows(rows(np.random.RandomState(SEED + offset)))


if __name__ == "__main__":
    write(Path(sys.argv[1]))
