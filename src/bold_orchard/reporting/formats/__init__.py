"""A page as a file: one renderer for each ending."""

from __future__ import annotations

import importlib
import io
from typing import Any

from bold_orchard.reporting.page import Page, print_page

# ending -> the module that renders it; text is the printed page itself
HOMES = {".html": "html", ".md": "markdown", ".tex": "latex", ".docx": "docx"}
WITH_PICTURES = (".html", ".docx")


def content(page: Page, ending: str, title: str) -> bytes:
    """The bytes of a file of that ending. Raises OrchardError where a format's package is missing."""
    made = rendered(page, ending, title)
    return made.encode("utf-8") if isinstance(made, str) else made


def rendered(page: Page, ending: str, title: str) -> str | bytes:
    """The page as the content of a file. Raises OrchardError where a format's package is missing."""
    if ending == ".txt":
        out = io.StringIO()
        print_page(page, out)
        return out.getvalue()
    module: Any = importlib.import_module(f"bold_orchard.reporting.formats.{HOMES[ending]}")
    made: str | bytes = module.document(page, title)
    return made
