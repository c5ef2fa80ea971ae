"""Equations as Unicode text, from their LaTeX."""

from __future__ import annotations

from bold_orchard.results.formula import Node, parse

BELOW = dict(zip("0123456789+-=()aehijklmnoprstuvx", "₀₁₂₃₄₅₆₇₈₉₊₋₌₍₎ₐₑₕᵢⱼₖₗₘₙₒₚᵣₛₜᵤᵥₓ"))
BELOW["'"] = "′"
ABOVE = dict(zip("0123456789+-=()in", "⁰¹²³⁴⁵⁶⁷⁸⁹⁺⁻⁼⁽⁾ⁱⁿ"))


def lowered(text: str) -> str:
    """As a subscript, in signs of their own where Unicode has them all."""
    plain = text.replace(" ", "").replace(",", "")
    return (
        "".join(BELOW[c] for c in plain)
        if all(c in BELOW for c in plain)
        else f"_({text})"
        if len(text) > 1
        else f"_{text}"
    )


def raised(text: str) -> str:
    """As a superscript."""
    plain = text.replace("−", "-").replace(" ", "")
    return (
        "".join(ABOVE[c] for c in plain)
        if all(c in ABOVE for c in plain)
        else f"^({text})"
        if len(text) > 1
        else f"^{text}"
    )


def text_of(latex: str) -> str:
    """The formula as a line of text for each of its lines."""
    return "\n".join(" ".join(line.split()) for line in _text(parse(latex)).split("\n"))


def _text(node: Node) -> str:
    if node.kind in ("identifier", "number", "text"):
        return node.text
    if node.kind == "space":
        return " "
    if node.kind == "sign":
        return f" {node.text} " if node.text in SPACED else node.text
    if node.kind == "row":
        return _row(node.parts)
    if node.kind == "hat":
        return _text(node.parts[0]) + "\u0302"
    if node.kind == "fraction":
        return f"{_inside(node.parts[0])}/{_inside(node.parts[1])}"
    if node.kind == "matrix":
        return _matrix(node)
    base = _text(node.parts[0])
    if node.kind == "below":
        return base + lowered(_text(node.parts[1]).strip())
    if node.kind == "above":
        return base + raised(_text(node.parts[1]).strip())
    return base + lowered(_text(node.parts[1]).strip()) + raised(_text(node.parts[2]).strip())


def _row(parts: tuple[Node, ...]) -> str:
    """Parts side by side; two symbols that are multiplied stand apart."""
    out = ""
    for part in parts:
        made = _text(part)
        if part.kind == "sign" and part.text == "-" and out.rstrip()[-1:] in ("", "=", "(", ","):
            made = "-"  # of a negative number
        if part.kind == "sign" and part.text in (",", ";"):
            made += " "
        if out and made and out[-1] not in " ([{\n-/|" and made[0] not in " ,.;:)]}\n(∣′^|" and part.kind != "sign":
            out += " "
        out += made
    return out


def _inside(node: Node) -> str:
    made = _text(node)
    return f"({made})" if " " in made else made


def _matrix(node: Node) -> str:
    if node.text == "aligned":
        return "\n".join("".join(_text(c) for c in row) for row in node.rows)
    if node.text == "cases":
        return "; ".join(" ".join(_text(c) for c in row) for row in node.rows)
    if all(len(row) == 1 for row in node.rows):
        return "(" + ", ".join(_text(row[0]) for row in node.rows) + ")"
    return "(" + "; ".join(", ".join(_text(c) for c in row) for row in node.rows) + ")"


SPACED = ("=", "+", "-", "∼", "≤", "≥", "·", "×", "⊗")
