"""Notes: sentences that know what they are about and what they propose."""

from __future__ import annotations

from typing import Self


class Note(str):
    """A sentence of an answer; in JSON its text alone.

    ``code`` names what it is about, the same whatever the words; ``suggestion`` is the sentence or option to try, ready to
    paste, where there is one.
    """

    code: str
    suggestion: str | None

    def __new__(cls, text: str, code: str = "", suggestion: str | None = None) -> Self:
        made = super().__new__(cls, text)
        made.code, made.suggestion = code, suggestion
        return made
