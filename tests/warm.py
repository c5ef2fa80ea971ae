"""The installed program without its start-up: one process has it loaded and forks for every command.

What runs in the fork is the program from its entry point on: its own arguments, folder, environment, files for its streams, and exit code.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from types import SimpleNamespace

SERVER = r"""
import gc, importlib, json, os, pkgutil, sys
import matplotlib.figure, matplotlib.backends.backend_agg, pandas, pyarrow.csv, pyarrow.parquet, scipy.linalg, scipy.optimize, scipy.special, scipy.stats
import bold_orchard
from bold_orchard.cli import main as command_line
for module in pkgutil.walk_packages(bold_orchard.__path__, "bold_orchard."):
    if not module.name.endswith("__main__"):
        importlib.import_module(module.name)
gc.freeze()
for line in sys.stdin:
    asked = json.loads(line)
    pid = os.fork()
    if not pid:
        os.setsid()
        os.chdir(asked["folder"])
        os.environ.clear()
        os.environ.update(asked["environment"])
        for number, name, mode in ((0, "in", os.O_RDONLY), (1, "out", os.O_WRONLY), (2, "err", os.O_WRONLY)):
            os.dup2(os.open(os.path.join(asked["streams"], name), mode), number)
        sys.argv = ["orchard", *asked["arguments"]]
        sys.stdin, sys.stdout, sys.stderr = (open(n, m, encoding="utf-8", closefd=False) for n, m in enumerate("rww"))
        try:
            command_line.program()
        except SystemExit as e:
            os._exit(e.code if isinstance(e.code, int) else 1)
        except BaseException:
            import traceback

            traceback.print_exc()
            sys.stderr.flush()
            os._exit(1)
    _, status = os.waitpid(pid, 0)
    print(os.waitstatus_to_exitcode(status), flush=True)
"""


class Warm:
    """The process that forks, begun when first asked."""

    def __init__(self) -> None:
        self.server: subprocess.Popen[str] | None = None

    def run(self, arguments: list[str], folder: Path, stdin: bytes) -> SimpleNamespace:
        if self.server is None:
            self.server = subprocess.Popen(
                [sys.executable, "-c", SERVER], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
            )
        assert self.server.stdin is not None and self.server.stdout is not None
        with tempfile.TemporaryDirectory() as streams:
            for name in ("in", "out", "err"):
                Path(streams, name).write_bytes(stdin if name == "in" else b"")
            asked = {"arguments": arguments, "folder": str(folder), "environment": dict(os.environ), "streams": streams}
            print(json.dumps(asked), file=self.server.stdin, flush=True)
            code = int(self.server.stdout.readline())
            out, err = (Path(streams, name).read_bytes() for name in ("out", "err"))
        return SimpleNamespace(returncode=code, stdout=out, stderr=err)


warm = Warm()
