"""Equations as MathML, from the LaTeX they are kept in."""

from __future__ import annotations

from html import escape

from bold_orchard.results.formula import Node, parse


def mathml(latex: str) -> str:
    """A block of MathML that carries its LaTeX as an annotation."""
    return (
        '<math display="block" xmlns="http://www.w3.org/1998/Math/MathML"><semantics>'
        f'<mrow>{_node(parse(latex))}</mrow><annotation encoding="application/x-tex">{escape(latex)}</annotation></semantics></math>'
    )


def _node(node: Node) -> str:
    if node.kind in LEAVES:
        return LEAVES[node.kind].format(escape(node.text))
    if node.kind == "row":
        return "<mrow>" + "".join(map(_node, node.parts)) + "</mrow>"
    if node.kind == "matrix":
        sides = SIDES if node.text == "aligned" else [""] * max(map(len, node.rows))
        rows = "".join(
            "<mtr>" + "".join(f"<mtd{side}>{_node(c)}</mtd>" for c, side in zip(row, sides)) + "</mtr>"
            for row in node.rows
        )
        left, right = FENCES.get(node.text, ("", ""))
        return f"<mrow>{_fence(left)}<mtable>{rows}</mtable>{_fence(right)}</mrow>"
    if node.kind == "hat":
        return f"<mover>{_node(node.parts[0])}<mo>{node.text}</mo></mover>"
    name = {"below": "msub", "above": "msup", "both": "msubsup", "fraction": "mfrac"}[node.kind]
    return f"<{name}>" + "".join(map(_node, node.parts)) + f"</{name}>"


def _fence(sign: str) -> str:
    return f'<mo fence="true">{sign}</mo>' if sign else ""


LEAVES = {
    "identifier": "<mi>{}</mi>",
    "number": "<mn>{}</mn>",
    "sign": "<mo>{}</mo>",
    "text": "<mtext>{}</mtext>",
    "space": "<mtext>{}</mtext>",
}
SIDES = (' style="text-align: right; padding-right: 0"', ' style="text-align: left"')
FENCES = {"pmatrix": ("(", ")"), "cases": ("{", "")}
