"""Commands interrupted at any moment: `python fuzz/interrupts.py [COUNT] [FIRST SEED]`.

Ctrl-C and SIGTERM reach the program, as a process of its own, between its first import and its end. It must end soon, with the exit code
of an interrupt or of an answer, leave no process and no temporary file, and every file as it was or whole.
"""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

PROGRAM = [sys.executable, "-m", "bold_orchard"]
SENTENCE = "yield = rain; each plot: intercept + rain"
COMMANDS = (["fit", "t.csv", SENTENCE, "--save", "kept", "--figure", "f.png", "--csv", "f.csv"], ["check", "kept", "--figure", "c.png", "--to", "c.html"], ["predict", "kept", "--csv", "p.csv"],
            ["sample", "kept", "--draws", "300", "--save", "kept", "--keep", "d.csv"], ["power", "kept", "--runs", "60", "--csv", "w.csv"], ["run", "plan.toml"],
            ["intervals", "kept", "--bootstrap", "60", "--csv", "i.csv"], ["fit", "big.csv", SENTENCE, "--memory", "1MB", "--save", "big"])  # fmt: skip
SOON = 20.0  # seconds in which an interrupted program must have ended
PLAN = f"""[data]
file = "t.csv"
[fits.one]
sentence = "{SENTENCE}"
[[steps]]
command = "check"
fit = "one"
figure = "one.png"
"""


def prepare() -> None:
    """Data, a plan and a fit in the folder at hand."""
    r = np.random.default_rng(1)
    for name, n in (("t.csv", 6_000), ("big.csv", 120_000)):
        plot, rain = r.integers(0, n // 20, n), r.normal(size=n).round(3)
        made = {"plot": plot, "rain": rain, "yield": (r.normal(size=n // 20)[plot] + rain + r.normal(size=n)).round(3)}
        pd.DataFrame(made).to_csv(name, index=False)
    Path("plan.toml").write_text(PLAN)
    for command in COMMANDS[:1]:
        subprocess.run([*PROGRAM, *command], check=True, capture_output=True)


def children(parent: int) -> list[int]:
    """Processes that this one began, and that still run."""
    made = subprocess.run(["ps", "-o", "pid=", "--ppid", str(parent)], capture_output=True, text=True).stdout.split()
    return [int(p) for p in made]


def from_a_terminal() -> None:
    """Whoever runs in the background may have Ctrl-C turned off for all that it starts."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def trouble(seed: int) -> str | None:
    """What goes wrong with one seed, or nothing."""
    r = random.Random(seed)
    command, kind, delay = (
        r.choice(COMMANDS),
        r.choice((signal.SIGINT, signal.SIGINT, signal.SIGTERM)),
        r.uniform(0.02, 2.5),
    )
    before = {p.name for p in Path().iterdir()}
    quiet: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE, "text": True}
    running = subprocess.Popen([*PROGRAM, *command], preexec_fn=from_a_terminal, **quiet)  # noqa: PLW1509
    time.sleep(delay)
    workers = children(running.pid)
    running.send_signal(kind)
    try:
        err = running.communicate(timeout=SOON)[1]
    except subprocess.TimeoutExpired:
        running.kill()
        return f"{seed}: {command} after {delay:.2f} s of {kind.name} did not end"
    time.sleep(0.1)
    wrong = []
    early = "Traceback" in err and "bold_orchard.cli.main" not in err  # before the program's own first line
    if running.returncode not in (0, 4, 130, 143, -signal.SIGINT, -signal.SIGTERM) and not early:
        wrong.append(f"exit {running.returncode}: {err.strip()[-200:]}")
    wrong += [
        f"process {p} lives on"
        for p in workers
        if os.path.exists(f"/proc/{p}/stat") and " Z " not in Path(f"/proc/{p}/stat").read_text()
    ]
    for path in Path().iterdir():
        if path.name not in before and (path.name.startswith(".") or path.suffix == ".tmp"):
            wrong.append(f"left {path.name}")
        if path.suffix == ".json" and path.is_file():
            json.loads(path.read_text())
    return f"{seed}: {command} after {delay:.2f} s of {kind.name}: {'; '.join(wrong)}" if wrong else None


def go() -> int:
    count, first = (int(v) for v in (*sys.argv[1:], *("100", "0")[len(sys.argv) - 1 :]))
    seen: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        prepare()
        for seed in range(first, first + count):
            found = trouble(seed)
            seen["found" if found else "fine"] += 1
            if found:
                print(found, flush=True)
        os.chdir("/")
    print("interrupts", dict(seen))
    return 1 if seen["found"] else 0


if __name__ == "__main__":
    sys.exit(go())
