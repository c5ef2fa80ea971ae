"""How far long work has come, on standard error: a line on a terminal, and anywhere what will take hours."""

from __future__ import annotations

import sys
import time
from types import TracebackType
from typing import Any

from bold_orchard.cli.interrupt import look

LOOK, LONG = 10.0, 3600.0  # seconds after which the rest is estimated, and from which it is worth a word
FIRST, EVERY = 30.0, 60.0  # seconds until the first line where there is no terminal, and from one to the next
SPANS = (("years", 365.25 * 86400), ("days", 86400.0), ("hours", 3600.0), ("minutes", 60.0), ("seconds", 0.0))


class Steps:
    """Call it with the number of steps done; use as a context manager so that the line is always cleared."""

    def __init__(self, what: str, quiet: bool) -> None:
        self.what, self.start = what, time.monotonic()
        self.quiet, self.silent = quiet, quiet or not sys.stderr.isatty()
        self.told = self.start + FIRST - EVERY
        self.warned = quiet
        self.bar: Any = None
        self.task: Any = None

    def __enter__(self) -> Steps:
        return self

    def __call__(self, done: int, total: int | None = None, what: str | None = None) -> None:
        look()
        if total and done and not self.warned:
            self._warn(total / done - 1.0)
        if self.silent:
            self._line(done, total, what or self.what)
        if self.silent or time.monotonic() - self.start < 1.0:
            return
        if self.bar is None:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn, TimeRemainingColumn

            columns = (
                TextColumn("{task.description}"),
                BarColumn(),
                TextColumn("step {task.completed}" + (" of {task.total}" if total else "")),
                TimeElapsedColumn(),
                *([TextColumn("left"), TimeRemainingColumn()] if total else []),
            )
            self.bar = Progress(*columns, console=Console(stderr=True), transient=True)
            self.task = self.bar.add_task(self.what, total=total)
            self.bar.start()
        self.bar.update(self.task, completed=done, total=total, description=what or self.what)

    def _warn(self, left: float) -> None:
        """Say once what work will take hours; ``left`` is the rest as a multiple of what is done."""
        passed = time.monotonic() - self.start
        if passed < LOOK or passed * left < LONG:
            return
        self.warned = True
        print(
            f"orchard: {self.what} will take some {_span(passed * left)} more at this pace; "
            "Ctrl-C ends it, and nothing is written",
            file=sys.stderr,
        )

    def _line(self, done: int, total: int | None, what: str) -> None:
        """Now and then a line, where a bar would be lost: in a file of messages, in a scheduler's log."""
        now = time.monotonic()
        if self.quiet or not done or now - self.told < EVERY:
            return
        self.told = now
        rest = f" of {total:,}, some {_span((now - self.start) * (total / done - 1.0))} more" if total else ""
        print(f"orchard: {what}: step {done:,}{rest}", file=sys.stderr, flush=True)

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self.bar is not None:
            self.bar.stop()


def _span(seconds: float) -> str:
    """A time in its largest whole unit."""
    unit, size = next(s for s in SPANS if seconds >= s[1])
    return f"{seconds / (size or 1.0):,.0f} {unit}"
