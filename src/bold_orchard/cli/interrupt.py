"""Ctrl-C and the request to end, heard even where Python loses what a handler raises.

An exception that a handler raises while Python runs a callback of its own (most often while modules load) is ignored there. The handlers
here note that they were called, and every step of progress looks.
"""

from __future__ import annotations

import contextlib
import signal

_called: list[int] = []


def listen() -> None:
    """Handle Ctrl-C and SIGTERM from now on."""
    with contextlib.suppress(ValueError):  # not the main thread
        for number in (signal.SIGINT, signal.SIGTERM):
            if signal.getsignal(number) != signal.SIG_IGN:  # turned off by whoever runs this in the background
                signal.signal(number, _handle)


def _handle(number: int, frame: object) -> None:
    """Workers are ended and temporary files taken away on the way out."""
    _called.append(number)
    look()


def look() -> None:
    """Raise what a signal asked for, if one came: KeyboardInterrupt, or SystemExit for SIGTERM."""
    if _called:
        raise KeyboardInterrupt if _called[0] == signal.SIGINT else SystemExit(128 + _called[0])
