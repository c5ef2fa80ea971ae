"""Labels that a reader understands in place of terms and columns."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from bold_orchard.errors import OrchardError, UsageError, nearest


def parse_labels(texts: Iterable[str]) -> dict[str, str]:
    """``--label "rain=Rain (mm)"``; raises UsageError for a text without a name or without the sign."""
    out = {}
    for text in texts:
        name, sign, label = text.partition("=")
        if not sign or not name.strip():
            raise UsageError(f"--label is written \"NAME=label\", not '{text}'")
        out[name.strip()] = label.strip()
    return out


class Labels:
    """Replaces whole terms, printed names, or the names of columns inside them; knows which labels found nothing."""

    def __init__(self, given: Mapping[str, str]) -> None:
        self.given, self.used = dict(given), set[str]()

    def of(self, term: str, printed: str | None = None) -> str:
        """The label of a term, else its printed name with the columns in it relabelled."""
        for name in (term, printed):
            if name is not None and name in self.given:
                self.used.add(name)
                return self.given[name]
        text = term if printed is None else printed
        names = sorted((n for n in self.given if n), key=len, reverse=True)
        if not names:
            return text
        pattern = r"(?<![\w.])(?:" + "|".join(map(re.escape, names)) + r")(?![\w.])"

        def replaced(found: re.Match[str]) -> str:
            self.used.add(found[0])
            return self.given[found[0]]

        return re.sub(pattern, replaced, text)

    def check(self, known: Iterable[str]) -> None:
        """Raise OrchardError for a label that names nothing."""
        for name in self.given:
            if name not in self.used:
                near = nearest(name, list(dict.fromkeys(known)))
                raise OrchardError(
                    f"the label of '{name}' names no term, column or unit of these fits"
                    + (f"; did you mean '{near}'?" if near else "")
                )
