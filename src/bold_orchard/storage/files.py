"""Files of the user's: written whole or not at all."""

from __future__ import annotations

import importlib.util
import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bold_orchard.errors import OrchardError

PACKAGES = {".xlsx": ("openpyxl", "excel"), ".parquet": ("pyarrow", "parquet")}


def write_safely(path: str | Path, write: Callable[[Path], object]) -> None:
    """Write to a temporary file beside ``path``, then rename, so nothing is ever half-written."""
    path = Path(path)
    if path.is_dir():
        raise OrchardError(f"{path} is a folder; give a file name")
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=".", suffix=path.suffix)
    except OSError as e:
        raise OrchardError(f"{path} cannot be written: {e.strerror or e}; choose another folder") from None
    os.close(handle)
    try:
        write(Path(temporary))
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except OSError as e:
        raise OrchardError(f"{path} cannot be written: {e.strerror or e}; make room, or choose another place") from None
    finally:
        Path(temporary).unlink(missing_ok=True)


def write_text(path: str | Path, text: str) -> None:
    """A text file in UTF-8."""
    write_safely(path, lambda p: p.write_text(text, encoding="utf-8"))


def write_rows(path: str | Path, rows: Any) -> None:
    """Rows (dictionaries, or a frame) as CSV, or as the workbook or Parquet file that the name's ending asks for; a column for every key.

    Raises OrchardError where the package for it is missing.
    """
    import csv

    if Path(path).suffix.lower() in PACKAGES:
        _write_by_package(path, rows)
        return

    def write(p: Path) -> None:
        if not isinstance(rows, list):
            rows.to_csv(p, index=False, lineterminator="\n")
            return
        with p.open("w", newline="", encoding="utf-8") as f:
            writer = csv.DictWriter(f, list(dict.fromkeys(k for r in rows for k in r)), lineterminator="\n")
            writer.writeheader()
            writer.writerows(rows)

    write_safely(path, write)


def _write_by_package(path: str | Path, rows: Any) -> None:
    import pandas as pd

    frame = pd.DataFrame(rows) if isinstance(rows, list) else rows
    ending = Path(path).suffix.lower()
    package, extra = PACKAGES[ending]
    if importlib.util.find_spec(package) is None:
        raise OrchardError(
            f"{path}: writing {ending} needs {package}; install it (pip install bold-orchard[{extra}]) or end the name in .csv"
        )
    write_safely(
        path, lambda p: frame.to_excel(p, index=False) if ending == ".xlsx" else frame.to_parquet(p, index=False)
    )
