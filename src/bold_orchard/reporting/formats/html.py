"""Pages as one accessible HTML file: semantic tables, light and dark, on screens of any width and on paper."""

from __future__ import annotations

import base64
from html import escape

from bold_orchard.reporting.formats.mathml import mathml
from bold_orchard.reporting.page import Code, Formula, Grid, Left, Notes, Page, Paragraph, Picture, Title, Warning_

STYLE = """
:root { color-scheme: light dark; --ink: #24221f; --ground: #fffefb; --rule: #8884; --deep: #1b6b50; --alarm: #a3341f; }
@media (prefers-color-scheme: dark) { :root { --ink: #e9e6dc; --ground: #1d211c; --deep: #7fc4a8; --alarm: #f0907c; } }
body { font: 16px/1.55 system-ui, sans-serif; color: var(--ink); background: var(--ground); max-width: 62rem; margin: 2rem auto; padding: 0 1rem; }
h1, h2, h3, h4 { line-height: 1.25; overflow-wrap: anywhere; }
h2 { margin-top: 2.2rem; border-bottom: 1px solid var(--rule); padding-bottom: .2rem; }
.wide { overflow-x: auto; margin: 1rem 0; }
table { border-collapse: collapse; font-variant-numeric: tabular-nums; }
caption { text-align: left; font-weight: 600; padding: .3rem 0; white-space: nowrap; }
th, td { padding: .2rem .7rem; text-align: right; border-bottom: 1px solid var(--rule); white-space: nowrap; vertical-align: top; }
th { font-weight: 500; } thead th { font-weight: 600; vertical-align: bottom; }
th:first-child, td:first-child, .left { text-align: left; }
.warning { border-left: 4px solid var(--alarm); color: var(--alarm); padding: .3rem .8rem; font-weight: 600; }
figure { margin: 1.2rem 0; } figure img { max-width: 100%; height: auto; background: white; }
figcaption { font-size: .9rem; opacity: .85; }
pre { overflow-x: auto; background: #8882; padding: .7rem; border-radius: 4px; } math { font-size: 1.1rem; }
nav ol { columns: 2 20rem; padding-left: 1.2rem; } nav a { color: var(--deep); }
@media print { body { margin: 0; max-width: none; color: black; background: white; } figure, table, pre { break-inside: avoid; } nav { display: none; } }
"""
CONTENTS = 4  # headings from which a list of them helps


def document(page: Page, title: str) -> str:
    """A whole self-contained page."""
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}</title><style>{STYLE}</style></head>\n<body>\n<main>\n{_with_contents(page)}\n</main>\n"
        "</body></html>\n"
    )


def _headings(page: Page) -> list[Title]:
    return [p for p in page.pieces if isinstance(p, Title) and p.level > 1]


def _with_contents(page: Page) -> str:
    """The pieces, with a list of their headings under the page's own title."""
    head, sign, rest = fragment(page).partition("</h1>")
    return f"{head}{sign}\n{_contents(page)}{rest}" if sign else _contents(page) + head


def _contents(page: Page) -> str:
    """A list of the headings of level 2, where there are several."""
    items = [(i, h) for i, h in enumerate(_headings(page)) if h.level == 2]
    if len(items) < CONTENTS:
        return ""
    listed = "".join(f'<li><a href="#part-{i}">{escape(h.text)}</a></li>' for i, h in items)
    return f'<nav aria-label="Contents"><ol>{listed}</ol></nav>\n'


def fragment(page: Page) -> str:
    """The pieces as semantic HTML: headings, paragraphs, tables with header cells, lists, pictures, formulas."""
    out, number = [], 0
    for piece in page.pieces:
        if isinstance(piece, Title):
            if piece.level == 1:
                out.append(f"<h1>{escape(piece.text)}</h1>")
            else:
                out.append(f'<h{piece.level} id="part-{number}">{escape(piece.text)}</h{piece.level}>')
                number += 1
        elif isinstance(piece, Warning_):
            out.append(f'<p class="warning" role="alert">{_lines(piece.text)}</p>')
        elif isinstance(piece, Paragraph):
            out.append(f"<p>{_lines(piece.text)}</p>")
        elif isinstance(piece, Grid):
            out.append(_table(piece))
        elif isinstance(piece, Picture):
            data = base64.b64encode(piece.png).decode("ascii")
            words = escape(piece.words, quote=True)
            out.append(
                f'<figure><img src="data:image/png;base64,{data}" alt="{words}"><figcaption>{words}</figcaption></figure>'
            )
        elif isinstance(piece, Formula):
            out.append(mathml(piece.latex))
        elif isinstance(piece, Code):
            out.append(f"<pre>{escape(piece.text)}</pre>")
        elif isinstance(piece, Notes):
            items = "".join(f"<li>{_lines(n)}</li>" for n in piece.notes)
            out.append(f"<h4>{escape(piece.heading)}</h4><ul>{items}</ul>")
    return "\n".join(out)


def _lines(text: str) -> str:
    return "<br>".join(escape(line) for line in text.split("\n"))


def _table(grid: Grid) -> str:
    left = [isinstance(name, Left) for name in grid.columns]
    mark = [' class="left"' if side else "" for side in left]
    head = "".join(f'<th scope="col"{m}>{_lines(n)}</th>' for n, m in zip(grid.columns, mark))
    rows = []
    for row in grid.rows:
        cells = "".join(f"<td{m}>{_lines(c)}</td>" for c, m in zip(row[1:], mark[1:]))
        rows.append(f'<tr><th scope="row">{_lines(row[0])}</th>{cells}</tr>')
    caption = f"<caption>{escape(grid.heading)}</caption>" if grid.heading else ""
    return (
        f'<div class="wide"><table>{caption}<thead><tr>{head}</tr></thead><tbody>{"".join(rows)}</tbody></table></div>'
    )
