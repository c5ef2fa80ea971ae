"""Pages as HTML and Markdown."""

from __future__ import annotations

import io
from html import escape

from bold_orchard.reporting.page import Grid, Notes, Page, Paragraph, Title, Warning_, print_page

STYLE = """
:root { color-scheme: light dark; }
body { font: 16px/1.5 system-ui, sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; }
table { border-collapse: collapse; margin: 1rem 0; display: block; overflow-x: auto; font-variant-numeric: tabular-nums; }
caption { text-align: left; font-weight: 600; padding: .3rem 0; }
th, td { padding: .2rem .7rem; text-align: right; border-bottom: 1px solid #8884; white-space: nowrap; }
th:first-child, td:first-child, .left { text-align: left; }
.warning { border-left: 4px solid #b3402a; padding: .3rem .8rem; font-weight: 600; }
@media print { body { margin: 0; max-width: none; } }
"""


def _lines(text: str) -> str:
    return "<br>".join(escape(line) for line in text.split("\n"))


def rendered(page: Page, ending: str, title: str) -> str:
    """The page as the text of a .txt, .md or .html file."""
    if ending == ".txt":
        out = io.StringIO()
        print_page(page, out)
        return out.getvalue()
    return markdown(page) if ending == ".md" else html_document(page, title)


def html_fragment(page: Page) -> str:
    """The pieces as semantic HTML: headings, paragraphs, tables with header cells, lists."""
    out = []
    for piece in page.pieces:
        if isinstance(piece, Title):
            out.append(f"<h2>{escape(piece.text)}</h2>")
        elif isinstance(piece, Warning_):
            out.append(f'<p class="warning" role="alert">{_lines(piece.text)}</p>')
        elif isinstance(piece, Paragraph):
            out.append(f"<p>{_lines(piece.text)}</p>")
        elif isinstance(piece, Grid):
            out.append(_table(piece))
        elif isinstance(piece, Notes):
            items = "".join(f"<li>{_lines(n)}</li>" for n in piece.notes)
            out.append(f"<h3>{escape(piece.heading)}</h3><ul>{items}</ul>")
    return "\n".join(out)


def _table(grid: Grid) -> str:
    left = [name.startswith("<") for name in grid.columns]
    mark = [' class="left"' if side else "" for side in left]
    head = "".join(f'<th scope="col"{m}>{_lines(n.lstrip("<"))}</th>' for n, m in zip(grid.columns, mark))
    rows = []
    for row in grid.rows:
        cells = "".join(f"<td{m}>{_lines(c)}</td>" for c, m in zip(row[1:], mark[1:]))
        rows.append(f'<tr><th scope="row">{_lines(row[0])}</th>{cells}</tr>')
    caption = f"<caption>{escape(grid.heading)}</caption>" if grid.heading else ""
    return f"<table>{caption}<thead><tr>{head}</tr></thead><tbody>{''.join(rows)}</tbody></table>"


def html_document(page: Page, title: str) -> str:
    """A whole self-contained page, light and dark, readable on paper."""
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f"<title>{escape(title)}</title><style>{STYLE}</style></head>\n<body>\n{html_fragment(page)}\n</body></html>\n"
    )


def markdown(page: Page) -> str:
    """The pieces as Markdown with pipe tables."""
    out = []
    for piece in page.pieces:
        if isinstance(piece, Title):
            out.append(f"## {_plain(piece.text)}")
        elif isinstance(piece, Warning_):
            out.append(f"**{_plain(piece.text)}**")
        elif isinstance(piece, Paragraph):
            out.append("  \n".join(_plain(line) for line in piece.text.split("\n")))
        elif isinstance(piece, Grid):
            head = [_plain(n.lstrip("<").replace("\n", " ")) or " " for n in piece.columns]
            rule = [":---" if i == 0 or n.startswith("<") else "---:" for i, n in enumerate(piece.columns)]
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
