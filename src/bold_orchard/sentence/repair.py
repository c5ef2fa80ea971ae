"""Slips of the pen in a sentence, and the sentence that was probably meant."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

NAME = r"(?:[^\W\d][\w.]*|\[(?:[^\[\]]|\[[^\[\]]*\])+\])"
UNIT = rf"{NAME}(?: in {NAME})*"
CLAUSES = r"each|within|spread"


def _clauses(text: str) -> str:
    """A semicolon before each clause that lacks one; a comma or 'and' in its place goes."""
    return re.sub(rf"(?<![;\s])\s*(?:,|\band\b|\+)?\s+(?=(?:each|within)\s+{NAME}|spread\s*=)", "; ", text)


def _colons(text: str) -> str:
    """each orchard intercept -> each orchard: intercept"""
    return re.sub(
        rf"\b(each|within) ({UNIT})(\s*\([^()]*\))?\s*(?:=|,|\bvary\b)?\s+(?=(?!in\b|by\b|of\b|\()[^\s:;(])(?![^;]*:)",
        r"\1 \2\3: ",
        text,
    )


def _products(text: str) -> str:
    """a:b in a list of terms -> a*b"""
    parts = text.split(";")
    return ";".join([re.sub(rf"({NAME})\s*:\s*({NAME})", r"\1*\2", parts[0]), *(_after_colon(p) for p in parts[1:])])


def _after_colon(clause: str) -> str:
    head, sign, terms = clause.partition(":")
    return head + sign + re.sub(rf"({NAME})\s*:\s*({NAME})", r"\1*\2", terms)


def _bars(text: str) -> str:
    """Brackets among the terms that name a unit behind a bar: what stands in them varies, so it belongs in a clause."""
    moved: list[str] = []

    def clause(found: re.Match[str]) -> str:
        terms = ["intercept" if t.strip() == "1" else t.strip() for t in found[1].split("+") if t.strip()]
        own = terms if "intercept" in terms else ["intercept", *terms]
        moved.append(f"; each {found[2].strip()}: {' + '.join(own)}")
        return ""

    out = re.sub(r"\+?\s*\(([^()|]*)\|([^()|/:*]*)\)", clause, text)
    return re.sub(r"=\s*$", "= intercept", out.rstrip(" +")) + "".join(moved)


def _brackets(text: str) -> str:
    """One bracket too few or too many at the end of a part."""
    out = []
    for part in text.split(";"):
        missing = part.count("(") - part.count(")")
        part = part.rstrip() + ")" * missing if missing > 0 else part
        while missing < 0:
            at = part.rindex(")")
            part, missing = part[:at] + part[at + 1 :], missing + 1
        out.append(part)
    return ";".join(out)


def _words(text: str) -> str:
    """every -> each, For each -> each, capital letters in the words of the sentence."""
    text = re.sub(r"\b(?:for\s+|by\s+)?(?:every|each|per)\b(?=\s+[\w\[])", "each", text, flags=re.I)
    text = re.sub(r"\b(within|spread|without|intercept|in|of|let)\b(?!\s*\()", lambda m: m[0].lower(), text, flags=re.I)
    return re.sub(r"\b(?:intercpt|intecept|intercep|interceptt|constant|const)\b", "intercept", text, flags=re.I)


def _units(text: str) -> str:
    """each site*cultivar, each site by cultivar, each site:cultivar: -> each site in cultivar"""
    return re.sub(
        rf"\b(each|within) ({NAME})\s*(?:\*|\bby\b|/|\bx\b|:(?=\s*{NAME}\s*(?:\([^()]*\))?\s*:))\s*({NAME})",
        r"\1 \2 in \3",
        text,
    )


def _grouped(text: str) -> str:
    """Round brackets around terms, which mean nothing here."""
    return re.sub(r"(?<![\w.\]\s])(\s*)\(([^()|]*)\)", r"\1\2", re.sub(r"([+=:*])\s*\(([^()|]*)\)", r"\1 \2", text))


REPAIRS: tuple[Callable[[str], str], ...] = (
    lambda t: t.replace("~", "="),
    lambda t: t.replace("==", "="),
    lambda t: re.sub(r"\bspread\s*:", "spread =", t),
    _words,
    _bars,
    _units,
    _clauses,
    _colons,
    lambda t: re.sub(rf"({NAME}(?:\([^()]*\))?)\s*(?:\^|\*\*)\s*(\d+)", r"power(\1, \2)", t),
    _products,
    lambda t: re.sub(r"([=+:])\s*1\b(?!\s*\.)", r"\1 intercept", t),
    lambda t: re.sub(r"\s*([+;])\s*(?=[+;])", "", t).strip(" +;"),
    lambda t: re.sub(r"=\s*([^;]*)", lambda m: "= " + _plus(m[1]), t, count=1),
    _grouped,
    _brackets,
    lambda t: re.sub(r"[–—−]", "-", t).replace("“", '"').replace("”", '"').replace("×", "*"),
)


def _plus(terms: str) -> str:
    """Commas between terms -> plus signs, outside of round brackets."""
    depth, out = 0, []
    for sign in terms:
        depth += (sign in "([") - (sign in ")]")
        out.append(" +" if sign == "," and depth == 0 else sign)
    return "".join(out)


def _spaced(text: str) -> str:
    return re.sub(r"\s*\+\s*", " + ", re.sub(r"\s*;\s*", "; ", " ".join(text.split())))


def candidates(text: str) -> Iterator[str]:
    """Sentences that may have been meant: each single repair, then all of them, one after the other."""
    seen = {text}
    for repair in REPAIRS:
        made = _spaced(repair(text))
        if made not in seen:
            seen.add(made)
            yield made
    whole = text
    for _ in range(2):
        for repair in REPAIRS:
            whole = _spaced(repair(whole))
            if whole not in seen:
                seen.add(whole)
                yield whole
