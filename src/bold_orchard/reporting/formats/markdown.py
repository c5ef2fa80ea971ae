"""Pages as Markdown with pipe tables."""

from __future__ import annotations

from bold_orchard.reporting.page import Code, Formula, Grid, Left, Notes, Page, Paragraph, Picture, Title, Warning_


def document(page: Page, title: str = "") -> str:
    """The pieces as Markdown with pipe tables."""
    out = []
    for piece in page.pieces:
        if isinstance(piece, Title):
            out.append(f"{'#' * (piece.level + 1)} {_plain(piece.text)}")
        elif isinstance(piece, Warning_):
            out.append(f"**{_plain(piece.text)}**")
        elif isinstance(piece, Paragraph):
            out.append("  \n".join(_plain(line) for line in piece.text.split("\n")))
        elif isinstance(piece, Picture):
            out.append(f"*{_plain(piece.words)}*")
        elif isinstance(piece, Formula):
            out.append(f"$$\n{piece.latex}\n$$")
        elif isinstance(piece, Code):
            out.append(f"```\n{piece.text}\n```")
        elif isinstance(piece, Grid):
            head = [_plain(n.replace("\n", " ")) or " " for n in piece.columns]
            rule = [":---" if i == 0 or isinstance(n, Left) else "---:" for i, n in enumerate(piece.columns)]
            rows = [[_plain(c.replace("\n", " ")) for c in row] for row in piece.rows]
            heading = f"**{_plain(piece.heading)}**\n\n" if piece.heading else ""
            out.append(heading + "\n".join("| " + " | ".join(r) + " |" for r in (head, rule, *rows)))
        elif isinstance(piece, Notes):
            out.append(f"### {piece.heading}\n\n" + "\n".join(f"- {_plain(n)}" for n in piece.notes))
    return "\n\n".join(out) + "\n"


def _plain(text: str) -> str:
    """Signs that Markdown reads as its own, taken as they are."""
    for sign in "\\`*_[]<>|":
        text = text.replace(sign, "\\" + sign)
    return text
