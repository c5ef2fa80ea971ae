"""Pages as word-processor documents: real headings, tables, captions and equation objects (python-docx)."""

from __future__ import annotations

import io
from typing import Any

from bold_orchard.reporting.formats.omml import omml
from bold_orchard.reporting.page import Code, Formula, Grid, Left, Notes, Page, Paragraph, Picture, Title, Warning_

WIDTH = 16.0  # centimetres of text on a page
SMALL, SMALLEST = 7, 10  # columns from which a table is set smaller, and smaller still


def document(page: Page, title: str = "") -> bytes:
    """The content of a .docx file."""
    import docx

    made: Any = docx.Document()
    made.core_properties.title = title
    made.core_properties.author = "orchard"
    _steady(made)
    section = made.sections[0]
    for side in ("left_margin", "right_margin", "top_margin", "bottom_margin"):
        setattr(section, side, docx.shared.Cm(2.3))
    made.styles["Normal"].font.name, made.styles["Normal"].font.size = "Calibri", docx.shared.Pt(11)
    for piece in page.pieces:
        _add(made, piece)
    out = io.BytesIO()
    made.save(out)
    return _without_times(out.getvalue())


def _steady(made: Any) -> None:
    """The same page makes the same bytes: no time of writing inside."""
    from datetime import datetime

    then = datetime(2026, 1, 1)
    made.core_properties.created = made.core_properties.modified = then


def _without_times(content: bytes) -> bytes:
    """The archive with one date for all its members."""
    import zipfile

    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for item in old.infolist():
            info = zipfile.ZipInfo(item.filename, (2026, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            new.writestr(info, old.read(item.filename))
    return out.getvalue()


def _add(made: Any, piece: object) -> None:
    from docx.shared import Cm, Pt, RGBColor

    if isinstance(piece, Title):
        made.add_heading(piece.text, level=min(piece.level, 4))
    elif isinstance(piece, Warning_):
        run = made.add_paragraph().add_run(piece.text)
        run.bold, run.font.color.rgb = True, RGBColor(0xA3, 0x34, 0x1F)
    elif isinstance(piece, Paragraph):
        made.add_paragraph(piece.text)
    elif isinstance(piece, Grid):
        _table(made, piece)
    elif isinstance(piece, Picture):
        made.add_picture(io.BytesIO(piece.png), width=Cm(WIDTH))
        made.inline_shapes[-1]._inline.docPr.set("descr", piece.words)
        made.add_paragraph(piece.words, style="Caption")
    elif isinstance(piece, Formula):
        from docx.oxml import parse_xml

        made.add_paragraph()._p.append(parse_xml(omml(piece.latex)))
    elif isinstance(piece, Code):
        run = made.add_paragraph().add_run(piece.text)
        run.font.name, run.font.size = "Consolas", Pt(9)
    elif isinstance(piece, Notes):
        made.add_heading(piece.heading, level=4)
        for note in piece.notes:
            made.add_paragraph(note, style="List Bullet")


def _table(made: Any, grid: Grid) -> None:
    """Rules above and below the head and at the end, as journals set tables; the heading stands above as its caption."""
    from docx.enum.text import WD_ALIGN_PARAGRAPH as ALIGN
    from docx.shared import Pt

    if grid.heading:
        made.add_paragraph(grid.heading, style="Caption").paragraph_format.keep_with_next = True
    n = len(grid.columns)
    size = Pt(7.5 if n >= SMALLEST else 8.5 if n >= SMALL else 10)
    table = made.add_table(rows=1 + len(grid.rows), cols=n)
    table.autofit = True
    left = [i == 0 or isinstance(name, Left) for i, name in enumerate(grid.columns)]
    for r, row in enumerate([grid.columns, *grid.rows]):
        for cell, text, side in zip(table.rows[r].cells, row, left):
            paragraph = cell.paragraphs[0]
            paragraph.alignment = ALIGN.LEFT if side else ALIGN.RIGHT
            paragraph.paragraph_format.space_after = Pt(0)
            run = paragraph.add_run(text)
            run.font.size, run.bold = size, r == 0
    _rules(table, 0, top=True)
    _rules(table, 0)
    _rules(table, len(grid.rows))
    head = table.rows[0]._tr.get_or_add_trPr()
    head.append(_element("w:tblHeader", {"w:val": "true"}))
    made.add_paragraph()


def _rules(table: Any, row: int, top: bool = False) -> None:
    for cell in table.rows[row].cells:
        properties = cell._tc.get_or_add_tcPr()
        borders = properties.find(_name("w:tcBorders"))
        if borders is None:
            borders = _element("w:tcBorders")
            properties.append(borders)
        borders.append(_element("w:top" if top else "w:bottom", {"w:val": "single", "w:sz": "8", "w:color": "4A4038"}))


def _name(tag: str) -> str:
    from docx.oxml.ns import qn

    return str(qn(tag))


def _element(tag: str, attributes: dict[str, str] | None = None) -> Any:
    from docx.oxml import OxmlElement

    made: Any = OxmlElement(tag)
    for key, value in (attributes or {}).items():
        made.set(_name(key), value)
    return made
