"""Telling how far a long piece of work has come."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[int, int], None]  # how much is done, of how much


def silent(done: int, total: int) -> None:
    """No progress."""
