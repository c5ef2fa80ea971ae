"""Where a saved fit lies."""

from __future__ import annotations

from pathlib import Path

ENDING = ".fit.json"


def save_path(name: str) -> Path:
    """The file of a fit saved under a name, or by its file."""
    return Path(name if name.endswith(ENDING) else name + ENDING)


def last_saved(folder: Path | None = None) -> str | None:
    """The name of the fit saved last in a folder (the working one), None where there is none."""
    kept = list((folder or Path()).glob("*" + ENDING))
    return max(kept, key=lambda p: p.stat().st_mtime_ns).name.removesuffix(ENDING) if kept else None
