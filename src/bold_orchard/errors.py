"""Everything that can go wrong for a user, each with its exit code."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from datetime import date, timedelta


class OrchardError(Exception):
    """A problem the user can mend: one clear line saying what, where and what to do."""

    exit_code = 3


class UsageError(OrchardError):
    """The command line itself is wrong."""

    exit_code = 2


class SentenceError(OrchardError):
    """A model sentence (or an expression) that cannot be read; shows the place.

    ``start`` is a 0-based position in ``text``; ``width`` the number of characters marked.
    """

    def __init__(self, message: str, text: str = "", start: int = 0, width: int = 1) -> None:
        self.message, self.text, self.start, self.width = message, text, start, max(width, 1)
        super().__init__(message)

    def __str__(self) -> str:
        if not self.text:
            return self.message
        mark = " " * self.start + "^" * self.width
        return f"{self.message}\n    {self.text}\n    {mark}"


class NotConverged(UserWarning):
    """Warns in Python that a fit's search ended before its estimates could be used."""


def nearest(name: str, known: Iterable[str]) -> str | None:
    """The known name closest to ``name`` in spelling, or None when nothing is near."""
    by_fold = {k.casefold(): k for k in known}
    found = difflib.get_close_matches(name.casefold(), list(by_fold), n=1, cutoff=0.5)
    return by_fold[found[0]] if found else None


def unknown_name(kind: str, name: str, known: Iterable[str], where: str, words: Iterable[str] = ()) -> str:
    """A one-line message for a name that does not exist, with the nearest one or the list.

    ``words`` are no names of the kind, and may be meant too.
    """
    known = list(known)
    near = nearest(name, [*known, *words])
    hint = f"did you mean '{near}'?" if near else "there are: " + ", ".join(shown(known))
    return f"there is no {kind} '{name}' in {where}; {hint}"


def date_of(days: float) -> str:
    """Days since 1970-01-01 as a date; a time of the day is rounded off."""
    return str(date(1970, 1, 1) + timedelta(days=round(days)))


def a_or_an(noun: str) -> str:
    """The noun with its article, by its sound: an orchard, a unit, an x, a u... a single letter as it is spoken."""
    word = noun.lower().split(" ")[0]
    spoken = (
        word[:1] in "aefhilmnorsx"
        if len(word) == 1
        else word[:1] in "aeiou" and not word.startswith(("uni", "use", "eu", "one"))
    )
    return f"{'an' if spoken else 'a'} {noun}"


def counted(n: int, noun: str) -> str:
    """1 row, 1,427 rows."""
    return f"{n:,} {noun}" + ("" if n == 1 else "s")


def shown(names: Iterable[object], most: int = 8) -> list[str]:
    """The first few of many names, ending in a count of those left out."""
    texts = [str(n) for n in names]
    return texts if len(texts) <= most else [*texts[:most], f"and {len(texts) - most} more"]


# what a terminal, a browser or a word processor would obey and not show: control characters, marks that turn the direction of writing
_OBEYED = [
    *range(9),
    *range(11, 32),
    *range(127, 160),
    0x061C,
    0x200E,
    0x200F,
    *range(0x202A, 0x202F),
    *range(0x2066, 0x206A),
    0xFEFF,
]
# and halves of pairs, as which bytes of a file's name stand that are no UTF-8
_VISIBLE = {code: f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}" for code in (*_OBEYED, *range(0xD800, 0xE000))}


def visible(text: str) -> str:
    """The text with characters that would be obeyed instead of shown written out; line ends and tabs stay."""
    return text if text.isascii() and text.isprintable() else text.translate(_VISIBLE)
