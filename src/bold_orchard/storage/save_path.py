"""Where a saved fit lies."""

from __future__ import annotations

from pathlib import Path

ENDING = ".fit.json"


def save_path(name: str) -> Path:
    """The file of a fit saved under a name, or by its file."""
    return Path(name if name.endswith(ENDING) else name + ENDING)
