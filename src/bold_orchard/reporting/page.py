"""Building blocks of every printed result: headings, tables, paragraphs, notes."""

from __future__ import annotations

import os
import shutil
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import IO, TYPE_CHECKING

from bold_orchard.errors import visible

if TYPE_CHECKING:
    from rich.console import Console

NARROWEST, USUAL, WIDEST, PARAGRAPH = 60, 80, 120, 88  # columns: of any page, in a pipe, of tables, of running text
# of the sixteen colours that every terminal has, magenta alone stands out from white and from black grounds alike
TITLE, STRIP = "bold", "magenta"
NAMES = 12  # columns that the names of a table's rows keep however narrow the page


class Left(str):
    """The heading of a column whose cells stand left; alignment is no character of the text, which may begin with any."""


@dataclass
class Page:
    """Pieces of a result in reading order; ``print_page`` lays them out."""

    pieces: list[object] = field(default_factory=list)

    def title(self, text: str, level: int = 1) -> Page:
        """A heading; of a page that holds several results those of level 2 and 3 divide it."""
        self.pieces.append(Title(visible(text), level))
        return self

    def text(self, text: str) -> Page:
        self.pieces.append(Paragraph(visible(text)))
        return self

    def table(
        self,
        heading: str,
        columns: Sequence[str],
        rows: Sequence[Sequence[str]],
        strips: Sequence[str] = (),
        whole_names: bool = False,
    ) -> Page:
        """The first column is left-aligned, the others right-aligned; a column named by ``Left`` stands left.

        ``strips`` end the rows where they are shown and there is room for them; ``whole_names`` keeps the first column
        on one line for as long as half of the page holds it.
        """
        names = tuple(type(c)(visible(c)) for c in columns)
        self.pieces.append(
            Grid(visible(heading), names, [tuple(map(visible, r)) for r in rows], tuple(strips), whole_names)
        )
        return self

    def notes(self, notes: Sequence[str]) -> Page:
        if notes:
            self.pieces.append(Notes(tuple(map(visible, notes))))
        return self

    def list(self, heading: str, sentences: Sequence[str]) -> Page:
        """Sentences under a heading, one a line."""
        self.pieces.append(Notes(tuple(map(visible, sentences)), visible(heading)))
        return self

    def picture(self, png: bytes, words: str) -> Page:
        """A picture, with the words that stand under it and in its place."""
        self.pieces.append(Picture(png, visible(words)))
        return self

    def formula(self, text: str, latex: str) -> Page:
        """One equation, as Unicode text and as LaTeX."""
        self.pieces.append(Formula(visible(text), visible(latex)))
        return self

    def code(self, text: str) -> Page:
        """Lines that stand as they are: commands, a plan."""
        self.pieces.append(Code(visible(text)))
        return self

    def join(self, other: Page, level: int) -> Page:
        """The pieces of another page, its title a heading of that level."""
        for piece in other.pieces:
            self.pieces.append(Title(piece.text, level) if isinstance(piece, Title) else piece)
        return self

    def warning(self, text: str) -> Page:
        self.pieces.append(Warning_(text))
        return self


@dataclass(frozen=True)
class Title:
    text: str
    level: int = 1


@dataclass(frozen=True)
class Picture:
    png: bytes
    words: str


@dataclass(frozen=True)
class Formula:
    text: str
    latex: str


@dataclass(frozen=True)
class Code:
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
    strips: tuple[str, ...] = ()
    whole_names: bool = False


@dataclass(frozen=True)
class Notes:
    notes: tuple[str, ...]
    heading: str = "Notes"


def page_width(out: IO[str]) -> int:
    """Columns to use: COLUMNS where it is set, else the terminal's, else 80; from 60 to 120."""
    asked = os.environ.get("COLUMNS", "")
    found = int(asked) if asked.isdigit() and int(asked) > 0 else USUAL
    if not asked and out.isatty():
        found = shutil.get_terminal_size((USUAL, 24)).columns
    return min(max(found, NARROWEST), WIDEST)


