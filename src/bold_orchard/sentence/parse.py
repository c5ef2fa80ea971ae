"""Text -> Sentence or Condition, by a Lark grammar; errors carry a caret."""

from __future__ import annotations

import re
from typing import Any

from lark import Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken, VisitError

from bold_orchard.errors import SentenceError, nearest
from bold_orchard.sentence import tree
from bold_orchard.sentence.builder import Builder
from bold_orchard.sentence.grammar import parser
from bold_orchard.sentence.repair import candidates

CLAUSE_WORDS = ("each", "within", "spread", "zeros")
WORDS = {
    "NAME": "a name",
    "BRACKETED": "a [name in brackets]",
    "NUMBER": "a number",
    "STRING": 'a "text in quotes"',
    "INTERCEPT": "'intercept'",
    "COMPARE": "a comparison such as = or <",
    "$END": "the end",
}
DEEPEST = 300  # levels of the parse tree, some 60 brackets: beyond what a person reads, below Python's own limit
LONGEST_REPAIRED = 500  # letters; longer sentences are not typed by hand


def read_sentence(text: str) -> tree.Sentence:
    """Read a model sentence (see docs/sentence.md).

    Raises SentenceError, with the place, for anything that cannot be read.
    """
    try:
        sentence: tree.Sentence = _run(text, "sentence", "the sentence")
    except SentenceError as e:
        meant = _meant(text) if e.text else None
        if meant is None:
            raise
        raise SentenceError(f"{e.message}; write: {meant}", e.text, e.start, e.width) from None
    return sentence


def _meant(text: str) -> str | None:
    """The first repair of a text that reads as a sentence."""
    if len(text) > LONGEST_REPAIRED:
        return None
    for made in candidates(" ".join(text.split())):
        try:
            _run(made, "sentence", "the sentence")
        except SentenceError:
            continue
        return made
    return None


def read_condition(text: str) -> tree.Condition:
    """Read the expression of ``--where``. Raises SentenceError."""
    return _run(text, "condition", "the expression")


def used_columns(sentence: tree.Sentence, weights: str | None, where: str | None) -> list[str]:
    """The columns of a file that a fit of the sentence needs."""
    named = tree.columns_of((sentence, read_condition(where) if where else ()))
    return [*(c.name for c in named), *([weights] if weights else [])]


def read_combination(text: str) -> tuple[tree.Expression, float]:
    """Read a contrast: a weighted sum of names, and the number it is compared with (0 unless written)."""
    left, right = _run(text, "combination", "the contrast")
    if not isinstance(right, tree.Number):
        raise SentenceError("the right side of a contrast is a number: rain = 0", text, *_range(right))
    return left, right.value


def _range(e: Any) -> tuple[int, int]:
    return e.place[0], e.place[1] - e.place[0]


def _run(text: str, start: str, what: str) -> Any:
    line = " ".join(text.split("\n")).strip()
    if not line:
        raise SentenceError(f"{what} is empty; write for example: yield = rain; each orchard: intercept")
    try:
        tree = parser(start).parse(line)
        if _depth(tree) > DEEPEST:
            raise SentenceError(f"{what} nests brackets, functions or powers too deeply; write it more plainly")
        return Builder(line).transform(tree)
    except VisitError as e:
        if isinstance(e.orig_exc, SentenceError):
            raise e.orig_exc from None
        raise
    except UnexpectedInput as e:
        raise _explain(e, line, start, what) from None


def _depth(tree: Tree[Any]) -> int:
    deepest, stack = 0, [(tree, 1)]
    while stack:
        here, depth = stack.pop()
        deepest = max(deepest, depth)
        stack += [(child, depth + 1) for child in here.children if isinstance(child, Tree)]
    return deepest


def _explain(e: UnexpectedInput, text: str, start: str, what: str) -> SentenceError:
    """Say what was found and what could have stood there."""
    if isinstance(e, UnexpectedCharacters):
        place = e.pos_in_stream or 0
        message = f"{what} cannot be read at {text[place]!r}: that sign has no meaning here"
        return SentenceError(message, text, place)
    if isinstance(e, UnexpectedToken) and e.token.type != "$END":
        place, found, expected = e.token.start_pos or 0, repr(str(e.token)), e.accepts or e.expected
    else:
        place, found = len(text), "the end"
        expected = set(e.expected) if isinstance(e, (UnexpectedToken, UnexpectedEOF)) else set()
    before = re.search(r";\s*(\w+)\s*$", text[:place])
    if before is not None and found != "the end":  # a clause begins with a word of ours: that word is to blame
        place, found = before.start(1), repr(before[1])
        message = f"{what} cannot be read at {found}; expected 'each', 'within', 'spread =' or 'zeros ='"
        near = nearest(before[1], CLAUSE_WORDS)
        return SentenceError(message + (f"; did you mean '{near}'?" if near else ""), text, place, len(before[1]))
    width = len(str(e.token)) if isinstance(e, UnexpectedToken) and found != "the end" else 1
    message = f"{what} cannot be read at {found}; expected {_options(start, set(expected or ()))}"
    word = found.strip("'")
    near = nearest(word, CLAUSE_WORDS) if ";" in text[:place] else None
    if near and near != word:
        message += f"; did you mean '{near}'?"
    return SentenceError(message, text, place, width)


def _options(start: str, names: set[str]) -> str:
    terminals = {t.name: t.pattern.value for t in parser(start).terminals}
    words = sorted(WORDS.get(n) or f"'{terminals.get(n, n)}'" for n in names if n != "WS")
    if len(words) > 1:
        return ", ".join(words[:-1]) + " or " + words[-1]
    return words[0] if words else "something else"
