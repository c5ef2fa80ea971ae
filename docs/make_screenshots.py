"""Refresh docs/screenshots from the demo data: ``python docs/make_screenshots.py``.

Terminal output is drawn as the characters it is, in a fixed-width face; figures are the commands' own.
"""

from __future__ import annotations

import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from matplotlib.figure import Figure

PROGRAM = str(Path(sys.executable).parent / "orchard")
TARGET = Path(__file__).parent / "screenshots"
RAIN = "centre(rain)"
MODEL = f"yield = {RAIN} + pruning + soil; each orchard: intercept + {RAIN}"
CODES = ["--missing", "-999", "--baseline", "pruning=none"]
TERMINAL = {
    "scout": ["scout", "harvest.csv"],
    "fit": ["fit", "harvest.csv", MODEL, *CODES],
    "compare": ["compare", "empty", "rain", "slopes"],
    "check": ["check", "slopes", "--time", "season", "--quiet"],
    "components": ["components", "slopes"],
    "fruit-set": ["show", "fruit-set", "--ratios", "--effects"],
    "error": ["fit", "harvest.csv", "yield = rainn + pruning; each orchard: intercept"],
}
FIGURES = ["scout", "compare", "lines", "check", "components", "terms", "intervals", "groups", "means", "predict"]
MORE = {
    "panels": ["draw", "slopes", "--kind", "panels"],
    "coefficients": ["draw", "rain", "slopes", "--kind", "coefficients"],
}


def draw_terminal(command: list[str], text: str, path: Path) -> None:
    lines = [f"$ orchard {shlex.join(command)}", "", *text.rstrip("\n").split("\n")]
    wrapped = [line[i : i + 100] for line in lines for i in range(0, max(len(line), 1), 100)][:58]
    size = min(11.0, 8.0 * 72 / (1.32 * (len(wrapped) + 2)))
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="#20241f")
    figure.text(0.02, 0.975, "\n".join(wrapped), family="DejaVu Sans Mono", fontsize=size, color="#e9e6dc",
                va="top", linespacing=1.25, parse_math=False)  # fmt: skip
    figure.savefig(path)


def main() -> None:
    TARGET.mkdir(exist_ok=True)
    for old in TARGET.glob("*.png"):
        old.unlink()
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([PROGRAM, "demo", folder], check=True, capture_output=True)
        for name, command in TERMINAL.items():
            done = subprocess.run([PROGRAM, *command], cwd=folder, capture_output=True, text=True, check=False)
            draw_terminal(command, done.stdout + done.stderr, TARGET / f"{name}.png")
        for name, command in MORE.items():
            subprocess.run([PROGRAM, *command, "--figure", f"{name}.png"], cwd=folder, check=True, capture_output=True)
        for name in [*FIGURES, *MORE]:
            shutil.copyfile(Path(folder) / f"{name}.png", TARGET / f"figure-{name}.png")


if __name__ == "__main__":
    main()
