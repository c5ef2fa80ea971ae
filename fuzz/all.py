"""Everything that fuzzes, for a while: `python fuzz/all.py [SECONDS]` (an hour by default); `make fuzz`.

Rounds of damaged files, attacks on the user's files and machine, interrupts, random sentences through all commands, hard designs through the engine, and models written in two ways that must
answer alike, with seeds that go on from the day's date, until the time is up. Exit 1 where anything was found.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

HERE = Path(__file__).parent
ROUNDS = (
    ("files.py", 2000),
    ("sentences.py", 60),
    ("hard.py", 40),
    ("relations.py", 300),
    ("harm.py", 300),
    ("interrupts.py", 20),
)  # each some tens of seconds
RELATIONS = [
    sys.executable,
    "-m",
    "pytest",
    "-q",
    "-n0",
    "tests/whole/test_metamorphic.py",
    "--hypothesis-profile=explore",
]


def main() -> int:
    end = time.monotonic() + (float(sys.argv[1]) if len(sys.argv) > 1 else 3600.0)
    seed, worst = int(time.time()) // 86_400 * 1_000_000 % 2_000_000_000, 0
    while time.monotonic() < end:
        for script, count in ROUNDS:
            if time.monotonic() < end:
                worst |= subprocess.run([sys.executable, str(HERE / script), str(count), str(seed)]).returncode
        if time.monotonic() < end:
            worst |= subprocess.run(RELATIONS, env=os.environ | {"ORCHARD_EXAMPLES": "4"}, cwd=HERE.parent).returncode
        seed += 10_000
    return worst


if __name__ == "__main__":
    sys.exit(main())
