"""Building blocks of every printed result: headings, tables, paragraphs, notes."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import IO

WIDTH = 80


@dataclass
class Page:
    """Pieces of a result in reading order; ``print_page`` lays them out."""

    pieces: list[object] = field(default_factory=list)

    def title(self, text: str) -> Page:
        self.pieces.append(Title(text))
        return self

    def text(self, text: str) -> Page:
        self.pieces.append(Paragraph(text))
        return self

    def table(self, heading: str, columns: Sequence[str], rows: Sequence[Sequence[str]]) -> Page:
        """The first column is left-aligned, the others right-aligned; a column named in '<...' stands left."""
        self.pieces.append(Grid(heading, tuple(columns), [tuple(r) for r in rows]))
        return self

    def notes(self, notes: Sequence[str]) -> Page:
        if notes:
            self.pieces.append(Notes(tuple(notes)))
        return self

    def list(self, heading: str, sentences: Sequence[str]) -> Page:
        """Sentences under a heading, one a line."""
        self.pieces.append(Notes(tuple(sentences), heading))
        return self

    def warning(self, text: str) -> Page:
        self.pieces.append(Warning_(text))
        return self


@dataclass(frozen=True)
class Title:
    text: str


@dataclass(frozen=True)
class Paragraph:
    text: str


@dataclass(frozen=True)
class Warning_:
    text: str


@dataclass(frozen=True)
class Grid:
    heading: str
    columns: tuple[str, ...]
    rows: list[tuple[str, ...]]


@dataclass(frozen=True)
class Notes:
    notes: tuple[str, ...]
    heading: str = "Notes"


def print_page(page: Page, out: IO[str]) -> None:
    """Lay a page out at 80 columns (wider on a wider terminal when a table needs it)."""
    from rich.console import Console
    from rich.text import Text

    console = Console(file=out, highlight=False, soft_wrap=False, width=None if out.isatty() else WIDTH)
    for i, piece in enumerate(page.pieces):
        if i:
            console.print()
        if isinstance(piece, Title):
            console.print(Text(_wrap(piece.text), style="bold green"))
        elif isinstance(piece, Warning_):
            console.print(Text(_wrap(piece.text), style="bold red"))
        elif isinstance(piece, Paragraph):
            console.print(Text(_wrap(piece.text)))
        elif isinstance(piece, Grid):
            _print_grid(console, piece)
        elif isinstance(piece, Notes):
            console.print(Text(piece.heading, style="bold"))
            for note in piece.notes:
                console.print(Text(_wrap(note, "- ", "  ")))


def _wrap(text: str, first: str = "", later: str = "") -> str:
    lines = text.split("\n")
    return "\n".join(
        textwrap.fill(line, WIDTH, initial_indent=first, subsequent_indent=later, break_on_hyphens=False,
                      break_long_words=False)
        for line in lines
    )  # fmt: skip


def _print_grid(console: object, grid: Grid) -> None:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    assert isinstance(console, Console)
    if grid.heading:
        console.print(Text(grid.heading, style="bold"))
    widths = [
        max(len(line) for cell in column for line in cell.split("\n")) for column in zip(grid.columns, *grid.rows)
    ]
    wraps = any(name.startswith("<") for name in grid.columns)
    gap = 2 if wraps or sum(widths) + 2 * (len(widths) - 1) <= console.width else 1
    table = Table(box=None, pad_edge=False, padding=(0, gap, 0, 0), header_style="dim")
    for i, name in enumerate(grid.columns):
        left = i == 0 or name.startswith("<")
        table.add_column(name.lstrip("<"), justify="left" if left else "right", no_wrap=not left)
    for row in grid.rows:
        table.add_row(*(Text(cell) for cell in row))
    console.print(table)