def print_page(page: Page, out: IO[str], strips: bool = False) -> None:
    """Lay a page out: tables up to 120 columns where there are so many, running text up to 88; ``strips`` if wanted."""
    from rich.console import Console
    from rich.text import Text

    class Piped(Console):
        def on_broken_pipe(self) -> None:
            """Nobody reads on: no failure, and not the library's exit code 1."""
            raise BrokenPipeError

    console = Piped(file=out, highlight=False, markup=False, emoji=False, soft_wrap=False, width=page_width(out))
    width = min(console.width, PARAGRAPH)
    for i, piece in enumerate(page.pieces):
        if i:
            console.print()
        if isinstance(piece, Title):
            console.print(Text(_wrap(piece.text, width), style=TITLE))
        elif isinstance(piece, Warning_):
            console.print(Text(_wrap(piece.text, width), style="bold red"))
        elif isinstance(piece, (Formula, Code)):
            console.print(Text("\n".join("    " + line for line in piece.text.split("\n"))), soft_wrap=True)
        elif isinstance(piece, Picture):
            console.print(Text(_wrap(f"[{piece.words}]", width)))
        elif isinstance(piece, Paragraph):
            console.print(Text(_wrap(piece.text, width)))
        elif isinstance(piece, Grid):
            _print_grid(console, piece, strips)
        elif isinstance(piece, Notes):
            console.print(Text(piece.heading, style="bold"))
            for note in piece.notes:
                console.print(Text(_wrap(note, width, "- ", "  ")))


def _wrap(text: str, width: int, first: str = "", later: str = "") -> str:
    """Each line filled; what is left of one that stands in goes on two columns further in."""
    lines = [(line, len(line) - len(line.lstrip())) for line in text.split("\n")]
    return "\n".join(
        textwrap.fill(line, width, initial_indent=first, subsequent_indent=later + " " * (inside and inside + 2),
                      break_on_hyphens=False, break_long_words=False)
        for line, inside in lines
    )  # fmt: skip


def _print_grid(console: Console, grid: Grid, strips: bool) -> None:
    """A table; columns of figures for which the page has no room stand in blocks one under the other, beside the same
    names."""
    from rich.table import Table
    from rich.text import Text

    if grid.heading:
        console.print(Text(grid.heading, style="bold"))
    columns = list(zip(grid.columns, *grid.rows))
    widths = [max(len(line) for cell in c for line in cell.split("\n")) for c in columns]
    left = [i == 0 or isinstance(name, Left) for i, name in enumerate(grid.columns)]
    needed = sum(widths) + 2 * (len(widths) - 1)
    strips = strips and any(grid.strips) and needed + 2 + max(map(len, grid.strips)) <= console.width
    gap = 2 if needed <= console.width or sum(left) > 1 or grid.whole_names else 1
    least = [min(w, NAMES) if side else w for w, side in zip(widths, left)]
    if grid.whole_names:
        least[0] = min(widths[0], console.width // 2)
    page = console.width
    for k, block in enumerate(_blocks(least, left, page, gap)):
        table = Table(box=None, pad_edge=False, padding=(0, gap, 0, 0), header_style="dim")
        for i in block:
            if left[i]:
                table.add_column(grid.columns[i], justify="left", overflow="fold", min_width=least[i])
            else:
                table.add_column(
                    grid.columns[i], justify="right", no_wrap=True, min_width=widths[i]
                )  # figures are never cut
        if strips:
            table.add_column("", justify="left", no_wrap=True, style=STRIP)
        for row, strip in zip(grid.rows, grid.strips if strips else [None] * len(grid.rows)):
            table.add_row(*(Text(row[i]) for i in block), *([] if strip is None else [Text(strip)]))
        if k:
            console.print()
        console.width = max(page, sum(least[i] for i in block) + gap * (len(block) - 1))
        console.print(table)
        console.width = page


def _blocks(widths: list[int], left: list[bool], page: int, gap: int) -> list[list[int]]:
    """Columns that fit beside each other; the names of the rows, which stand first and left, in every block."""
    names = next((i for i, side in enumerate(left) if not side), len(left))
    if sum(widths) + gap * (len(widths) - 1) <= page or names == len(left):
        return [list(range(len(widths)))]
    lead = sum(widths[:names]) + gap * names
    blocks: list[list[int]] = []
    used = 0
    for i in range(names, len(widths)):
        if blocks and used + gap + widths[i] <= page:
            blocks[-1].append(i)
            used += gap + widths[i]
        else:
            blocks.append([*range(names), i])
            used = lead + widths[i]
    return blocks
