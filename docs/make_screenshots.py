"""Refresh docs/screenshots from the demo data: ``python docs/make_screenshots.py``.

Terminal output is photographed in a terminal window on a virtual screen (needs Xvfb, xterm, ImageMagick's import and chromium); figures are
the commands' own.
"""

from __future__ import annotations

import math
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = str(Path(sys.executable).parent / "orchard")
TARGET = Path(__file__).parent / "screenshots"
RAIN = "centre(rain)"
MODEL = f"yield = {RAIN} + pruning + soil; each orchard: intercept + {RAIN}; each tree in orchard: intercept"
CODES = ["--missing", "-999", "--baseline", "pruning=none"]
TERMINAL = {
    "scout": ["scout", "harvest.csv", "--missing", "-999", "--unit", "orchard"],
    "fit": ["fit", "harvest.csv", MODEL, *CODES],
    "check": ["check", "slopes", "--time", "season", "--quiet"],
    "fruit-set": ["show", "fruit-set", "--ratios", "--effects"],
    "error": ["fit", "harvest.csv", "yield = rainn + pruning; each orchard: intercept"],
}
FIGURES = [
    "scout",
    "compare",
    "lines",
    "check",
    "components",
    "terms",
    "intervals",
    "groups",
    "means",
    "anova",
    "predict",
]
MORE = {
    "sample": ["sample", "slopes", "--kind", "density", "--quiet"],
    "power": [
        "power",
        "slopes",
        "--effect",
        f"{RAIN} = 0.08",
        "--units",
        "orchard=6,10,16,24,36",
        "--runs",
        "100",
        "--want",
        "0.8",
    ],
}


DARK = ("#1d211c", "#e9e6dc")
SCREEN = ":97"
WIDE, HIGH = 1280, 800
SECONDS = 30  # for a command to end and its window to be drawn


def cell(size: int) -> tuple[int, int]:
    """Width and height in pixels of a character of DejaVu Sans Mono at 96 dots per inch."""
    return math.ceil(0.602 * size * 96 / 72), math.ceil(1.164 * size * 96 / 72) + 1


def photograph(command: list[str], colours: tuple[str, str], folder: str, path: Path) -> None:
    """Run a command in a terminal window on a virtual screen and take the screen's picture."""
    done = Path(folder) / "done"
    done.unlink(missing_ok=True)
    shown = shlex.join(["orchard", *command])
    script = f"clear; printf '$ %s\\n\\n' {shlex.quote(shown)}; {shlex.quote(PROGRAM)} {shlex.join(command)}; touch done; sleep 60"
    lines = subprocess.run([PROGRAM, *command], cwd=folder, capture_output=True, text=True, check=False,
                           env={**os.environ, "COLUMNS": "112"})  # fmt: skip
    count = (lines.stdout + lines.stderr).count("\n") + 7
    size = next((s for s in range(12, 5, -1) if (HIGH - 40) // cell(s)[1] >= count), 6)
    columns, rows = (WIDE - 38) // cell(size)[0], (HIGH - 38) // cell(size)[1]
    window = ["xterm", "-geometry", f"{columns}x{rows}+0+0", "-fa", "DejaVu Sans Mono", "-fs", str(size), "-bg", colours[0], "-fg", colours[1], "-b", "18", "+sb",
              "-e", "bash", "-c", script]  # fmt: skip
    with subprocess.Popen(
        window, cwd=folder, env={**os.environ, "DISPLAY": SCREEN, "TERM": "xterm-256color"}
    ) as terminal:
        for _ in range(10 * SECONDS):
            if done.exists():
                break
            time.sleep(0.1)
        time.sleep(0.7)
        subprocess.run(["import", "-display", SCREEN, "-window", "root", "-depth", "8", str(path)], check=True)
        terminal.kill()


def photograph_page(page: Path, path: Path) -> None:
    """A page as a browser shows it, without a window."""
    with tempfile.TemporaryDirectory() as profile:
        flags = ["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--hide-scrollbars",
                 f"--user-data-dir={profile}", f"--window-size={WIDE},{HIGH}"]  # fmt: skip
        subprocess.run(
            ["chromium", *flags, f"--screenshot={path}", page.resolve().as_uri()], check=True, capture_output=True
        )


def main() -> None:
    if lacking := [name for name in ("Xvfb", "xterm", "import", "chromium") if shutil.which(name) is None]:
        sys.exit(f"the pictures of the terminal need {', '.join(lacking)}; nothing was changed")
    TARGET.mkdir(exist_ok=True)
    for old in TARGET.glob("*.png"):
        old.unlink()
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([PROGRAM, "demo", folder], check=True, capture_output=True)
        with subprocess.Popen(
            ["Xvfb", SCREEN, "-screen", "0", f"{WIDE}x{HIGH}x24"], stderr=subprocess.DEVNULL
        ) as screen:
            time.sleep(1.0)
            for name, command in TERMINAL.items():
                photograph(command, DARK, folder, TARGET / f"{name}.png")
            screen.terminate()
        photograph_page(Path(folder) / "report.html", TARGET / "report.png")
        for name, command in MORE.items():
            subprocess.run([PROGRAM, *command, "--figure", f"{name}.png"], cwd=folder, check=True, capture_output=True)
        for name in [*FIGURES, *MORE]:
            shutil.copyfile(Path(folder) / f"{name}.png", TARGET / f"figure-{name}.png")


if __name__ == "__main__":
    main()
