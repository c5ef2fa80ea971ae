"""The parsers of the grammar: read ready-made from ``parsers/`` in a few milliseconds, or built from ``grammar.lark``.

Ready-made ones hold the parsing library's own tables; they carry the grammar's digest and the library's version and serve
only where both agree. Made anew by ``python -m bold_orchard.sentence.grammar``.
"""

from __future__ import annotations

import hashlib
import io
from functools import cache
from pathlib import Path

import lark
from lark import Lark

STARTS = ("sentence", "condition", "combination")
GRAMMAR = Path(__file__).parent / "grammar.lark"
READY = Path(__file__).parent / "parsers"


@cache
def parser(start: str) -> Lark:
    """The parser of one of STARTS."""
    grammar = GRAMMAR.read_text(encoding="utf-8")
    path = READY / f"{start}.bin"
    stamp = _stamp(grammar)
    held = path.read_bytes() if path.is_file() else b""
    if held.startswith(stamp):
        return Lark.load(io.BytesIO(held[len(stamp) :]))
    return built(grammar, start)


def built(grammar: str, start: str) -> Lark:
    """The parser made from the grammar's text."""
    return Lark(grammar, parser="lalr", start=start, propagate_positions=True)


def _stamp(grammar: str) -> bytes:
    return f"{lark.__version__} {hashlib.sha256(grammar.encode()).hexdigest()}\n".encode()


def write() -> None:
    """Make all parsers ready."""
    grammar = GRAMMAR.read_text(encoding="utf-8")
    READY.mkdir(exist_ok=True)
    for start in STARTS:
        made = io.BytesIO()
        built(grammar, start).save(made)
        (READY / f"{start}.bin").write_bytes(_stamp(grammar) + made.getvalue())


if __name__ == "__main__":
    write()
