"""A progress line on standard error, shown only on a terminal and only when work takes over a second."""

from __future__ import annotations

import sys
import time
from types import TracebackType
from typing import Any


class Steps:
    """Call it with the number of steps done; use as a context manager so that the line is always cleared."""

    def __init__(self, what: str, quiet: bool) -> None:
        self.what, self.start = what, time.monotonic()
        self.silent = quiet or not sys.stderr.isatty()
        self.bar: Any = None
        self.task: Any = None

    def __enter__(self) -> Steps:
        return self

    def __call__(self, done: int, total: int | None = None, what: str | None = None) -> None:
        if self.silent or time.monotonic() - self.start < 1.0:
            return
        if self.bar is None:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

            columns = (
                TextColumn("{task.description}"),
                BarColumn(),
                TextColumn("step {task.completed}"),
                TimeElapsedColumn(),
            )
            self.bar = Progress(*columns, console=Console(stderr=True), transient=True)
            self.task = self.bar.add_task(self.what, total=total)
            self.bar.start()
        self.bar.update(self.task, completed=done, total=total, description=what or self.what)

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self.bar is not None:
            self.bar.stop()
