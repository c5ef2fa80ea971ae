"""Equations as the objects of word processors (Office MathML, ECMA-376 part 1, section 22.1), from the LaTeX they are kept in."""

from __future__ import annotations

from html import escape

from bold_orchard.results.formula import Node, parse

SPACE = "http://schemas.openxmlformats.org/officeDocument/2006/math"
FENCES = {"pmatrix": ("(", ")"), "cases": ("{", "")}
PARTS = {
    "below": ("sSub", ("e", "sub")),
    "above": ("sSup", ("e", "sup")),
    "both": ("sSubSup", ("e", "sub", "sup")),
    "fraction": ("f", ("num", "den")),
}


def omml(latex: str) -> str:
    """One equation in a paragraph of its own."""
    return f'<m:oMathPara xmlns:m="{SPACE}"><m:oMath>{_node(parse(latex))}</m:oMath></m:oMathPara>'


def _node(node: Node) -> str:
    if node.kind == "row":
        return "".join(map(_node, node.parts))
    if node.kind == "matrix":
        return _matrix(node)
    if node.kind == "hat":
        sign = "\u0302" if node.text == "^" else "\u0305"
        return f'<m:acc><m:accPr><m:chr m:val="{sign}"/></m:accPr><m:e>{_node(node.parts[0])}</m:e></m:acc>'
    if node.kind in PARTS:
        name, tags = PARTS[node.kind]
        inside = "".join(f"<m:{tag}>{_node(part)}</m:{tag}>" for tag, part in zip(tags, node.parts))
        return f"<m:{name}>{inside}</m:{name}>"
    plain = '<m:rPr><m:sty m:val="p"/></m:rPr>' if node.kind == "text" else ""
    return f'<m:r>{plain}<m:t xml:space="preserve">{escape(node.text)}</m:t></m:r>'


def _matrix(node: Node) -> str:
    rows = "".join("<m:mr>" + "".join(f"<m:e>{_node(c)}</m:e>" for c in row) + "</m:mr>" for row in node.rows)
    made = f"<m:m>{rows}</m:m>"
    if node.text not in FENCES:
        return made
    left, right = FENCES[node.text]
    signs = f'<m:dPr><m:begChr m:val="{left}"/><m:endChr m:val="{right}"/></m:dPr>'
    return f"<m:d>{signs}<m:e>{made}</m:e></m:d>"
