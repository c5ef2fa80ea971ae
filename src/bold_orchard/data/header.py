"""Names of columns and codes for missing, as a person writes them."""

from __future__ import annotations

from collections.abc import Sequence

from bold_orchard.errors import OrchardError, unknown_name

MISSING = ("", "NA", "NaN", "null", ".")


def check_header(header: list[str], name: str) -> list[str]:
    header = [h or f"column{i}" for i, h in enumerate(header, start=1)]
    seen: set[str] = set()
    for h in header:
        if h in seen:
            raise OrchardError(f"{name} has two columns named '{h}'; rename one of them")
        seen.add(h)
    return header


def missing_by_column(missing: Sequence[str], header: Sequence[str], name: str) -> dict[str, list[str]]:
    """Codes by column; those for all columns stand under ''."""
    codes: dict[str, list[str]] = {}
    for entry in missing:
        splits = [i for i, sign in enumerate(entry) if sign == "="]
        at = next((i for i in reversed(splits) if entry[:i] in header), splits[0] if splits else -1)
        column, code = (entry[:at], entry[at + 1 :]) if at >= 0 else ("", entry)
        if column and column not in header:
            raise OrchardError(unknown_name("column", column, header, name) + " (in --missing)")
        codes.setdefault(column, []).append(code)
    return codes
