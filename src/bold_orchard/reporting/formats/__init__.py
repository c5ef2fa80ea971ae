"""A page as a file: one renderer for each ending."""

from __future__ import annotations

import importlib
import io
from pathlib import Path
from typing import Any

from bold_orchard.reporting.page import Page, print_page

# ending -> the module that renders it; text is the printed page itself
HOMES = {".html": "html", ".md": "markdown", ".tex": "latex", ".docx": "docx"}
WITH_PICTURES = (".html", ".docx")


def rendered(page: Page, ending: str, title: str) -> str | bytes:
    """The page as the content of a file. Raises OrchardError where a format's package is missing."""
    if ending == ".txt":
        out = io.StringIO()
        print_page(page, out)
        return out.getvalue()
    module: Any = importlib.import_module(f"bold_orchard.reporting.formats.{HOMES[ending]}")
    made: str | bytes = module.document(page, title)
    return made


def write_page(page: Page, path: Path, title: str) -> None:
    """Write the page in the form of the path's ending, whole or not at all."""
    from bold_orchard.storage.files import write_safely

    made = rendered(page, path.suffix.lower(), title)
    content = made.encode("utf-8") if isinstance(made, str) else made
    write_safely(path, lambda p: p.write_bytes(content))
