"""The part of LaTeX's mathematics that our equations use, read into a tree that other formats are written from."""

from __future__ import annotations

import re
from dataclasses import dataclass

TOKENS = re.compile(r"\\[a-zA-Z]+\*?|\\.|[{}_^&]|[0-9]+(?:[.,][0-9]+)*|[^\s]")
GREEK = {
    "alpha": "α", "beta": "β", "gamma": "γ", "delta": "δ", "varepsilon": "ε", "theta": "θ", "kappa": "κ", "lambda": "λ", "mu": "μ", "nu": "ν",
    "pi": "π", "rho": "ρ", "sigma": "σ", "tau": "τ", "phi": "φ", "varphi": "φ", "psi": "ψ", "omega": "ω", "eta": "η", "Sigma": "Σ", "Phi": "Φ",
    "Gamma": "Γ", "Omega": "Ω",
}  # fmt: skip
SIGNS = {
    "sim": "∼", "cdot": "·", "times": "×", "le": "≤", "ge": "≥", "mid": "∣", "dots": "…", "ldots": "…", "quad": "\u2003", "qquad": "\u2003\u2003",
    "to": "→", "infty": "∞", "prime": "′", "top": "⊤", "otimes": "⊗", ",": "\u2009", ";": "\u2005", "{": "{", "}": "}", "%": "%", "_": "_",
    "#": "#", "&": "&", "$": "$", " ": " ", "vdots": "⋮", "ddots": "⋱", "pm": "±",
}  # fmt: skip
WORDS = ("log", "exp", "ln", "Pr", "max", "min")
LETTERS = {"mathcal": {"N": "𝒩"}}


@dataclass(frozen=True)
class Node:
    """``kind`` is identifier, number, sign, text, space, row, below, above, both, fraction, matrix or hat."""

    kind: str
    text: str = ""
    parts: tuple[Node, ...] = ()
    rows: tuple[tuple[Node, ...], ...] = ()


def parse(latex: str) -> Node:
    """The tree of an equation. Raises ValueError for a command that it does not know."""
    words = _Words(_tokens(latex))
    return words.row("")


def _tokens(latex: str) -> list[str]:
    """Tokens; the argument of a command that holds text is one token."""
    out, at = [], 0
    while at < len(latex):
        if latex[at].isspace():
            at += 1
            continue
        found = re.match(r"\\(text|mathrm|mathit|operatorname|mathbf|mathcal|begin|end)\{", latex[at:])
        if found:
            start, depth, end = at + found.end(), 1, at + found.end()
            while depth:
                if latex[end] == "\\":
                    end += 2
                    continue
                depth += {"{": 1, "}": -1}.get(latex[end], 0)
                end += 1
            out.append(f"\\{found[1]}{{{latex[start : end - 1]}")
            at = end
            continue
        token = TOKENS.match(latex, at)
        assert token is not None
        out.append(token[0])
        at = token.end()
    return out


class _Words:
    def __init__(self, tokens: list[str]) -> None:
        self.tokens, self.at = tokens, 0

    def peek(self) -> str:
        return self.tokens[self.at] if self.at < len(self.tokens) else ""

    def take(self) -> str:
        self.at += 1
        return self.tokens[self.at - 1]

    def row(self, *ends: str) -> Node:
        parts: list[Node] = []
        while self.at < len(self.tokens) and self.peek() not in ends:
            parts.append(self.scripted())
        return parts[0] if len(parts) == 1 else Node("row", parts=tuple(parts))

    def group(self) -> Node:
        """What stands in braces, or the next thing alone."""
        if self.peek() != "{":
            return self.single()
        self.take()
        made = self.row("}")
        self.take()
        return made

    def scripted(self) -> Node:
        base, scripts = self.single(), {}
        while self.peek() in ("_", "^"):
            sign = self.take()
            scripts[sign] = self.group()
        if len(scripts) == 2:
            return Node("both", parts=(base, scripts["_"], scripts["^"]))
        if "_" in scripts:
            return Node("below", parts=(base, scripts["_"]))
        return Node("above", parts=(base, scripts["^"])) if scripts else base

    def single(self) -> Node:
        token = self.take()
        if token == "{":
            made = self.row("}")
            self.take()
            return made
        if token.startswith("\\begin{"):
            return self.matrix(token[7:])
        if token in ("\\left", "\\right", "\\bigl", "\\bigr"):
            return Node("sign", self.take())
        if token == "\\frac":
            return Node("fraction", parts=(self.group(), self.group()))
        if token in ("\\hat", "\\bar"):
            return Node("hat", "^" if token == "\\hat" else "¯", (self.group(),))
        return _leaf(token)

    def matrix(self, name: str) -> Node:
        rows: list[tuple[Node, ...]] = []
        cells: list[Node] = []
        while True:
            cells.append(self.row("&", "\\\\", f"\\end{{{name}"))
            end = self.take()
            if end != "&":
                rows.append(tuple(cells))
                cells = []
            if end.startswith("\\end"):
                return Node("matrix", name, rows=tuple(rows))


def _leaf(token: str) -> Node:
    for name in ("text", "mathrm", "operatorname", "mathit"):
        if token.startswith(f"\\{name}{{"):
            return Node("text", re.sub(r"\\(.)", r"\1", token[len(name) + 2 :]))
    for name in ("mathcal", "mathbf"):
        if token.startswith(f"\\{name}{{"):
            inside = token[len(name) + 2 :]
            return Node("identifier", LETTERS.get(name, {}).get(inside, inside))
    if token.startswith("\\"):
        name = token[1:]
        if name in GREEK:
            return Node("identifier", GREEK[name])
        if name in WORDS:
            return Node("text", name)
        if name in ("quad", "qquad", ",", ";", " "):
            return Node("space", SIGNS[name])
        if name in SIGNS:
            return Node("sign", SIGNS[name])
        raise ValueError(f"no such command in our equations: {token}")
    if token[0].isdigit():
        return Node("number", token)
    return Node("identifier" if token.isalpha() else "sign", token)
